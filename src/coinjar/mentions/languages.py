"""Detect a file's language by its name or first line, and whether its text is worth parsing."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from functools import cache
from importlib import import_module
from typing import NamedTuple, cast

from coinjar.mentions.base import TextMentions

Find = Callable[[bytes, frozenset[str]], TextMentions]
"""Finds a text's mentions; its argument names functions that read the variable named by their first argument."""


class SourceLanguage(NamedTuple):
    """A language: its file endings; the words, and the regular expression, that a text must contain; its reader; the
    programs that run its scripts.
    """

    ends: tuple[str, ...]
    words: tuple[bytes, ...]
    hint: bytes
    module: str
    function: str = "find"
    run_by: tuple[str, ...] = ()


_TEMPLATE = SourceLanguage(
    (".template", ".tmpl", ".tpl", ".j2", ".jinja", ".jinja2", ".gotmpl"), (b"$", b"env", b".Env"), rb"", "template"
)
LANGUAGES = (
    SourceLanguage((".py", ".pyw", ".pyi"), (b"environ", b"tenv"), rb"", "python", run_by=("python",)),
    SourceLanguage((".js", ".mjs", ".cjs", ".jsx"), (b"env",), rb"\benv\b", "javascript", run_by=("node",)),
    SourceLanguage((".ts", ".mts", ".cts"), (b"env",), rb"\benv\b", "typescript"),
    SourceLanguage((".tsx",), (b"env",), rb"\benv\b", "typescript", "find_with_markup"),
    SourceLanguage((".go",), (b"tenv", b"LookupEnv", b"ExpandEnv", b"Environ"), rb"", "go"),
    SourceLanguage((".java",), (b"getenv", b"environment("), rb"", "java"),
    SourceLanguage((".kt", ".kts"), (b"getenv", b"environment("), rb"", "kotlin"),
    SourceLanguage(
        (".rb", ".rake", ".ru", ".gemspec"),
        (b"ENV", b"system", b"spawn", b"popen"),
        rb"ENV|\b(?:system|spawn|popen)[ (]*\{",
        "ruby",
        run_by=("ruby",),
    ),
    SourceLanguage((".php", ".phtml"), (b"tenv", b"_ENV", b"_SERVER"), rb"", "php", run_by=("php",)),
    SourceLanguage((".cs",), (b"EnvironmentVariable", b".Environment["), rb"", "csharp"),
    SourceLanguage((".rs",), (b"env",), rb"\benv\b|option_env|env_remove", "rust"),
    SourceLanguage(
        (".sh", ".bash", ".ksh"),
        (b"$", b"export", b"env", b"unset", b"[=", b" -v "),
        rb"",
        "shell",
        run_by=("sh", "bash", "dash", "ash", "ksh"),
    ),
    SourceLanguage(
        ("Containerfile", "Dockerfile", ".containerfile", ".dockerfile"),
        (b"",),
        rb"\$|(?i:\b(?:ARG|ENV)\b)",
        "containerfile",
    ),
    SourceLanguage(
        (".yaml", ".yml"),
        (b":",),
        rb"""\b(?:services|apiVersion|jobs|steps|stages|script|pipeline)["']?\s*:""",
        "yaml_files",
    ),
    SourceLanguage(
        (".conf", ".cfg", ".htaccess", ".vhost"),
        (b"env", b"Env"),
        rb"(?m)^[ \t]*(?:env|(?:pre|un)?setenv|(?i:PassEnv|SetEnv|UnsetEnv))[ \t]",
        "web_server",
    ),
    SourceLanguage((".json",), (b'"apiVersion"',), rb"", "yaml_files"),
    SourceLanguage((".erb",), (b"ENV",), rb"", "template", "find_embedded"),
    _TEMPLATE,
)
_NAMES = {
    **dict.fromkeys(("Rakefile", "Gemfile"), ".rb"),
    **dict.fromkeys(("SConstruct", "SConscript", "wscript"), ".py"),
    **dict.fromkeys((".bashrc", ".bash_profile", ".profile", "PKGBUILD"), ".sh"),
}
"""Files without an ending that are known by their name."""
_ENDS = re.compile(r"(?:\.[A-Za-z0-9]+|(?:Containerfile|Dockerfile))$")
_FIRST_LINE = 256
"""Bytes of a first line that are looked at: the kernel reads as many."""
_RUN_BY = re.compile(rb"#![^\n]*?([a-z]+)[0-9.]*(?: -[^\n]*)?\r?\n")


@cache
def by_end() -> Mapping[str, SourceLanguage]:
    """Return the language of each ending."""
    return {end: language for language in LANGUAGES for end in language.ends}


def language_of(name: str, templates: tuple[str, ...] = ()) -> SourceLanguage | None:
    """Return the language of a file by its name; `templates` are endings of a project's own."""
    if templates and name.endswith(templates):
        return _TEMPLATE
    if "Containerfile." in name or "Dockerfile." in name:
        return by_end()["Containerfile"]
    if name in _NAMES:
        return by_end()[_NAMES[name]]
    match = _ENDS.search(name)
    return by_end().get(match[0]) or by_end().get(match[0].lower()) if match else None


def by_first_line(data: bytes) -> SourceLanguage | None:
    """Return the language of a script without an ending, by the program that runs it."""
    match = _RUN_BY.match(data[:_FIRST_LINE]) if data.startswith(b"#!") else None
    return next((language for language in LANGUAGES if match and match[1].decode() in language.run_by), None)


@cache
def _hint(language: SourceLanguage) -> re.Pattern[bytes]:
    return re.compile(language.hint)


@cache
def _finder(module: str, function: str) -> Find:
    return cast("Find", getattr(import_module(f"coinjar.mentions.{module}"), function))


def look(
    language: SourceLanguage, data: bytes, helpers: frozenset[str] = frozenset(), *, always: bool = False
) -> TextMentions:
    """Return the mentions of a text; unless `always`, without parsing a text whose words show that there are none."""
    hinted = any(word in data for word in language.words) and _hint(language).search(data)
    if not always and not hinted and not any(helper.encode() in data for helper in helpers):
        return TextMentions([], [])
    return _finder(language.module, language.function)(data, helpers)
