"""Ask running systems: one module per kind of asker, one line each in the table."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from importlib import import_module
from typing import cast

from coinjar.proofs.base import ProofAnswers, ProofQuestion

ASKING = {
    "http": "web:ask_http",
    "process": "processes:ask_process",
    "container": "processes:ask_container",
    "file": "text_files:ask_file",
    "log": "text_files:ask_log",
    "pods": "systems:ask_pods",
    "run": "systems:ask_run",
    "program": "programs:ask_program",
}


async def ask(proof_question: ProofQuestion) -> ProofAnswers:
    """Ask a proof's question. Raises NoAnswer if nobody answers, InputError, ExternalError."""
    module, _, name = ASKING[proof_question.proof.asker].partition(":")
    function = cast(
        "Callable[[ProofQuestion], Awaitable[ProofAnswers]]", getattr(import_module(f"coinjar.proofs.{module}"), name)
    )
    return await function(proof_question)
