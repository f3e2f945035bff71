"""`file` and `log`: what a rendered file holds, and what a service wrote."""

from __future__ import annotations

from coinjar.core.errors import ExternalError
from coinjar.dialects import get
from coinjar.proofs.base import NoAnswer, ProofAnswers, ProofQuestion, of_environments, of_text

_TAIL = 4 << 20
"""Bytes at the end of a log that are looked at."""


def _read(asked: ProofQuestion, *, tail: bool) -> bytes:
    path = asked.around.root / asked.text
    try:
        with path.open("rb") as file:
            if tail and (size := path.stat().st_size) > _TAIL:
                file.seek(size - _TAIL)
            return file.read()
    except FileNotFoundError:
        raise NoAnswer(f"there is no {asked.text}", means_absent=True) from None
    except OSError as fault:
        words = f"cannot read {asked.text}: {(fault.strerror or '').lower()}"
        raise ExternalError(
            words, hint="look at the path and its permissions", place=asked.proof.place, code="unreadable"
        ) from None


async def ask_file(asked: ProofQuestion) -> ProofAnswers:
    """A file: in a dialect (`as`) an environment, else a text."""
    data = _read(asked, tail=False)
    if asked.proof.dialect:
        items = get(asked.proof.dialect).read(data, asked.text).items
        return of_environments(asked.proof, [{item.name: item.text for item in items if item.text is not None}])
    return of_text(asked.proof, data.decode(errors="replace"))


async def ask_log(asked: ProofQuestion) -> ProofAnswers:
    """A log: what its pattern found last."""
    return of_text(asked.proof, _read(asked, tail=True).decode(errors="replace"), last=True)
