"""`process:PID` and `container:NAME`: what a running program was started with."""

from __future__ import annotations

import json
import subprocess

from coinjar.core.errors import ExternalError, Location, UsageError
from coinjar.dialects.base import ReadItem, ReadRemark, ReadResult
from coinjar.sources.base import SourceContext, SourceVariables, surprises
from coinjar.system.child_environment import child_environment
from coinjar.system.processes import environment_of


def read_process(pid: str, dialect: str, context: SourceContext) -> SourceVariables:
    """`process:PID`. Raises UsageError for what is no number, ExternalError if it cannot be read."""
    del context
    _refuse_dialect("process:PID", dialect)
    if not pid.isascii() or not pid.isdigit():
        raise UsageError(
            f"'{pid}' is no process number", hint="write process:PID; `pgrep -f WORDS` finds it", code="unknown-source"
        )
    label = f"process:{pid}"
    return _source(label, "process", "as it was started", _of_process(int(pid), label), {})


def read_container(name: str, dialect: str, context: SourceContext) -> SourceVariables:
    """`container:NAME`, of podman: its first process; what its image sets by itself is left out, but for what the jar declares.

    Raises UsageError, ExternalError.
    """
    known = context.jar.variables if context.jar else {}
    _refuse_dialect("container:NAME", dialect)
    if name.startswith("-") or not name:
        raise UsageError(
            f"'{name}' is no container", hint="write container:NAME; `podman ps` lists them", code="unknown-source"
        )
    label = f"container:{name}"
    pid, image = _podman(["container", "inspect", "--format", "{{.State.Pid}} {{.Image}}", name], label).split()
    if pid == "0":
        raise ExternalError(
            "the container does not run",
            hint="start it, or adopt image:NAME for the image's own defaults",
            location=Location(label),
            code="podman",
        )
    defaults = json.loads(_podman(["image", "inspect", "--format", "{{json .Config.Env}}", image], label)) or []
    by_image = {name: text for name, _, text in (default.partition("=") for default in defaults) if name not in known}
    return _source(label, "container", "its first process", _of_process(int(pid), label), by_image)


def _of_process(pid: int, label: str) -> dict[str, str]:
    try:
        return environment_of(pid)
    except (FileNotFoundError, ProcessLookupError):
        raise ExternalError(
            "there is no such process",
            hint="is it the number of now? `pgrep -f WORDS` finds it",
            location=Location(label),
            code="process",
        ) from None
    except PermissionError:
        raise ExternalError(
            "its environment is its owner's",
            hint="ask as that user, or as root",
            location=Location(label),
            code="not-ours",
        ) from None


def _source(label: str, kind: str, why: str, result: dict[str, str], defaults: dict[str, str]) -> SourceVariables:
    own = [name for name, text in result.items() if defaults.get(name) == text]
    items = [ReadItem(name, text, Location(label)) for name, text in result.items() if name not in own]
    remarks = surprises(items)
    told = (
        [
            ReadRemark(
                Location(label),
                f"left out: {', '.join(own)}: the image sets {'it' if len(own) == 1 else 'them'} by itself",
            )
        ]
        if own
        else []
    )
    return SourceVariables(label, kind, why, ReadResult(items, [*told, *remarks]))


def _podman(arguments: list[str], label: str) -> str:
    try:
        done = subprocess.run(["podman", *arguments], capture_output=True, check=False, env=child_environment())  # noqa: S603, S607 - fixed words; a name cannot be an option
    except OSError:
        raise ExternalError(
            "there is no podman to ask",
            hint="install podman, or adopt process:PID",
            location=Location(label),
            code="podman",
        ) from None
    if done.returncode:
        words = done.stderr.decode(errors="replace").strip().split("\n")[-1].removeprefix("Error: ")
        raise ExternalError(
            f"podman cannot show it: {words}",
            hint="`podman ps` lists what runs",
            location=Location(label),
            code="podman",
        )
    return done.stdout.decode(errors="replace")


def _refuse_dialect(form: str, dialect: str) -> None:
    if dialect:
        raise UsageError(f"{form} takes no dialect", hint=f"write {form}", code="unknown-source")
