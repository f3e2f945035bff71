"""The text of JSON Pointers: steps joined by `/`, with `~1` for `/` and `~0` for `~` (RFC 6901, 3)."""

from __future__ import annotations

from collections.abc import Iterable


def split_pointer(pointer: str) -> list[str]:
    """Return the steps of a pointer, unescaped."""
    return [step.replace("~1", "/").replace("~0", "~") for step in pointer.split("/")[1:]]


def join_pointer(steps: Iterable[str]) -> str:
    """Return the pointer with these steps, escaped."""
    return "".join("/" + step.replace("~", "~0").replace("/", "~1") for step in steps)
