"""What is asked, what is answered, and how a proof looks at it."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from coinjar.core.layers import Resolver
from coinjar.core.proofs import Proof
from coinjar.destinations.base import RenderContext
from coinjar.documents.json_data import NOTHING, Data, as_text, look


class NoAnswer(Exception):
    """Nobody there to answer, in words. `means_absent`: what was looked for is certainly not there."""

    def __init__(self, words: str, *, means_absent: bool = False) -> None:
        super().__init__(words)
        self.means_absent = means_absent


class ProofQuestion(NamedTuple):
    """A proof with its question's references filled in."""

    proof: Proof
    question: Mapping[str, str]
    stage: str
    resolver: Resolver
    render_context: RenderContext
    runs: dict[str, Data]
    """By proof, the answer to the request that started a pipeline: filled by who starts it, so that the next question watches the same run."""
    patience: float = 0
    """Seconds that are left to wait for an answer; 0: as long as the destination allows."""

    @property
    def text(self) -> str:
        return self.question.get("", "")


class ProofAnswers(NamedTuple):
    """One text for each that was asked (None: nothing there), or whole environments."""

    texts: Sequence[str | None] = ()
    environments: Sequence[Mapping[str, str]] = ()


def of_environments(proof: Proof, environments: Sequence[Mapping[str, str]]) -> ProofAnswers:
    """What a proof looks at in environments: one variable, or all of them."""
    return ProofAnswers(
        [environment.get(proof.variable) for environment in environments] if proof.variable else (), environments
    )


def of_text(proof: Proof, text: str, *, last: bool = False) -> ProofAnswers:
    """What a proof looks at in a text: a pointer into JSON, what a pattern finds (its first group; in a log the last find), or all of it."""
    if proof.at:
        try:
            result = look(json.loads(text), proof.at)
        except ValueError:
            raise NoAnswer("the answer is no JSON") from None
        if result is NOTHING or result is None:
            return ProofAnswers([None])
        text = as_text(result)
    if proof.pattern:
        finds = list(re.finditer(proof.pattern, text, re.MULTILINE))
        if not finds:
            return ProofAnswers([None])
        match = finds[-1] if last else finds[0]
        return ProofAnswers([match[1] if match.re.groups else match[0]])
    return ProofAnswers([text if proof.at else text.strip()])
