"""The quoted style that language runtimes read; Node.js `--env-file` is the reference (versions 20 and 24).

Its quotes are `"`, `'` and a backquote. Nothing is unescaped, but `\\n` inside double quotes becomes a line break;
carriage returns are dropped everywhere; an unquoted value ends at a `#`.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from coinjar.core.errors import location_of
from coinjar.core.value_text import not_for_environments
from coinjar.dialects.base import CUT, Dialect, Entry, FileHeader, ReadItem, ReadRemark, ReadResult, decode

_PLAIN = re.compile(r"[^\s#\"'`](?:[^\n#]*[^\s#])?")
_QUOTES = ("'", "`", '"')


class DotenvDialect(Dialect):
    """Quoted `NAME="value"` lines."""

    name = "dotenv"
    about = "the quoted style that language runtimes read"

    def unsupported_reason(self, name: str, value: str) -> str | None:
        if not name.isascii() or re.search(r"[\"'`#\\]", name):
            return "the name has a character other than A to Z, digits, '_', '-' and '.'"
        if "\r" in value:
            return "it contains a carriage return, which readers drop"
        if _style(value) is None and not _goes_last(value):
            return "it contains all three quotes together with characters that only quotes can protect"
        return not_for_environments(value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        lines: list[str] = []
        last: list[str] = []
        kept = [entry for entry in entries if entry.text is not None]
        for entry in kept:
            source = entry.text or ""
            style = _style(source)
            if style is None:
                last.append(f"{entry.name}={source}\n")
            else:
                lines.append(f"{entry.name}={style}{source}{style}\n")
        return (heading.comment + "".join(lines + last)).encode()

    def clash(self, entries: Sequence[Entry]) -> str | None:
        last = [entry.name for entry in entries if entry.text is not None and _style(entry.text) is None]
        if len(last) < 2:
            return None
        return (
            f"{' and '.join(last)} begin with a quote and contain the other two: a file can have only one such "
            "value, at its end"
        )

    def read(self, data: bytes, file: str) -> ReadResult:
        source, remarks = decode(data, file)
        if "\r" in source:
            remarks.append(
                ReadRemark(
                    location_of(source, source.index("\r"), file),
                    "carriage returns were ignored, as readers of this style do",
                )
            )
            source = source.replace("\r", "")
        return _read(source, file, remarks)


def _style(value: str) -> str | None:
    """Return the quote to write a value in, "" for none; None if it can be written neither way."""
    if _PLAIN.fullmatch(value) and value.isascii():
        return ""
    for quote in _QUOTES:
        if quote not in value and not (quote == '"' and "\\n" in value):
            return quote
    return "" if _PLAIN.fullmatch(value) else None


def _goes_last(value: str) -> bool:
    """Return whether a value begins with a quote that nothing closes: its whole line is the value, so a file can end
    with one such value.
    """
    return value[:1] in _QUOTES and value.count(value[0]) == 1 and "\n" not in value and value == value.strip()


def _read(source: str, file: str, remarks: list[ReadRemark]) -> ReadResult:
    items: list[ReadItem] = []
    at = 0
    while at < len(source):
        end = _line_end(source, at)
        line = source[at:end]
        stripped = line.strip()
        if not stripped or stripped.startswith("#"):
            at = end + 1
            continue
        start = at + len(line) - len(line.lstrip())
        location = location_of(source, start, file)
        name, equals, _ = line.partition("=")
        if not equals:
            remarks.append(ReadRemark(location, "ignored: the line has no '='", lost=True))
            at = end + 1
            continue
        value_at = at + len(name) + 1
        blank_before = name != name.rstrip()
        tab = _has_tab(name) or _has_tab(source[value_at:end])
        name = re.sub(r"^export +", "", name.strip()).strip()
        raw = source[value_at:end]
        if name.startswith("export\t"):
            remarks.append(
                ReadRemark(
                    location,
                    "ignored: there is a tab after export, which readers take as part of the name",
                    lost=True,
                )
            )
            at = end + 1
            continue
        value_at += len(raw) - len(raw.lstrip(" \t"))
        if raw and not raw.strip():
            remarks.append(
                ReadRemark(
                    location,
                    f"{name}: only spaces follow its '='; it was read as empty, but some readers take the next line "
                    "as its value",
                )
            )
        elif tab:
            remarks.append(
                ReadRemark(
                    location,
                    f"the tab around the name or the value of {name} was ignored; Node.js before 22 keeps it",
                )
            )
        elif blank_before or raw[:1] in (" ", "\t"):
            remarks.append(ReadRemark(location, f"the spaces around '=' of {name} were ignored"))
        cut = _cut(source[value_at:end])
        value, at, words = _value(source, value_at, end)
        remarks += [ReadRemark(location, f"{name}: {word}", kind=CUT if cut else "") for word in words]
        items.append(ReadItem(name, value, location))
    return ReadResult(items, remarks)


def _has_tab(source: str) -> bool:
    """Return whether the whitespace around a text contains a tab."""
    return "\t" in source[: len(source) - len(source.lstrip())] + source[len(source.rstrip()) :]


def _line_end(source: str, at: int) -> int:
    end = source.find("\n", at)
    return len(source) if end < 0 else end


def _value(source: str, at: int, end: int) -> tuple[str, int, list[str]]:
    """Return the value that starts at `at`, where to read on, and unexpected properties."""
    quote = source[at : at + 1]
    if at < end and quote in _QUOTES:
        close = source.find(quote, at + 1)
        if close < 0:
            return source[at:end].strip(), end + 1, [f"its {quote} is never closed, so it is part of the value"]
        value = source[at + 1 : close]
        after = _line_end(source, close)
        words = _words_on_quoted(value, quote, source[close + 1 : after].strip())
        return value.replace("\\n", "\n") if quote == '"' else value, after + 1, words
    value, hash_mark, comment = source[at:end].partition("#")
    words = []
    if hash_mark and comment:
        words.append(
            "the text after '#' was read as a comment"
            + ("" if value.endswith((" ", "\t")) or not value else ", although there is no space before it")
        )
    if "$" in value:
        words.append("`$` is kept literally: this dialect does not expand references")
    return value.strip(), end + 1, words


def _cut(raw: str) -> bool:
    """Return whether a value without quotes contains a '#' without a space before it: the rest is lost."""
    return raw[:1] not in _QUOTES and re.search(r"[^\s]#[^\s]", raw) is not None


def _words_on_quoted(value: str, quote: str, after: str) -> list[str]:
    words = []
    if quote == '"' and value.endswith("\\"):
        words.append("'\\\"' is not unescaped: the value ends at that quote")
    if after and not after.startswith("#"):
        words.append("text after its closing quote was ignored")
    if "\n" in value:
        words.append("it spans several lines, up to its closing quote")
    if re.search(r"\$[A-Za-z_{]", value):
        words.append("`$` is kept literally: this dialect does not expand references")
    return words
