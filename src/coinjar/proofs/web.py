"""`http`: request an address; check its JSON, a pattern in the body, or the status code."""

from __future__ import annotations

import httpx

from coinjar.destinations.live.http import is_loopback
from coinjar.proofs.base import NoAnswer, ProofAnswers, ProofQuestion, of_text

_PATIENCE = 10
"""Timeout in seconds."""


async def ask_http(proof_question: ProofQuestion) -> ProofAnswers:
    """Send a GET without following redirects, never through a proxy to this machine. Raises ConsentMissing."""
    proof_question.require_consent()
    direct = is_loopback(proof_question.text)
    async with httpx.AsyncClient(timeout=_PATIENCE, trust_env=not direct) as client:
        try:
            answer = await client.get(proof_question.text)
        except (httpx.HTTPError, httpx.InvalidURL) as fault:
            raise NoAnswer(f"no answer ({type(fault).__name__})") from None
    if not proof_question.proof.at and not proof_question.proof.pattern:
        return ProofAnswers([str(answer.status_code)])
    if answer.status_code >= 400:
        raise NoAnswer(f"answered with {answer.status_code}")
    return of_text(proof_question.proof, answer.text)
