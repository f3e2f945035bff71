"""Run the programs that jar.yaml declares for a rotation, with old and new values on stdin and in the environment."""

from __future__ import annotations

import json
import shlex
import subprocess
from collections.abc import Iterable, Mapping
from pathlib import Path

from coinjar.actions.open_jar import OpenJar
from coinjar.actions.output.exec_program import environment
from coinjar.actions.rotation.rotated_secret import RotatedSecret
from coinjar.actions.secrets.known_secrets import secret_texts
from coinjar.core.consent import RUNS, Act
from coinjar.core.errors import ExternalError
from coinjar.core.masking import SHORTEST, forms
from coinjar.core.rotation import RotationRules
from coinjar.core.utf8 import decode_value
from coinjar.jarfile.external_values import program_words
from coinjar.system.child_environment import child_environment

_LONGEST = 600
"""Seconds after which a program is ended."""
_LINES = 8


def rotation_acts(rules: RotationRules, folder: Path) -> list[Act]:
    """Return what the programs of a rotation do on this machine."""
    base = folder.resolve().parent
    return [Act(RUNS, program_words(base, argv), rules.location) for argv in rules.programs()]


def run_program(
    opened: OpenJar,
    secret: RotatedSecret,
    argv: tuple[str, ...],
    old: Mapping[str, str],
    new: Mapping[str, str],
) -> str:
    """Run a program in the folder that contains the jar, and return what it prints.

    It gets OLD_NAME and NEW_NAME of everything that changes, ROTATION_STAGE, and the variables of the service that
    `rotate` names; on stdin the same as JSON: stage, old, new. Raises ConsentMissing, ExternalError with the end of its
    output, secrets masked.
    """
    opened.gate.require(*rotation_acts(secret.rules, opened.folder))
    jar = opened.load()
    child = child_environment()
    if secret.rules.service is not None:
        child = environment(opened.resolve(secret.layer, service=secret.rules.service), child, bare=False)
    child |= {"ROTATION_STAGE": secret.layer}
    child |= {f"OLD_{name}": text for name, text in old.items()} | {f"NEW_{name}": text for name, text in new.items()}
    shown = shlex.join(argv)
    try:
        # The user consented to this program, and it does not pass through a shell.
        done = subprocess.run(  # noqa: S603 - see above
            list(argv),
            cwd=opened.folder.resolve().parent,
            env=child,
            input=json.dumps({"stage": secret.layer, "old": dict(old), "new": dict(new)}).encode(),
            capture_output=True,
            timeout=_LONGEST,
            check=False,
        )
    except (OSError, ValueError) as fault:
        words = fault.strerror if isinstance(fault, OSError) else str(fault)
        message = f"cannot run {shown}: {(words or 'unknown error').lower()}"
        hint = "check its path, which is relative to the folder that contains jar/, and its permissions"
        raise ExternalError(message, hint=hint, location=secret.rules.location, code="cannot-start") from None
    except subprocess.TimeoutExpired:
        hint = "find out what it waits for; then run `coinjar rotate` again, which runs it again"
        message = f"{shown} did not end within {_LONGEST} s, and was ended"
        raise ExternalError(message, hint=hint, location=secret.rules.location, code="program") from None
    if done.returncode:
        said = _end_of(done.stderr.strip() or done.stdout.strip(), [*secret_texts(opened, jar), *old.values()], new)
        message = f"{shown} ended with exit code {done.returncode}" + (f": {said}" if said else "")
        hint = f"repair that; then `coinjar rotate {secret.name} --stage {secret.layer}` goes on, and --back goes back"
        raise ExternalError(message, hint=hint, location=secret.rules.location, code="program")
    return decode_value(done.stdout, f"the output of {shown}", "print text", secret.rules.location, "program")


def _end_of(output: bytes, known: Iterable[str], new: Mapping[str, str]) -> str:
    """Return the last lines of a program's output, secrets masked."""
    for text in sorted({*known, *new.values()}, key=len, reverse=True):
        for form in sorted(forms(text), key=len, reverse=True) if len(text) >= SHORTEST else ():
            output = output.replace(form, "••••".encode())
    return "\n".join(output.decode(errors="replace").splitlines()[-_LINES:])
