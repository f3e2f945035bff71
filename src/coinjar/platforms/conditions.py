"""Conditions of a description: what a field of an item or of an answer must be."""

from __future__ import annotations

from collections.abc import Sequence

from coinjar.core.record import Record
from coinjar.documents.json_data import MISSING, Data, as_text, resolve_pointer

ABSENT, PRESENT, NULL = "absent", "present", "null"
"""Conditions in one word. A field with null is present; `null` requires it to be there and null."""
WORDS = (ABSENT, PRESENT, NULL)


class Condition(Record):
    """A test of the value at a JSON Pointer: a word of WORDS, or texts of which it is one (`is_negated`: none)."""

    pointer: str
    word: str = ""
    texts: tuple[str, ...] = ()
    is_negated: bool = False

    def holds(self, data: Data) -> bool:
        """Return whether it holds for some data. Values that are not texts are compared in JSON notation."""
        value = resolve_pointer(data, self.pointer)
        if self.word:
            return {ABSENT: value is MISSING, PRESENT: value is not MISSING, NULL: value is None}[self.word]
        return (value is not MISSING and as_text(value) in self.texts) is not self.is_negated


def all_hold(conditions: Sequence[Condition], data: Data) -> bool:
    """Return whether there are conditions, and all of them hold."""
    return bool(conditions) and all(condition.holds(data) for condition in conditions)
