"""`process` and `container`: the environment that a running process was started with (proc(5), /proc/PID/environ)."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path

from coinjar.core.errors import ExternalError, InputError
from coinjar.proofs.base import NoAnswer, ProofAnswers, ProofQuestion, of_environments
from coinjar.system import processes

_LISTENS = "0A"
"""The state of a listening socket in /proc/net/tcp."""


def environment_of(pid: int, proof_question: ProofQuestion) -> dict[str, str]:
    """Return a process's environment at its start. Raises NoAnswer, ExternalError."""
    try:
        return processes.environment_of(pid)
    except (FileNotFoundError, ProcessLookupError):
        raise NoAnswer(f"there is no process {pid}") from None
    except PermissionError:
        words = f"the environment of process {pid} is readable only by its owner"
        raise ExternalError(
            words, hint="run it as that user, or as root", location=proof_question.proof.location, code="not-ours"
        ) from None


def _pids() -> list[int]:
    return [int(path.name) for path in Path("/proc").iterdir() if path.name.isdigit() and int(path.name) != os.getpid()]


def _listening(port: int) -> Iterator[int]:
    """Return the processes that listen on a TCP port."""
    inodes = set()
    for table in ("tcp", "tcp6"):
        try:
            lines = Path(f"/proc/net/{table}").read_text().splitlines()[1:]
        except OSError:
            continue
        for fields in (line.split() for line in lines):
            if fields[3] == _LISTENS and int(fields[1].rpartition(":")[2], 16) == port:
                inodes.add(f"socket:[{fields[9]}]")
    for pid in _pids():
        try:
            if any(str(path.readlink()) in inodes for path in Path(f"/proc/{pid}/fd").iterdir()):
                yield pid
        except OSError:
            continue  # it ended, or belongs to another user


def _running(pattern: str) -> Iterator[int]:
    """Return the processes whose command line, words joined by spaces, matches a pattern."""
    wanted = re.compile(pattern)
    for pid in _pids():
        try:
            command = (
                Path(f"/proc/{pid}/cmdline").read_bytes().rstrip(b"\0").replace(b"\0", b" ").decode(errors="replace")
            )
        except OSError:
            continue
        if command and wanted.search(command):
            yield pid


def _chosen(proof_question: ProofQuestion) -> list[int]:
    (how, text), *_ = proof_question.question.items()
    if how == "pid_file":
        path = proof_question.render_context.root / text
        try:
            return [int(path.read_text().strip())]
        except FileNotFoundError:
            raise NoAnswer(f"there is no {text}") from None
        except (OSError, ValueError):
            raise InputError(
                f"{text} contains no process number",
                hint="name the file into which the service writes its number",
                location=proof_question.proof.location,
                code="proof",
            ) from None
    if how == "port":
        if not text.isdigit():
            raise InputError(
                f"'{text}' is not a port",
                hint="write a number, or ${NAME}",
                location=proof_question.proof.location,
                code="proof",
            )
        result = sorted(set(_listening(int(text))))
        words = f"nothing listens on port {text}"
    else:
        try:
            result = sorted(_running(text))
        except re.error as fault:
            raise InputError(
                f"'runs' is not a valid pattern: {fault}",
                hint="write a regular expression",
                location=proof_question.proof.location,
                code="proof",
            ) from None
        words = f"no running process matches {text}"
    if not result:
        raise NoAnswer(words)
    return result


async def ask_process(proof_question: ProofQuestion) -> ProofAnswers:
    """Return the processes by the file with the number, the port, or the command line; all of several are checked."""
    return of_environments(
        proof_question.proof, [environment_of(pid, proof_question) for pid in _chosen(proof_question)]
    )


async def ask_container(proof_question: ProofQuestion) -> ProofAnswers:
    """Return the environment of the first process of a podman container."""
    import asyncio

    from coinjar.system.child_environment import child_environment

    engine = proof_question.question.get("engine", "podman").split()
    name = proof_question.text
    argv = [*engine, "container", "inspect", "--format", "{{.State.Pid}}", name]
    try:
        process = await asyncio.create_subprocess_exec(
            *argv,
            stdin=asyncio.subprocess.DEVNULL,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.DEVNULL,
            env=child_environment(),
        )
    except OSError as fault:
        words = f"cannot run {engine[0]}: {(fault.strerror or '').lower()}"
        raise ExternalError(
            words, hint="install it, or name it: {engine: …}", location=proof_question.proof.location, code="engine"
        ) from None
    out, _ = await process.communicate()
    pid = out.decode().strip()
    if process.returncode or not pid.isdigit() or pid == "0":
        raise NoAnswer(f"the container {name} is not running")
    return of_environments(proof_question.proof, [environment_of(int(pid), proof_question)])
