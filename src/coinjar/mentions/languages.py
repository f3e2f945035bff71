"""Detect a file's language by its name or first line, and whether its text is worth parsing."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from functools import cache
from importlib import import_module
from typing import NamedTuple, cast

from coinjar.mentions import declared_options
from coinjar.mentions.base import Mention, TextMentions, in_order
from coinjar.mentions.helper_calls import has_forms

Find = Callable[[bytes, frozenset[str]], TextMentions]
"""Finds a text's mentions; its argument names functions that read the variable named by their first argument."""


class SourceLanguage(NamedTuple):
    """A language: its file endings; the words, and the regular expression, that a text must contain; its reader; the
    programs that run its scripts; whether a helper's call is enough (`has_forms`).
    """

    ends: tuple[str, ...]
    words: tuple[bytes, ...]
    hint: bytes
    module: str
    function: str = "find"
    run_by: tuple[str, ...] = ()
    forms: bool = False


_ENV = rb"\benv\b"
_CAPITALS = rb"\$\{(?:env[.:])?[A-Z]|%env\("
_JVM = (
    *(b"getenv", b"environment(", b"@Value", b"ConfigProperty", b"getProperty(", b"getRequiredProperty("),
    *(b"IfEnvironmentVariable", b"getRuntime"),
)
_TEMPLATE = SourceLanguage(
    (".template", ".tmpl", ".tpl", ".j2", ".jinja", ".jinja2", ".gotmpl"), (b"$", b"env", b".Env"), rb"", "template"
)
LANGUAGES = (
    SourceLanguage(
        (".py", ".pyw", ".pyi"),
        (b"environ", b"tenv", b"delenv", b"expandvars", b"Settings)", b"Settings,"),
        rb"",
        "python",
        run_by=("python",),
        forms=True,
    ),
    SourceLanguage((".js", ".mjs", ".cjs", ".jsx"), (b"env",), _ENV, "javascript", run_by=("node",), forms=True),
    SourceLanguage((".ts", ".mts", ".cts"), (b"env",), _ENV, "typescript", forms=True),
    SourceLanguage((".tsx",), (b"env",), _ENV, "typescript", "find_with_markup", forms=True),
    SourceLanguage(
        (".go",),
        (b"tenv", b"LookupEnv", b"ExpandEnv", b"Environ", b'env:"', b'envconfig:"', b"EnvVar", b"BindEnv", b".Env"),
        rb"",
        "go",
        forms=True,
    ),
    SourceLanguage((".java",), _JVM, rb"", "java", forms=True),
    SourceLanguage((".kt", ".kts"), _JVM, rb"", "kotlin", forms=True),
    SourceLanguage(
        (".rb", ".rake", ".ru", ".gemspec"),
        (b"ENV", b"system", b"spawn", b"popen", b"env("),
        rb"ENV|\benv\(|\b(?:system|spawn|popen)[ (]*\{",
        "ruby",
        run_by=("ruby",),
    ),
    SourceLanguage(
        (".php", ".phtml"),
        (b"env", b"_ENV", b"_SERVER", b"proc_open", b"tEnv"),
        rb"t[eE]nv|_ENV|_SERVER|\benv\(|\bproc_open\b",
        "php",
        run_by=("php",),
        forms=True,
    ),
    SourceLanguage(
        (".cs", ".csx"),
        (b"Environment", b"onfig"),
        rb"EnvironmentVariable|\bEnvironment(?:\[|\s*=\s*\{|\.(?:Add|TryAdd|Remove)\b)|"
        rb"(?i:\b_?config(?:uration)?(?:\[|\.Get))",
        "csharp",
    ),
    SourceLanguage((".rs",), (b"env",), rb"\benvs?\b|option_env|env_remove|envconfig", "rust", forms=True),
    SourceLanguage(
        (".sh", ".bash", ".ksh"),
        (b"$", b"export", b"env", b"unset", b"[=", b" -v ", b"sudo", b" -e "),
        rb"",
        "shell",
        run_by=("sh", "bash", "dash", "ash", "ksh"),
    ),
    SourceLanguage(
        (".ps1", ".psm1"), (b"nv:", b"NV:", b"EnvironmentVariable"), rb"", "powershell", run_by=("pwsh", "powershell")
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
        rb"""\b(?:services|apiVersion|jobs|steps|stages|(?:\w+_)?script|pipeline|(?:before|after|on)_\w+)["']?\s*:|"""
        rb"""(?i:env\w*|variables)["']?\s*:\s*[\[{\n]|""" + _CAPITALS,
        "yaml_files",
    ),
    SourceLanguage(
        (".conf", ".cfg", ".htaccess", ".vhost"),
        (b"env", b"Env", b"${"),
        _CAPITALS + rb"|(?m:^)[ \t]*(?:env\[|(?:env|(?:pre|un)?setenv|(?i:PassEnv|SetEnv|UnsetEnv))[ \t])",
        "web_server",
    ),
    SourceLanguage(
        (".json",),
        (b'"apiVersion"', b"${", b"nv"),
        rb'"apiVersion"|\$\{[A-Z]|(?i:env\w*"|"variables")\s*:\s*[\[{]',
        "yaml_files",
    ),
    SourceLanguage(("package.json",), (b'"scripts"',), rb"\$|\b[A-Z_]+=", "command_files", "find_in_package"),
    SourceLanguage((".mk", "Makefile"), (b"$", b"export"), rb"", "command_files", "find_in_makefile"),
    SourceLanguage(("Procfile",), (b"$", b"="), rb"", "command_files", "find_in_processes"),
    SourceLanguage((".crontab", ".cron", "crontab"), (b"$", b"="), rb"", "command_files", "find_in_schedule"),
    SourceLanguage((".service",), (b"$", b"Environment"), rb"", "command_files", "find_in_unit"),
    SourceLanguage((".ini", ".toml", ".properties"), (b"${",), _CAPITALS, "placeholders"),
    SourceLanguage((".sql",), (b"${",), _CAPITALS, "placeholders", "find_sql"),
    SourceLanguage((".xml",), (b"${", b"%env("), _CAPITALS, "placeholders", "find_markup"),
    SourceLanguage((".tf", ".hcl"), (b"nv", b"args", b"variables"), rb"", "infrastructure"),
    SourceLanguage((".vue", ".svelte"), (b"env",), _ENV, "embedded_code", "find_in_component", forms=True),
    SourceLanguage((".ipynb",), (b"env",), rb"", "embedded_code", "find_in_notebook"),
    SourceLanguage((".erb",), (b"ENV",), rb"", "template", "find_embedded"),
    _TEMPLATE,
)
_NAMES = {
    **{name: name for name in ("package.json", "Procfile", "crontab", "Makefile")},
    **dict.fromkeys(("makefile", "GNUmakefile"), "Makefile"),
    **dict.fromkeys(("Rakefile", "Gemfile"), ".rb"),
    **dict.fromkeys(("SConstruct", "SConscript", "wscript"), ".py"),
    **dict.fromkeys((".bashrc", ".bash_profile", ".profile", "PKGBUILD"), ".sh"),
}
"""Files without an ending that are known by their name."""
_ENDS = re.compile(r"(?:\.[A-Za-z0-9]+|(?:Containerfile|Dockerfile))$")
_CONTAINERFILE = re.compile(r"(?:Containerfile|Dockerfile)\.|^(?:Containerfile|Dockerfile)[-_0-9]")
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
    if _CONTAINERFILE.search(name):
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


def may_mention(language: SourceLanguage, data: bytes, helpers: frozenset[str] = frozenset()) -> bool:
    """Return whether a text has to be parsed: otherwise its words show that there are no mentions."""
    hinted = any(map(data.__contains__, language.words)) and _hint(language).search(data) is not None
    return hinted or (language.forms and has_forms(data)) or any(helper.encode() in data for helper in helpers)


def look(
    language: SourceLanguage, data: bytes, helpers: frozenset[str] = frozenset(), *, always: bool = False
) -> TextMentions:
    """Return the mentions of a text; unless `always`, without parsing one that need not be."""
    if not always and not may_mention(language, data, helpers):
        return TextMentions([], [])
    found = _finder(language.module, language.function)(data, helpers)
    declared = declared_options.find(language.module, data)
    if declared:
        found = in_order([*found.mentions, *declared], found.unknown)._replace(unread=found.unread)
    if helpers and any(mention.probable in helpers for mention in found.mentions):
        found = found._replace(mentions=[_certain(mention, helpers) for mention in found.mentions])
    return found


def _certain(mention: Mention, helpers: frozenset[str]) -> Mention:
    """Return a mention as a certain one, if somebody said that what it is known by reads variables."""
    return mention._replace(probable="") if mention.probable in helpers else mention
