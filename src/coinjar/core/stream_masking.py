"""Mask secrets in a stream of bytes, across its chunks and in every spelling that `Redactor` knows."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from coinjar.core.encodings import ENCODINGS, JSON, LINE_BREAKS, LOOKED_BACK, Encoding, whole
from coinjar.core.redaction import Occurrence, SecretFinder, mask, without_overlaps

_WAYS: tuple[tuple[Encoding, ...], ...] = (
    (),
    *((encoding,) for encoding in (*ENCODINGS, LINE_BREAKS)),
    (JSON, JSON),
)
"""The decodings, one after the other, in whose results secrets are searched."""

_WIDEST = 12
"""How many bytes stand for one, at most: an entity, or JSON in JSON."""
_BACKSLASH = ord("\\")


class StreamMasker:
    """Masks secrets in one stream. `secrets` maps each secret's text to its name, which replaces it."""

    def __init__(self, secrets: Mapping[str, str]) -> None:
        self._finder = SecretFinder(secrets)
        self._before = b""
        self._held = b""

    def feed(self, data: bytes) -> bytes:
        """Return what can be written of the input so far; what may be the start of a secret is held back."""
        return self._run(self._held + data, is_last=False)

    def rest(self) -> bytes:
        """Return what was held back, at the end of the input."""
        return self._run(self._held, is_last=True)

    def _run(self, data: bytes, *, is_last: bool) -> bytes:
        if self._finder.is_empty:
            return data
        begun = [] if is_last else self._all_begun(data)
        hold = begun[0] if begun else len(data)
        done, at = [], 0
        for span in without_overlaps(span for way in _WAYS for span in self._occurrences(data, way)):
            if any(at <= start < span.end for start in begun):
                hold = min(hold, span.start)
                break  # what is held back may be more than this secret
            done += [data[at : span.start], mask(span.name)]
            at = span.end
            hold = next((start for start in begun if start >= at), len(data))
        hold = _at_boundary(data, at, hold)
        self._before = (self._before + data[:hold])[-LOOKED_BACK:]
        self._held = data[hold:]
        return b"".join([*done, data[at:hold]])

    def _all_begun(self, data: bytes) -> list[int]:
        """Return every offset where a secret may begin that the data cuts off: near its end, in any spelling."""
        tail = max(0, len(data) - self._finder.longest * _WIDEST - LOOKED_BACK)
        while tail and data[tail - 1] == _BACKSLASH:  # which may escape the one behind it
            tail -= 1
        before = (self._before + data[:tail])[-LOOKED_BACK:] if tail < LOOKED_BACK else data[tail - LOOKED_BACK : tail]
        found = {tail + start for way in _WAYS for start in self._begun(data[tail:], before, way)}
        return sorted(found)

    def _decoded(self, data: bytes, way: Sequence[Encoding]) -> tuple[bytes, int] | None:
        """Return the data after decodings, and how many of its first bytes were written before; None if the last one
        changes nothing.
        """
        before = self._before if LINE_BREAKS in way else b""
        decoded = previous = before + data
        for encoding in way:
            previous, decoded = decoded, encoding.decoded(decoded)
        return (decoded, len(before)) if not way or decoded != previous else None

    def _occurrences(self, data: bytes, way: Sequence[Encoding]) -> Iterator[Occurrence]:
        result = self._decoded(data, way)
        if result is None:
            return
        decoded, written = result
        if occurrences := self._finder.find(decoded):  # only then does the place of each byte matter
            view = whole(self._before[len(self._before) - written :] + data)
            for encoding in way:
                view = encoding.view(view)
            for occurrence in occurrences:
                start, end = view.original(occurrence.start, occurrence.end)
                if start >= written:
                    yield Occurrence(start - written, end - written, occurrence.name)

    def _begun(self, data: bytes, before: bytes, way: Sequence[Encoding]) -> Iterator[int]:
        """Yield every offset where a secret may begin that the data cuts off; `before` are the bytes in front of it."""
        before = before if LINE_BREAKS in way else b""
        view = whole(before + data)
        for encoding in way:
            if cut := encoding.unfinished.search(view.data):
                if (start := view.starts[cut.start()] - len(before)) >= 0:
                    yield start
                view = view.first(cut.start())
            elif not encoding.pattern.search(view.data):
                return  # the result is one that is searched anyway
            view = encoding.view(view)
        for begun in self._finder.begun(view.data):
            if (start := view.starts[begun] - len(before)) >= 0:
                yield start


def _at_boundary(data: bytes, least: int, hold: int) -> int:
    """Return the offset of the escape that an offset cuts in two, so that it is decoded as a whole later."""
    for encoding in ENCODINGS if hold < len(data) else ():
        for match in encoding.pattern.finditer(data):
            if match.start() >= hold:
                break
            if match.end() > hold:
                hold = max(match.start(), least)
                break
    return hold
