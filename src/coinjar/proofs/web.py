"""`http`: request an address; check its JSON, a pattern in the body, or the status code."""

from __future__ import annotations

from coinjar.destinations.live.connections import Connections, ExchangeError, SentRequest
from coinjar.proofs.base import NoAnswer, ProofAnswers, ProofQuestion, of_text

_PATIENCE = 10
"""Timeout in seconds."""


async def ask_http(proof_question: ProofQuestion) -> ProofAnswers:
    """Send a GET without following redirects, never through a proxy to this machine. Raises ConsentMissing."""
    proof_question.require_consent()
    connections = Connections(proof_question.text, patience=_PATIENCE)
    try:
        answer = await connections(SentRequest("GET", proof_question.text))
    except ExchangeError as fault:
        raise NoAnswer(f"no answer: {fault}") from None
    finally:
        connections.close()
    if not proof_question.proof.at and not proof_question.proof.pattern:
        return ProofAnswers([str(answer.status)])
    if answer.status >= 400:
        raise NoAnswer(f"answered with {answer.status}")
    return of_text(proof_question.proof, answer.text)
