"""Containerfiles: build arguments, variables that are set, and references in instructions and their shell commands."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.mentions import shell
from coinjar.mentions.base import READ, SET, Mention, TextMentions, in_order
from coinjar.mentions.dollars import references
from coinjar.mentions.expressions import masked, misplaced

_SET_BY_BUILDERS = frozenset(
    f"{where}{what}" for where in ("TARGET", "BUILD") for what in ("PLATFORM", "OS", "ARCH", "VARIANT")
)
_PAIR = re.compile(rb"""["']?([A-Za-z_][-.\w]*)["']?(?:=((?:"(?:\\.|[^"\\])*"|'[^']*'|\\.|[^\s"'\\])*))?""", re.DOTALL)
_DECLARED = re.compile(rb"(?mi)^[ \t]*ARG[ \t]+([A-Za-z_]\w*)")
_HEREDOC = re.compile(rb"<<-?(['\"]?)(\w+)\1")
_QUOTED = re.compile(rb'"((?:\\.|[^"\\])*)"')
_COMMENTS = re.compile(rb"(?m)^[ \t]*#[^\n]*")
_LIST = re.compile(rb'\[\s*(?:"(?:\\.|[^"\\])*"[\s,]*)*\]\s*\Z')
"""The exec form; what else begins with a bracket is a command of the shell."""
_SINGLE = re.compile(rb"'[^'\n]*'")
_SHELLS = (b"sh", b"bash", b"/bin/sh", b"/bin/bash", b"dash", b"ash")


def find(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a Containerfile."""
    del helpers
    mentions = misplaced(data)
    data = masked(data) if mentions else data
    unknown = []
    declared = frozenset(match[1].decode() for match in _DECLARED.finditer(data))
    for word, start, end in _unwrapped(data):
        if word in (b"RUN", b"CMD", b"ENTRYPOINT", b"SHELL", b"HEALTHCHECK"):
            found = run_by_shell(data, start, end, declared)
            mentions += found.mentions
            unknown += found.unknown
        elif word == b"ARG":
            mentions += _arguments(_without(data, start, end, _COMMENTS), start, end)
        elif word == b"ENV":
            mentions += _set(_without(data, start, end, _COMMENTS), start, end)
        else:
            mentions += references(_without(data, start, end, _SINGLE), start, end, backslash=True)
    return in_order([mention for mention in mentions if mention.name not in _SET_BY_BUILDERS], unknown)


def _unwrapped(data: bytes) -> Iterator[tuple[bytes, int, int]]:
    """Yield each instruction, those after ONBUILD as themselves."""
    for word, start, end in _instructions(data):
        inner = re.compile(rb"\s*([A-Za-z]+)[ \t]+").match(data, start, end) if word == b"ONBUILD" else None
        yield (inner[1].upper(), inner.end(), end) if inner else (word, start, end)


def _instructions(data: bytes) -> Iterator[tuple[bytes, int, int]]:
    """Yield each instruction's word and the range after it, including continued lines and heredocs."""
    at = 0
    while at < len(data):
        end = _line_end(data, at)
        line = data[at:end]
        match = re.match(rb"\s*([A-Za-z]+)[ \t]+", line)
        if not match or line.lstrip().startswith(b"#"):
            at = end
            continue
        while data[at:end].rstrip().endswith(b"\\") and end < len(data):
            following = _line_end(data, end)
            while data[end:following].lstrip().startswith(b"#") and following < len(data):
                following = _line_end(data, following)
            end = following
        for heredoc in _HEREDOC.finditer(data, at, end) if match[1].upper() in (b"RUN", b"COPY") else ():
            closing = re.compile(rb"^\s*" + heredoc[2] + rb"\r?\n?", re.MULTILINE).search(data, end)
            end = closing.end() if closing else end
        yield match[1].upper(), at + match.end(), end
        at = end


def _line_end(data: bytes, at: int) -> int:
    end = data.find(b"\n", at)
    return len(data) if end < 0 else end + 1


def _without(data: bytes, start: int, end: int, pattern: re.Pattern[bytes]) -> bytes:
    """Return the text with all matches of a pattern between two offsets blanked."""
    return data[:start] + pattern.sub(lambda match: b" " * len(match[0]), data[start:end]) + data[end:]


def run_by_shell(data: bytes, start: int, end: int, declared: frozenset[str] = frozenset()) -> TextMentions:
    """Yield the mentions of an instruction run by a shell; the exec form (a JSON list) expands only what it passes to a
    shell itself. `declared` are the file's build arguments.
    """
    options = re.compile(rb"\s*(?:--\S+\s+)*(?:CMD\s+)?").match(data, start, end)
    start = options.end() if options else start
    if _LIST.match(data, start, end):
        words = list(_QUOTED.finditer(data, start, end))
        if len(words) < 3 or words[0][1] not in _SHELLS or not words[1][1].startswith(b"-"):
            return TextMentions([], [])
        return shell.find_in(data, [words[2].span(1)], declared)
    if match := _HEREDOC.match(data, start, end):
        if match[1]:
            return TextMentions([], [])
        return shell.find_in(data, [(_line_end(data, start), data.rfind(match[2], start, end))], declared)
    return shell.find_in(data, [(start, end)], declared)


def _arguments(data: bytes, start: int, end: int) -> Iterator[Mention]:
    for match in _PAIR.finditer(data, start, end):
        default = match[2].decode(errors="replace").strip("\"'") if match[2] is not None else None
        yield Mention(
            match[1].decode(), *match.span(1), READ, default if default is None or "$" not in default else None
        )
        if match[2]:
            yield from references(data, *match.span(2), backslash=True)


def _set(data: bytes, start: int, end: int) -> Iterator[Mention]:
    first = _PAIR.match(data, start, end)
    if first and first[2] is None:
        yield Mention(first[1].decode(), *first.span(1), SET)
        yield from references(data, first.end(), end, backslash=True)
        return
    for match in _PAIR.finditer(data, start, end):
        if match[2] is not None:
            yield Mention(match[1].decode(), *match.span(1), SET)
            yield from references(_without(data, *match.span(2), _SINGLE), *match.span(2), backslash=True)
