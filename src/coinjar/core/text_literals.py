"""Texts as literals of a language, on one line, and back.

Each language's own reference says which escapes there are; a text that a language cannot write so is refused.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from typing import NamedTuple


class NotWritable(ValueError):
    """A text that a language cannot write on one line; the message says why."""


class TextLiteral(NamedTuple):
    """How a language writes a text.

    `quote` is the quote on both sides, `escapes` what stands for a character. Other control characters are written by
    `number`, from their code point, and read by the pattern `numbers`, with the groups `hex` and `octal`. `refused`:
    characters that cannot be written. `before`: characters that are escaped only before one of these.
    """

    quote: str
    escapes: Mapping[str, str]
    number: Callable[[int], str] | None = None
    numbers: str = r"(?P<hex>(?!))(?P<octal>)"
    refused: str = "\0"
    before: Mapping[str, str] = {}


def _four_digits(code: int) -> str:
    return f"\\u{code:04x}"


def _two_digits(code: int) -> str:
    return f"\\x{code:02x}" if code < 0x80 else f"\\u{code:04x}"


def _octal(code: int) -> str:
    # three digits, so that no digit after it is taken for one of its own; `\u` is replaced before the text is read
    return f"\\{code:03o}" if code < 0x80 else f"\\u{code:04x}"


def _in_braces(code: int) -> str:
    return f"\\u{{{code:x}}}"


_OF_C = {"\\": "\\\\", '"': '\\"', "\n": "\\n", "\r": "\\r", "\t": "\\t"}
_UNICODE = r"\\u(?P<hex>[0-9a-fA-F]{4})(?P<octal>)"
_BYTES = r"\\(?P<hex>x[0-9a-fA-F]{2}|u[0-9a-fA-F]{4})(?P<octal>)"
_JAVA = r"\\(?:(?P<hex>u+[0-9a-fA-F]{4})|(?P<octal>[0-3][0-7]{2}))"
_BRACES = r"\\u\{(?P<hex>[0-9a-fA-F]{1,6})\}(?P<octal>)"
_OF_POWERSHELL = {"`": "``", '"': '`"', "$": "`$", "\n": "`n", "\r": "`r", "\t": "`t", "\0": "`0"}
LANGUAGES: Mapping[str, TextLiteral] = {
    "json": TextLiteral('"', _OF_C, _four_digits, _UNICODE, ""),
    "javascript": TextLiteral('"', _OF_C, _four_digits, _UNICODE, ""),
    "python": TextLiteral('"', _OF_C, _two_digits, _BYTES, ""),
    "java": TextLiteral('"', _OF_C, _octal, _JAVA, ""),
    "csharp": TextLiteral('"', _OF_C, _four_digits, _UNICODE, ""),
    "go": TextLiteral('"', _OF_C, _two_digits, _BYTES, ""),
    "ruby": TextLiteral('"', _OF_C, _four_digits, _UNICODE, "", {"#": "{$@"}),
    "php": TextLiteral('"', _OF_C | {"$": "\\$"}, _in_braces, _BRACES, ""),
    # typographic quotes are quotes there as well
    "powershell": TextLiteral('"', _OF_POWERSHELL | {quote: f"`{quote}" for quote in "\u201c\u201d\u201e"}, refused=""),
    "shell": TextLiteral("'", {"'": "'\\''"}, refused="\n\r\0"),
    "nginx": TextLiteral('"', _OF_C, refused="$\0"),  # it has no escape for a dollar sign
    "plain": TextLiteral("", {}, refused="\n\r\0"),
}
"""By name."""
_CONTROL = re.compile("[\x00-\x1f\x7f\x85\u2028\u2029\ufeff]")
_SHOWN = {"\n": "a line break", "\r": "a carriage return", "\0": "a NUL"}


def quoted(language: str, text: str) -> str:
    """Return a text as a literal of a language. Raises NotWritable."""
    how = LANGUAGES[language]
    for character in how.refused:
        if character in text:
            shown = _SHOWN.get(character, f"'{character}'")
            raise NotWritable(f"{language} cannot write {shown} in a text on one line")
    return how.quote + "".join(_written(how, text)) + how.quote


def _written(how: TextLiteral, text: str) -> Iterator[str]:
    for at, character in enumerate(text):
        if character in how.escapes:
            yield how.escapes[character]
        elif character in how.before and text[at + 1 : at + 2] and text[at + 1] in how.before[character]:
            yield "\\" + character
        elif how.number and _CONTROL.match(character):
            yield how.number(ord(character))
        else:
            yield character


def unquoted(language: str, literal: str) -> str | None:
    """Return the text of a literal as `quoted` writes it; None for anything else, such as an expression."""
    how = LANGUAGES[language]
    if not how.quote:
        return literal
    if len(literal) < 2 or not (literal.startswith(how.quote) and literal.endswith(how.quote)):
        return None
    back = {escape: character for character, escape in how.escapes.items()}
    back |= {f"\\{character}": character for character in how.before}
    escapes = re.compile("|".join([*map(re.escape, sorted(back, key=len, reverse=True)), how.numbers]))
    inner, text, at = literal[1:-1], "", 0
    while match := escapes.search(inner, at):
        plain = inner[at : match.start()]
        if not _is_plain(plain, how):
            return None
        text += plain
        text += back[match[0]] if match[0] in back else _character(match)
        at = match.end()
    return text + inner[at:] if _is_plain(inner[at:], how) else None


def _is_plain(text: str, how: TextLiteral) -> bool:
    """Return whether a part of a literal has neither a quote nor an escape that is not known."""
    return not any(sign in text for sign in {how.quote, *(escape[0] for escape in how.escapes.values())})


def _character(match: re.Match[str]) -> str:
    return chr(int(match["octal"], 8)) if match["octal"] else chr(int(match["hex"].lstrip("ux"), 16))
