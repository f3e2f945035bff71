"""The question of a proof, the answers, and the part of an answer that a proof checks."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from coinjar.core.layers import Resolver
from coinjar.core.patterns import find_all
from coinjar.core.proofs import Proof
from coinjar.destinations.stage_view import RenderContext
from coinjar.documents.json_data import MISSING, Data, as_text, resolve_pointer
from coinjar.proofs.declared_acts import proof_acts
from coinjar.system.files import expanded


class NoAnswer(Exception):
    """Nobody answered, and why. `means_absent`: what was asked for certainly does not exist."""

    def __init__(self, words: str, *, means_absent: bool = False) -> None:
        super().__init__(words)
        self.means_absent = means_absent


class ProofQuestion(NamedTuple):
    """A proof with its question's references replaced."""

    proof: Proof
    question: Mapping[str, str]
    stage: str
    resolver: Resolver
    render_context: RenderContext
    runs: dict[str, Data]
    """By proof, the response to the request that started a pipeline: set once, so that the next question watches the
    same run.
    """
    patience: float = 0
    """Seconds left to wait for an answer; 0: as long as the destination allows."""

    @property
    def text(self) -> str:
        return self.question.get("", "")

    def require_consent(self) -> None:
        """Return if what the question does has consent. Raises ConsentMissing."""
        jar, root = self.render_context.jar, self.render_context.root
        self.render_context.gate.require(*proof_acts(self.proof, jar, self.stage, root))

    def local_path(self, named: str) -> Path:
        """Return a path on this machine, relative to the folder that contains the jar.

        Raises ConsentMissing for one outside that folder.
        """
        self.require_consent()
        return self.render_context.root / expanded(named)


class ProofAnswers(NamedTuple):
    """One text per answer (None: nothing there), or whole environments."""

    texts: Sequence[str | None] = ()
    environments: Sequence[Mapping[str, str]] = ()


def of_environments(proof: Proof, environments: Sequence[Mapping[str, str]]) -> ProofAnswers:
    """Return what a proof checks in environments: one variable, or all of them."""
    return ProofAnswers(
        [environment.get(proof.variable) for environment in environments] if proof.variable else (), environments
    )


def of_text(proof: Proof, text: str, *, last: bool = False) -> ProofAnswers:
    """Return what a proof checks in a text: a JSON Pointer, the first group of a pattern's match (in a log the last
    match), or all of it.
    """
    if proof.at:
        try:
            result = resolve_pointer(json.loads(text), proof.at)
        except (ValueError, RecursionError):
            raise NoAnswer("the answer is not JSON") from None
        if result is MISSING or result is None:
            return ProofAnswers([None])
        text = as_text(result)
    if proof.pattern:
        finds = find_all(proof.pattern, text)
        if not finds:
            return ProofAnswers([None])
        match = finds[-1] if last else finds[0]
        return ProofAnswers([match[1] if match.re.groups else match[0]])
    return ProofAnswers([text if proof.at else text.strip()])
