"""Display values to people: secrets masked, control characters visible, nothing that moves the cursor."""

from __future__ import annotations

import re

from coinjar.core.secret import reveal

_UNSAFE = re.compile(
    "[\x00-\x1f\x7f-\x9f\u00ad\u034f\u061c\u115f\u1160\u17b4\u17b5\u180b-\u180e\u200b-\u200f\u2028-\u202f\u2060-\u206f"
    "\u3164\ufeff\uffa0\ufff0-\ufffb\ud800-\udfff\U000e0000-\U000e0fff]"
)
_NAMED = {"\n": "\\n", "\r": "\\r", "\t": "\\t"}


def visible(text: str) -> str:
    """Return the text with every control, direction-changing or invisible character escaped."""
    if text.isprintable() and text.isascii():
        return text
    return escaped(text)


def escaped(text: str, keep: str = "") -> str:
    """Return the text with those characters escaped as in JSON (RFC 8259, 7), except the ones in `keep`."""
    return _UNSAFE.sub(lambda match: match[0] if match[0] in keep else _escape(match[0]), text)


def _escape(character: str) -> str:
    if character in _NAMED:
        return _NAMED[character]
    number = ord(character)
    if number > 0xFFFF:
        high, low = divmod(number - 0x10000, 0x400)
        return f"\\u{0xD800 + high:04x}\\u{0xDC00 + low:04x}"
    return f"\\u{number:04x}"


class Masker:
    """Masks secrets for one run.

    Equal secrets get the same tag, numbered in order of appearance, which reveals nothing about the text.
    """

    def __init__(self, *, show_secrets: bool = False) -> None:
        self.show_secrets = show_secrets
        self._tags: dict[str, int] = {}

    def tag(self, text: str) -> str:
        """Return a short tag that equal secrets share within this run."""
        return f"#{self._tags.setdefault(text, len(self._tags) + 1)}"

    def mask(self, text: str) -> str:
        """Return what is shown instead of a secret: its length in characters, and its tag."""
        if text == "":
            return '"" (empty)'
        return f"•••• {len(text)} char{'s' if len(text) != 1 else ''} {self.tag(text)}"

    def show(self, text: str, *, secret: bool, short: bool = False) -> str:
        """Return a value for display; an empty one as `""`. `short` masks in few columns."""
        if secret:
            if not self.show_secrets:
                return f"•••• {len(text)} {self.tag(text)}" if short and text else self.mask(text)
            text = reveal(text)
        return visible(text) if text else '""'
