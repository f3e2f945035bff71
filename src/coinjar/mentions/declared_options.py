"""Variables that are named by a field's tag, attribute or annotation: declarations of libraries, not calls."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping

from coinjar.mentions.base import READ, SET, Mention

_GO_TAG = re.compile(rb"`([^`\n]*)`")
_GO_NAME = re.compile(rb"""(?<![\w-])(?:env|envconfig):"([A-Za-z_]\w*)""")
_GO_DEFAULT = re.compile(rb"""(?<![\w-])(?:envDefault|env-default|default):"([^"]*)\"""")
_GO_OPTION = re.compile(
    rb"\bEnvVars?\s*:\s*(?:\[\]string\s*\{([^{}]*)\}|(\"[^\"\n]*\"))|\bEnvVars\(([^()]*)\)"
    rb"|\bBindEnv\(\s*\"[^\"\n]*\"\s*,([^()]*)\)"
)
_GO_LITERAL = rb"\bValue\s*:\s*(?:\"([^\"\n]*)\"|(-?\d[\d.]*|true|false)\b(?!\s*\*))"
_GO_VALUE = re.compile(_GO_LITERAL)
_GO_VALUE_AFTER = re.compile(rb"[^{}]{0,1000}?" + _GO_LITERAL)
_NEAR = 1000
"""Bytes around a name in which its default is looked for."""
_TEXT = re.compile(rb'"([A-Za-z_]\w*)"')
_RUST = re.compile(
    rb"#\[\s*(?:arg|clap|structopt|command|envconfig|option)\s*"
    rb"\(((?:[^()\[\]\"]|\"(?:[^\"\\]|\\.)*\"|\([^()]*\))*)\)\s*\]"
    rb"(?:\s*(?:#\[[^\]]*\]|///[^\n]*\n))*\s*(?:pub(?:\([^()]*\))?\s+)?(\w+)?"
)
_RUST_NAME = re.compile(rb'\b(?:env|from)\s*(?:=|\()\s*"([A-Za-z_]\w*)"')
_RUST_BUILD = re.compile(rb'"cargo::?(?:rerun-if-env-changed=([A-Za-z_]\w*)"|rustc-env=([A-Za-z_]\w*)=)')
"""Lines of a build script for cargo: the variables that it depends on, and those that the compiler gets."""
_RUST_BARE = re.compile(rb"(?:^|,)\s*env\s*(?:,|$)")
_RUST_DEFAULT = re.compile(rb'\bdefault(?:_value(?:_t)?)?\s*=\s*(?:"([^"]*)"|(-?[\w.]+))')
_PLACEHOLDER = re.compile(rb"\\?\$\{([A-Z][A-Z0-9_]+)(?::((?:[^{}]|\{[^{}]*\})*))?\}")
_VALUE = re.compile(rb'@(?:field:|param:|get:)?Value\(\s*(?:value\s*=\s*)?"([^"\n]*)"')
_PROPERTY = re.compile(rb"@(?:field:|param:)?ConfigProperty\(([^()]*)\)")
_CONDITION = re.compile(rb'@(?:En|Dis)abledIfEnvironmentVariable\([^()]*?\bnamed\s*=\s*"([A-Za-z_]\w*)"')
_PROPERTY_NAME = re.compile(rb'\bname\s*=\s*"([A-Z][A-Z0-9_]+)"')
_PROPERTY_DEFAULT = re.compile(rb'\bdefaultValue\s*=\s*"([^"]*)"')


def _named(match: re.Match[bytes], group: int | str = 1, default: re.Match[bytes] | None = None) -> Mention:
    given = next((text for text in default.groups() if text is not None), None) if default else None
    shown = given.decode(errors="replace") if given is not None else None
    return Mention(match[group].decode(), *match.span(group), READ, shown)


def _go(data: bytes) -> Iterator[Mention]:
    for tag in _GO_TAG.finditer(data):
        name = _GO_NAME.search(data, *tag.span(1))
        if name:
            found = _named(name, default=_GO_DEFAULT.search(data, *tag.span(1)))
            yield found._replace(probable="env:" if b"envPrefix:" in data else "")  # a prefix may stand before it
    for option in _GO_OPTION.finditer(data):
        group = option.lastindex or 0
        near = max(option.start() - _NEAR, 0)
        opened = data.rfind(b"{", near, option.start())
        default = _GO_VALUE.search(data, opened + 1, option.start()) if group < 3 and opened >= 0 else None
        default = default or (_GO_VALUE_AFTER.match(data, option.end()) if group < 3 else None)
        yield from (_named(text, default=default) for text in _TEXT.finditer(data, *option.span(group)))


def _rust(data: bytes) -> Iterator[Mention]:
    for attribute in _RUST.finditer(data):
        start, end = attribute.span(1)
        default = _RUST_DEFAULT.search(data, start, end)
        name = _RUST_NAME.search(data, start, end)
        if name:
            yield _named(name, default=default)
        elif attribute[2] and _RUST_BARE.search(attribute[1]):
            yield _named(attribute, 2, default)._replace(name=attribute[2].decode().upper())

    for line in _RUST_BUILD.finditer(data):
        yield _named(line) if line[1] else _named(line, 2)._replace(access=SET)


def _java(data: bytes) -> Iterator[Mention]:
    for value in _VALUE.finditer(data):
        for text in _PLACEHOLDER.finditer(data, *value.span(1)):
            default = None if text[2] is None or b"{" in text[2] else text[2].decode(errors="replace")
            yield Mention(text[1].decode(), *text.span(1), READ, default)
    yield from map(_named, _CONDITION.finditer(data))
    for annotation in _PROPERTY.finditer(data):
        name = _PROPERTY_NAME.search(data, *annotation.span(1))
        if name:
            yield _named(name, default=_PROPERTY_DEFAULT.search(data, *annotation.span(1)))


_READERS: Mapping[str, Callable[[bytes], Iterator[Mention]]] = {
    "go": _go,
    "rust": _rust,
    "java": _java,
    "kotlin": _java,
}
"""By the module of the language."""


_COMMENT = re.compile(rb"(\"(?:[^\"\\\n]|\\.)*\"|`[^`]*`)|//[^\n]*")


def find(module: str, data: bytes) -> list[Mention]:
    """Return the variables that declarations of a text name; comments are left out."""
    reader = _READERS.get(module)
    if reader is None:
        return []
    return list(reader(_COMMENT.sub(lambda match: match[1] or b" " * len(match[0]), data)))
