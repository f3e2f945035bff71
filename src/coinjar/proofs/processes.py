"""`process` and `container`: the environment that a running process was started with (proc(5), /proc/PID/environ)."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator

from coinjar.core.errors import ExternalError, InputError
from coinjar.core.patterns import search
from coinjar.proofs.base import NoAnswer, ProofAnswers, ProofQuestion, of_environments
from coinjar.proofs.declared_acts import engine_of
from coinjar.system import processes
from coinjar.system.files import read_file


def environment_of(pid: int, proof_question: ProofQuestion) -> dict[str, str]:
    """Return a process's environment at its start. Raises NoAnswer, ExternalError."""
    try:
        return processes.environment_of(pid)
    except (FileNotFoundError, ProcessLookupError):
        raise NoAnswer(f"there is no process {pid}") from None
    except TimeoutError:
        raise NoAnswer(f"process {pid} does not start") from None
    except PermissionError:
        message = f"the environment of process {pid} is readable only by its owner"
        raise ExternalError(
            message, hint="run it as that user, or as root", location=proof_question.proof.location, code="not-ours"
        ) from None


def _listening(port: int) -> Iterator[int]:
    """Yield the processes that listen on a TCP port; those of other users are not visible."""
    import psutil

    for connection in psutil.net_connections("tcp"):
        address = connection.laddr
        if connection.status == psutil.CONN_LISTEN and address and address.port == port and connection.pid:
            yield connection.pid


def _running(pattern: str) -> Iterator[int]:
    """Yield the processes whose command line, words joined by spaces, matches a pattern."""
    import psutil

    re.compile(pattern)
    for process in psutil.process_iter(["cmdline"]):
        command = " ".join(process.info["cmdline"] or [])
        if process.pid != os.getpid() and command and search(pattern, command):
            yield process.pid


def _chosen(proof_question: ProofQuestion) -> list[int]:
    proof_question.require_consent()
    (how, text), *_ = proof_question.question.items()
    if how == "pid_file":
        path = proof_question.local_path(text)
        try:
            return [int(read_file(path, most=64).strip())]
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
        message = f"nothing listens on port {text}"
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
        message = f"no running process matches {text}"
    if not result:
        raise NoAnswer(message)
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

    proof_question.require_consent()
    engine = engine_of(proof_question.question)
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
        message = f"cannot run {engine[0]}: {(fault.strerror or '').lower()}"
        raise ExternalError(
            message, hint="install it, or name it: {engine: …}", location=proof_question.proof.location, code="engine"
        ) from None
    out, _ = await process.communicate()
    pid = out.decode().strip()
    if process.returncode or not pid.isdigit() or pid == "0":
        raise NoAnswer(f"the container {name} is not running")
    return of_environments(proof_question.proof, [environment_of(int(pid), proof_question)])
