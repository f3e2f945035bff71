"""Values from outside the jar: a command's output, a file's content, the environment."""

from __future__ import annotations

import os
import shlex
from collections.abc import Sequence
from pathlib import Path

from coinjar.core.consent import READS, RUNS, Act, ConsentMissing, Gate
from coinjar.core.definition import Command, FromEnv, FromFile, FromJar, FromStore, Outside
from coinjar.core.errors import InputError, Location
from coinjar.core.layers import Fetch
from coinjar.core.utf8 import decode_value
from coinjar.system.child_environment import child_environment
from coinjar.system.files import expanded, is_outside, read_file

LARGEST = 10 << 20
"""Maximum size of a file or an output, in bytes."""

_BYTES = "add base64: true to carry bytes"


def fetcher(folder: Path, gate: Gate) -> Fetch:
    """Return the function that fetches external values for the jar in `folder`, if `gate` has consent for it.

    Paths and commands are relative to the folder above it.
    """
    base = folder.resolve().parent

    def fetch(outside: Outside, location: Location) -> str:
        if isinstance(outside, FromStore | FromJar):
            place = f"stored in {outside.destination}" if isinstance(outside, FromStore) else f"in {outside.path}"
            message = f"the value is {place}, which was not read"
            raise InputError(message, hint="print it with `coinjar value`", location=location, code="not-fetched")
        try:
            gate.require(*acts_of(outside, base, location))
        except ConsentMissing as fault:
            fault.code = "not-fetched"  # a value without a text, as where nobody fetches
            raise
        if isinstance(outside, FromEnv):
            return _from_env(outside, location)
        if isinstance(outside, FromFile):
            return _from_file(outside, base, location)
        return _from_command(outside, base, location)

    return fetch


def acts_of(outside: Outside, base: Path, location: Location) -> list[Act]:
    """Return what fetching a value makes this machine do; nothing for a file in the repository."""
    if isinstance(outside, FromEnv):
        return [Act(READS, f"the variable {outside.name}", location)]
    if isinstance(outside, FromFile):
        return [Act(READS, outside.path, location)] if is_outside(outside.path) else []
    if isinstance(outside, Command):
        return [Act(RUNS, program_words(base, outside.argv), location)]
    if isinstance(outside, FromJar):
        where = "".join(
            f", {what} {name}" for what, name in (("stage", outside.stage), ("service", outside.service)) if name
        )
        return [Act(READS, f"{outside.name} of the jar {outside.path}{where}", location)]
    return []  # contacting the store is the act of its destination


def program_words(base: Path, argv: Sequence[str]) -> str:
    """Return a command as one line; each of its words that is a file of the repository is named with a digest, so that
    a changed script is another act.
    """
    return " ".join(shlex.quote(word) + _digest(base, word) for word in argv)


def _digest(base: Path, word: str) -> str:
    if is_outside(word) or not (base / word).is_file():
        return ""
    import hashlib  # only for scripts of a repository

    return f" ({hashlib.sha256(read_file(base / word)).hexdigest()[:12]})"


def _from_env(outside: FromEnv, location: Location) -> str:
    text = os.environ.get(outside.name)
    if text is None:
        raise InputError(
            f"the environment has no {outside.name}",
            hint=f"set {outside.name} where coinjar runs",
            location=location,
            code="outside",
        )
    return decode_value(os.fsencode(text), f"{outside.name} in the environment", _BYTES, location, "outside")


def _from_file(outside: FromFile, base: Path, location: Location) -> str:
    path = base / expanded(outside.path)
    try:
        data = read_file(path, LARGEST + 1)
    except OSError as fault:
        words = (fault.strerror or "unknown error").lower()
        raise InputError(
            f"cannot read the file {outside.path}: {words}",
            hint="paths are relative to the folder that contains jar/",
            location=location,
            code="outside",
        ) from None
    if len(data) > LARGEST:
        raise InputError(
            f"the file {outside.path} is over {LARGEST >> 20} MiB",
            hint="is it the right file?",
            location=location,
            code="outside",
        )
    if outside.base64:
        from base64 import b64encode

        return b64encode(data).decode()
    return decode_value(data, f"the file {outside.path}", _BYTES, location, "outside")


def _from_command(outside: Command, base: Path, location: Location) -> str:
    import subprocess

    what = f"the command '{outside.argv[0]}'"
    try:
        # The user consented to this command, and it does not pass through a shell.
        done = subprocess.run(  # noqa: S603 - see above
            list(outside.argv),
            cwd=base,
            env=child_environment(),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            check=False,
        )
    except OSError as fault:
        raise InputError(
            f"{what} cannot be run: {(fault.strerror or '').lower()}",
            hint="check its name and PATH",
            location=location,
            code="outside",
        ) from None
    if done.returncode:
        raise InputError(
            f"{what} ended with {done.returncode}",
            hint="run it by hand in the folder that contains jar/",
            location=location,
            code="outside",
        )
    text = decode_value(done.stdout, f"the output of {what}", _BYTES, location, "outside").rstrip("\n")
    if not text and not outside.may_be_empty:
        raise InputError(
            f"{what} printed nothing",
            hint="add may_be_empty: true if this is correct",
            location=location,
            code="outside",
        )
    return text
