"""`file` and `log`: what a rendered file contains, and what a service logged."""

from __future__ import annotations

from coinjar.core.errors import ExternalError
from coinjar.dialects import get
from coinjar.proofs.base import NoAnswer, ProofAnswers, ProofQuestion, of_environments, of_text
from coinjar.system.files import read_file

_TAIL = 4 << 20
"""Bytes at the end of a log that are read."""


def _read(proof_question: ProofQuestion, *, tail: bool) -> bytes:
    path = proof_question.local_path(proof_question.text)
    try:
        return read_file(path, tail=_TAIL if tail else 0)
    except FileNotFoundError:
        raise NoAnswer(f"there is no {proof_question.text}", means_absent=True) from None
    except OSError as fault:
        message = f"cannot read {proof_question.text}: {(fault.strerror or '').lower()}"
        raise ExternalError(
            message,
            hint="check the path and its permissions",
            location=proof_question.proof.location,
            code="unreadable",
        ) from None


async def ask_file(proof_question: ProofQuestion) -> ProofAnswers:
    """Return a file: with a dialect (`as`) an environment, else a text."""
    data = _read(proof_question, tail=False)
    if proof_question.proof.dialect:
        items = get(proof_question.proof.dialect).read(data, proof_question.text).items
        return of_environments(
            proof_question.proof, [{item.name: item.text for item in items if item.text is not None}]
        )
    return of_text(proof_question.proof, data.decode(errors="replace"))


async def ask_log(proof_question: ProofQuestion) -> ProofAnswers:
    """Return a log: the last match of the pattern."""
    return of_text(proof_question.proof, _read(proof_question, tail=True).decode(errors="replace"), last=True)
