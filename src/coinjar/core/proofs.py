"""Proofs: a question to a running system, and the expected answer on each stage. Pure."""

from __future__ import annotations

import hashlib
import hmac
import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from coinjar.core.errors import Location
from coinjar.core.record import Record
from coinjar.core.references import Template
from coinjar.core.secret import reveal

ASKERS = ("http", "process", "container", "file", "log", "pods", "run", "program")
"""The systems that a proof can ask; each is a key of a proof."""
_SHORTEST_DIGEST = 16


class Expected(Record):
    """An expected answer.

    `form`: is, not, matches, present, absent, digest. For a digest, `text` names the variable and `key` its key's
    variable.
    """

    form: str
    text: Template | str
    location: Location
    key: str = ""


class Proof(Record, kw_only=True):
    """A declared proof.

    `question` is what its asker needs (an address, a path, a name): texts with references by key; "" for a single one,
    numbers for the words of a program.

    The proof checks the value `at` a JSON Pointer, the match of `pattern`, or the `variable` of an environment; without
    these, the whole answer: an environment against all variables of the service, anything else as text.
    """

    name: str
    location: Location
    asker: str
    question: Mapping[str, Template]
    about: str = ""
    service: str | None = None
    stages: frozenset[str] | None = None
    at: str = ""
    pattern: str = ""
    variable: str = ""
    dialect: str = ""
    expect: Expected | None = None
    expect_on: Mapping[str, Expected] = {}

    def expected(self, chain: Sequence[str]) -> Expected | None:
        """Return the expected answer on the stage with this chain; the nearest stage that sets one."""
        for stage in reversed(chain):
            if stage in self.expect_on:
                return self.expect_on[stage]
        return self.expect

    def is_for(self, chain: Sequence[str]) -> bool:
        """Return whether the proof applies to this stage."""
        if self.stages is not None and not any(stage in self.stages for stage in chain):
            return False
        return self.whole_environment or self.expected(chain) is not None

    def names(self) -> set[str]:
        """Return the variables that the question or the expected answers refer to."""
        expected = [expected for expected in (self.expect, *self.expect_on.values()) if expected is not None]
        texts = [*self.question.values(), *(expectation.text for expectation in expected)]
        names = {reference.name for text in texts if isinstance(text, Template) for reference in text.references()}
        return names | {
            name
            for expectation in expected
            if expectation.form == "digest"
            for name in (str(expectation.text), expectation.key)
        }

    @property
    def whole_environment(self) -> bool:
        """Return whether the proof compares all variables of its service."""
        asks = self.asker in ("process", "container", "pods") or (self.asker == "file" and bool(self.dialect))
        return asks and not (self.variable or self.pattern or self.at or self.expect or self.expect_on)


class Verdict(NamedTuple):
    """Whether a proof holds on a stage; the actual and the expected answer, for display."""

    holds: bool
    actual: str
    expected: str


def judge(form: str, expected: str, value: str | None, *, secret: bool, key: str = "") -> Verdict:
    """Compare an answer (None: nothing there) with the expected one. For secrets only the result is shown."""
    message = "nothing there" if value is None else "••••" if secret or form == "digest" else value if value else '""'
    shown = "••••" if secret else expected
    if form == "absent":
        return Verdict(value is None, message, "nothing there")
    if form == "present":
        return Verdict(value is not None, message, "something there")
    if form == "not":
        return Verdict(value != expected, message, f"not {shown}")
    if form == "matches":
        from coinjar.core.patterns import search  # not needed to read a jar

        return Verdict(value is not None and search(expected, value) is not None, message, f"matches {expected}")
    if form == "digest":
        wanted = hmac.new(reveal(key).encode(), reveal(expected).encode(), hashlib.sha256).hexdigest()
        text = (value or "").strip().lower()
        holds = len(text) >= _SHORTEST_DIGEST and hmac.compare_digest(wanted[: len(text)].encode(), text.encode())
        is_digest = re.fullmatch(r"[0-9a-f]{8,}", text) is not None  # anything else may be the secret itself
        return Verdict(
            holds,
            "nothing there" if value is None else f"digest {text[:8]}…" if is_digest else "no digest",
            f"digest {wanted[:8]}…",
        )
    return Verdict(value == expected, message, shown)
