"""`program`: a program with the variables of a service in its environment says whether all is well."""

from __future__ import annotations

import shlex
import subprocess

from coinjar.core.errors import ExternalError
from coinjar.proofs.base import NoAnswer, ProofAnswers, ProofQuestion, of_text
from coinjar.system.child_environment import child_environment

_LONGEST = 60
"""Seconds after which a program is ended."""
_SHORTEST_SECRET = 4


async def ask_program(proof_question: ProofQuestion) -> ProofAnswers:
    """Return what a program prints. One that fails is no answer; output with a secret is not shown."""
    proof = proof_question.proof
    assert proof.service, "a proof without a service is refused"
    proof_question.require_consent()
    argv = [proof_question.question[key] for key in sorted(proof_question.question, key=int)]
    values = proof_question.resolver.resolve(proof.service)
    own = {name: resolved.revealed for name, resolved in values.items() if resolved.text is not None}
    environment = child_environment() | {name: text for name, text in own.items() if text is not None}
    try:
        # The user consented to this program, and it does not pass through a shell.
        done = subprocess.run(  # noqa: S603 - see above; the proofs of a stage may wait for each other
            argv,
            cwd=proof_question.render_context.root,
            env=environment,
            stdin=subprocess.DEVNULL,
            capture_output=True,
            timeout=_LONGEST,
            check=False,
        )
    except subprocess.TimeoutExpired:
        raise NoAnswer(f"it did not end within {_LONGEST} s") from None
    except (OSError, ValueError) as fault:
        words = fault.strerror if isinstance(fault, OSError) else str(fault)
        raise ExternalError(
            f"cannot run {shlex.quote(argv[0])}: {(words or '').lower()}",
            hint="check its path, which is relative to the folder that contains jar/, and its permissions",
            location=proof.location,
            code="cannot-start",
        ) from None
    if done.returncode:
        raise NoAnswer(f"it ended with exit code {done.returncode}")
    text = done.stdout.decode(errors="replace")
    for name, resolved in values.items():
        secret = resolved.revealed if resolved.secret else None
        if secret is not None and len(secret) >= _SHORTEST_SECRET and secret in text:
            raise NoAnswer(f"its output contains the secret {name}, and is not shown")
    return of_text(proof, text)
