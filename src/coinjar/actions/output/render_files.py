"""Render file destinations: compute all files first, then show, verify or write."""

from __future__ import annotations

import stat
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from coinjar.actions.comparing.file_diffs import FileChange, difference
from coinjar.actions.delivery.selection import chosen, is_named
from coinjar.actions.open_jar import OpenJar
from coinjar.core.diagnostics import Diagnostic
from coinjar.core.display import Masker
from coinjar.core.errors import CoinJarError, InputError, Location, UsageError, raise_all
from coinjar.core.model import Destination, Resolved
from coinjar.core.progress import Progress, told
from coinjar.core.redaction import Redactor
from coinjar.destinations import make
from coinjar.destinations.base import Output, RenderNotice
from coinjar.destinations.stage_view import RenderContext, StageView
from coinjar.dialects.base import Entry
from coinjar.jarfile.load import read_bytes
from coinjar.jarfile.local_folder import locked
from coinjar.system.files import display_path, replace_file
from coinjar.system.version_control import OPEN, TRACKED, states

NEW, CHANGED, SAME = "new", "changed", "same"


class RenderedFile(NamedTuple):
    """One file, its destination and stage, and how it differs from the existing file."""

    destination: str
    stage: str
    output: Output
    state: str

    @property
    def path(self) -> Path:
        return self.output.path


class RenderPlan(NamedTuple):
    """The files, in the order of the destinations, and remarks."""

    files: list[RenderedFile]
    notices: list[RenderNotice]

    @property
    def out_of_date(self) -> list[RenderedFile]:
        return [file for file in self.files if file.state != SAME]


def plan(
    opened: OpenJar,
    stages: Sequence[str],
    names: Sequence[str],
    masker: Masker,
    *,
    move_up: bool = False,
    writes: bool = False,
    progress: Progress | None = None,
) -> RenderPlan:
    """Return the files. Raises every fault of every destination at once.

    A person's own values are excluded, as in a delivery.
    """
    jar = opened.load(list(stages))
    render_context = RenderContext(jar, opened.folder, masker, opened.ring, opened.gate, move_up=move_up, writes=writes)
    resolvers = {stage: opened.resolver(stage, jar=jar) for stage in stages}
    usual: dict[Resolved, Entry] = {}
    faults: list[CoinJarError] = []
    files: dict[Path, RenderedFile] = {}
    notices: list[RenderNotice] = []
    for stage, destination in told(chosen(jar, stages, names, live=False), "destinations", progress):
        try:
            instance = make(destination, render_context)
            outputs = instance.outputs(StageView(resolvers[stage], destination, usual=usual))
        except CoinJarError as fault:
            for error in fault.each():
                if error.code == "cannot-carry":  # one of several destinations may fail
                    error.message = f"{destination.name} on {stage}: {error.message}"
                faults.append(error)
            continue
        render_context.pending |= {output.path: output.data for output in outputs}
        notices += instance.notices
        faults += overwritten(opened, render_context, destination, stage, outputs) if not instance.names_stage else []
        for output in outputs:
            other = files.pop(output.path, None)
            if other is not None and not output.merges and other.output.data != output.data:
                faults.append(_collision(other, destination, stage, output))
            whole = _together(other.output, output) if other is not None else output
            files[output.path] = RenderedFile(destination.name, stage, whole, state_of(whole))
    raise_all(list({str(error): error for error in faults}.values()))
    notices += secrets_in_the_open(list(files.values()))
    return RenderPlan(list(files.values()), list(dict.fromkeys(notices)))


def _together(before: Output, output: Output) -> Output:
    """Return what two destinations, or stages, write to one file: it contains the secrets of both."""
    return output._replace(
        secret=before.secret or output.secret,
        program=before.program or output.program,
        hidden=lambda data: {**before.hidden(data), **output.hidden(data)},
    )


def overwritten(
    opened: OpenJar, render_context: RenderContext, destination: Destination, stage: str, outputs: Sequence[Output]
) -> list[CoinJarError]:
    """Return why the files of a stage are refused: another stage writes other content to the same paths, and the two
    overwrite each other.

    Another stage whose files cannot be computed here is not compared.
    """
    own = {output.path: output.data for output in outputs if not output.merges}
    jar = render_context.jar
    for other in (
        [name for name in jar.stage_names() if name != stage and is_named(jar, destination, name)] if own else ()
    ):
        alone = RenderContext(opened.load(), opened.folder, render_context.masker, opened.ring, opened.gate)
        try:
            there = make(destination, alone).outputs(StageView(opened.resolver(other, jar=alone.jar), destination))
        except CoinJarError:
            continue
        path = next(
            (
                output.path
                for output in there
                if output.path in own and not output.merges and own[output.path] != output.data
            ),
            None,
        )
        if path is not None:
            message = (
                f"{destination.name} writes {display_path(path)} for {stage} and for {other}, which overwrite each "
                "other"
            )
            hint = f"add {{stage}} to the path, or limit the destination (stages: [{stage}])"
            return [InputError(message, hint=hint, location=destination.location, code="collision")]
    return []


def _collision(other: RenderedFile, destination: Destination, stage: str, output: Output) -> InputError:
    whose = f"{other.destination} on {other.stage} and {destination.name} on {stage}"
    hint = (
        "add {stage} or {service} to the path"
        if other.destination == destination.name
        else "use a different path for each"
    )
    return InputError(
        f"{whose} would both write {display_path(output.path)}",
        hint=hint,
        location=destination.location,
        code="collision",
    )


def state_of(output: Output) -> str:
    """Return how a file differs from the existing one."""
    if not output.path.exists():
        return NEW
    mode = stat.S_IMODE(output.path.stat().st_mode)
    wide = output.secret and mode & 0o077
    return (
        SAME
        if read_bytes(output.path) == output.data and not wide and (not output.program or mode & 0o100)
        else CHANGED
    )


def secrets_in_the_open(files: list[RenderedFile]) -> list[RenderNotice]:
    """Refuse a secret in a file that version control tracks; warn where it could be added."""
    secret = [file for file in files if file.output.secret]
    known = states([file.path for file in secret]) if secret else {}
    hint = "exclude secrets (plain_only: true), write a reference (secrets: …), or untrack the file"
    tracked = [file for file in secret if known[file.path] == TRACKED]
    raise_all(
        [
            InputError(
                f"{file.destination} would write a secret to a file that version control tracks",
                hint=hint,
                location=Location(display_path(file.path)),
                code="secret-tracked",
            )
            for file in tracked
        ]
    )
    fix = "add it to .gitignore"
    return [
        RenderNotice(
            "CJ022",
            Diagnostic(
                "this file will contain a secret, but version control does not ignore it",
                fix,
                Location(display_path(file.path)),
            ),
        )
        for file in secret
        if known[file.path] == OPEN
    ]


def write(
    opened: OpenJar,
    stages: Sequence[str],
    names: Sequence[str],
    masker: Masker,
    *,
    move_up: bool = False,
    progress: Progress | None = None,
) -> RenderPlan:
    """Write what is out of date, each file whole, under the jar's lock. Nothing is written if anything is wrong."""
    with locked(opened.folder):
        planned = plan(opened, stages, names, masker, move_up=move_up, writes=True, progress=progress)
        for file in planned.out_of_date:
            replace_file(
                file.path,
                file.output.data,
                mode=0o777 & ~0o022 if file.output.program else None,
                private=file.output.secret,
            )
            if file.output.program:
                path = Path(file.path)
                path.chmod(stat.S_IMODE(path.stat().st_mode) | 0o100)
    return planned


def shown_difference(file: RenderedFile, redactor: Redactor) -> Iterator[str]:
    """Return a unified diff from the existing file to the new one, secrets masked."""
    old = read_bytes(file.path) if file.path.exists() else b""
    new = file.output.data
    shown = display_path(file.path)
    if old == new:
        yield f"{shown}: only its mode changes: " + (
            "only its owner may read it" if file.output.secret else "it is executable"
        )
        return
    yield from difference(
        FileChange(old, new, shown if file.state != NEW else "/dev/null", shown), file.output.hidden, redactor
    )


def stale(opened: OpenJar, stages: Sequence[str], names: Sequence[str], masker: Masker, keep: int | None) -> list[Path]:
    """Return the files of objects that no manifest refers to any more, except the newest few of each series."""
    from coinjar.destinations.capabilities import KeepsEarlierObjects

    jar = opened.load(list(stages))
    render_context = RenderContext(jar, opened.folder, masker, opened.ring, opened.gate)
    created = [
        (stage, make(destination, render_context)) for stage, destination in chosen(jar, stages, names, live=False)
    ]
    wanted = [(stage, destination) for stage, destination in created if isinstance(destination, KeepsEarlierObjects)]
    if not wanted:
        raise UsageError(
            "none of these destinations keeps earlier objects",
            hint="--stale applies to the type manifests",
            code="no-manifests",
        )
    return [path for stage, destination in wanted for path in destination.stale(stage, keep)]
