"""`process:PID` and `container:NAME`: the environment that a running program was started with."""

from __future__ import annotations

import json
import subprocess

from coinjar.core.errors import ExternalError, Location, UsageError
from coinjar.dialects.base import ReadItem, ReadRemark, ReadResult
from coinjar.sources.base import SourceContext, SourceVariables, surprises
from coinjar.system.child_environment import child_environment
from coinjar.system.processes import environment_of


def read_process(pid: str, dialect: str, context: SourceContext) -> SourceVariables:
    """Read `process:PID`. Raises UsageError if it is not a number, ExternalError if it cannot be read."""
    del context
    _refuse_dialect("process:PID", dialect)
    if not pid.isascii() or not pid.isdigit():
        raise UsageError(
            f"'{pid}' is not a process number",
            hint="write process:PID; `pgrep -f WORDS` finds it",
            code="unknown-source",
        )
    label = f"process:{pid}"
    return _source(label, "process", "the environment at its start", _of_process(int(pid), label), {})


def read_container(name: str, dialect: str, context: SourceContext) -> SourceVariables:
    """Read `container:NAME`, of podman: its first process, without what its image sets, except for declared names.

    Raises UsageError, ExternalError.
    """
    known = context.jar.variables if context.jar else {}
    _refuse_dialect("container:NAME", dialect)
    if name.startswith("-") or not name:
        raise UsageError(
            f"'{name}' is not a container", hint="write container:NAME; `podman ps` lists them", code="unknown-source"
        )
    label = f"container:{name}"
    pid, image = _podman(["container", "inspect", "--format", "{{.State.Pid}} {{.Image}}", name], label).split()
    if pid == "0":
        raise ExternalError(
            "the container is not running",
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
            hint="check the number; `pgrep -f WORDS` finds it",
            location=Location(label),
            code="process",
        ) from None
    except TimeoutError:
        raise ExternalError(
            "it does not start",
            hint="try again once it runs",
            location=Location(label),
            code="process",
        ) from None
    except PermissionError:
        raise ExternalError(
            "its environment is readable only by its owner",
            hint="run it as that user, or as root",
            location=Location(label),
            code="not-ours",
        ) from None


def _source(label: str, kind: str, why: str, result: dict[str, str], defaults: dict[str, str]) -> SourceVariables:
    own = [name for name, text in result.items() if defaults.get(name) == text]
    items = [ReadItem(name, text, Location(label)) for name, text in result.items() if name not in own]
    remarks = surprises(items)
    remark = (
        [
            ReadRemark(
                Location(label),
                f"ignored: {', '.join(own)}, set by the image",
            )
        ]
        if own
        else []
    )
    return SourceVariables(label, kind, why, ReadResult(items, [*remark, *remarks]))


def _podman(arguments: list[str], label: str) -> str:
    try:
        # The words are fixed, and a name cannot be an option.
        argv = ["podman", *arguments]
        done = subprocess.run(argv, capture_output=True, check=False, env=child_environment())  # noqa: S603
    except OSError:
        raise ExternalError(
            "podman is not installed",
            hint="install podman, or adopt process:PID",
            location=Location(label),
            code="podman",
        ) from None
    if done.returncode:
        words = done.stderr.decode(errors="replace").strip().split("\n")[-1].removeprefix("Error: ")
        raise ExternalError(
            f"podman cannot inspect it: {words}",
            hint="`podman ps` lists running containers",
            location=Location(label),
            code="podman",
        )
    return done.stdout.decode(errors="replace")


def _refuse_dialect(form: str, dialect: str) -> None:
    if dialect:
        raise UsageError(f"{form} does not support a dialect", hint=f"write {form}", code="unknown-source")
