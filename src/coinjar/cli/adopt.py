"""`coinjar adopt`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    LabelOption,
    ServicesOption,
    YesOption,
    counted,
    label_first_reader,
    layer_names,
    open_here,
    print_json,
)
from coinjar.cli.opening import print_status
from coinjar.cli.structure import DryRunOption, finish_plan
from coinjar.core.errors import UsageError
from coinjar.core.names import SHARED

if TYPE_CHECKING:
    from collections.abc import Iterable

    from coinjar.actions.editing.adopt import AdoptStep
    from coinjar.actions.open_jar import OpenJar
    from coinjar.sources.base import SourceVariables


def run(
    ctx: typer.Context,
    sources: Annotated[
        list[str],
        typer.Argument(
            metavar="SOURCE...",
            help="A file or another source; A,B are layers. Several: STAGE=SOURCE each.",
        ),
    ],
    stage: Annotated[
        str | None,
        typer.Option(
            "--stage",
            metavar="STAGE",
            autocompletion=layer_names,
            help="The stage to set the values on, or shared. Default: the source's own stages.",
        ),
    ] = None,
    service: ServicesOption = None,
    yes: YesOption = False,
    secret: Annotated[
        list[str] | None,
        typer.Option("--secret", metavar="NAME", help="This new variable is secret; may be repeated."),
    ] = None,
    plain: Annotated[
        list[str] | None,
        typer.Option("--plain", metavar="NAME", help="This new variable is not secret; may be repeated."),
    ] = None,
    references: Annotated[
        bool,
        typer.Option(
            "--references",
            help="Keep ${NAME} as a reference where the file builds a value from its other names. Default: asked for.",
        ),
    ] = False,
    every_name: Annotated[
        bool,
        typer.Option("--every-name", help="Also include standard variables such as PATH and HOME. Default: skip them."),
    ] = False,
    dry_run: DryRunOption = False,
    as_json: JsonOption = False,
    label: LabelOption = None,
    jar: JarOption = None,
) -> None:
    """Adopt variables from a file, an image, manifests or another source into a stage.

    Shows first what it will declare and set, with the inferred kinds and secrets, and the faults in the file.
    Adopting an edited file again brings only what differs.
    """
    from coinjar.actions.editing.adopt import LEFT_OUT, SAME, AdoptOptions, carry_out, plan

    opened = open_here(ctx, jar)
    label_first_reader(opened, label, yes=yes)
    services = list(dict.fromkeys(service or []))
    read = _read(opened, sources, stage, secret or [])
    settled_secret, settled_plain = list(secret or []), list(plain or [])

    def planned() -> list[AdoptStep]:
        return plan(opened, read, AdoptOptions(stage, services, every_name, references, settled_secret, settled_plain))

    asks = sys.stdin.isatty() and "-" not in sources and not yes and not as_json and not dry_run
    created = [item.name for item in read.reading.items if item.reference is not None]
    if created and asks and not references:
        references = typer.confirm(
            f"Keep the references in {', '.join(dict.fromkeys(created))}?", default=True, err=True
        )
    steps = planned()
    if asks:
        _settle(steps, settled_secret, settled_plain)
        steps = planned()
    stages = list(dict.fromkeys(step.stage for step in steps))
    if as_json:
        print_json(_as_json(read, steps))
    else:
        _show(read, steps, ", ".join(stages) or str(stage), services)
    _tell_other_cases(steps, opened.load().variables)
    if created and not references:
        print_status(
            f"{', '.join(dict.fromkeys(created))}: built from other names of the file; the result is adopted, "
            "--references keeps the references"
        )
    if all(step.action in (SAME, LEFT_OUT) for step in steps):
        print_status(f"Nothing to adopt: {_why_nothing(steps)}.")
        return
    finish_plan(dry_run=dry_run)
    if not yes and not (asks and typer.confirm("Write this?", err=True)):
        print_status("Nothing was written." + ("" if asks else " Add --yes to write it."))
        raise typer.Exit(1)
    for note in carry_out(opened, steps, again=planned):
        print_status(note)
    shown = next((name for name in stages if name != SHARED), "STAGE")
    print_status(f"Written. Next: `coinjar check`, and `coinjar why {shown} NAME` to explain a value.")


def _why_nothing(steps: list[AdoptStep]) -> str:
    from coinjar.actions.editing.adopt import SAME

    if not steps:
        return "the source contains no variables"
    if not any(step.action == SAME for step in steps):
        return "all variables are left out"
    return "the stage already has all values"


def _read(opened: OpenJar, words: list[str], stage: str | None, secret: list[str]) -> SourceVariables:
    """Return what one source contains, or several by stage. Raises UsageError for several with --stage."""
    from coinjar.sources import is_source, read_source

    jar = opened.load()
    first = words[0]
    is_one = stage is not None or "=" not in first or is_source(first.partition("=")[0]) or Path(first).exists()
    if len(words) == 1 and is_one:
        return read_source(words[0], opened.source_context(jar, stage))
    from coinjar.actions.editing.adopt_by_stage import combined, layer_of

    if stage is not None:
        raise UsageError(
            "--stage is for one source",
            hint="write STAGE=SOURCE for each of several; or A,B, if they are layers of one stage",
            code="usage",
        )
    given = [layer_of(jar, word) for word in words]
    read = [(layer, read_source(source, opened.source_context(jar, layer))) for layer, source in given]
    return combined(jar, read, secret)


def _as_json(source: SourceVariables, steps: list[AdoptStep]) -> dict[str, Any]:
    from coinjar.core.display import Masker

    masker = Masker()

    def shown(step: AdoptStep) -> dict[str, Any]:
        row: dict[str, Any] = {
            "name": step.name,
            "action": step.action,
            "stage": step.stage,
            "scope": step.scope,
            "kind": step.variable.kind,
            "secret": step.secret,
            "certain": step.guessed is None or step.guessed.is_certain,
            "value": None if step.secret or step.text is None else str(step.text),
            "old": None if step.secret or step.old is None else str(step.old),
            "reason": step.reason,
        }
        return row | ({"masked": masker.mask(step.text)} if step.secret and step.text is not None else {})

    return {"source": source.label, "read_as": source.dialect, "steps": [shown(step) for step in steps]}


def _settle(steps: list[AdoptStep], secret: list[str], plain: list[str]) -> None:
    """Ask whether uncertain ones are secret."""
    for name in dict.fromkeys(step.name for step in steps):
        step = next(step for step in steps if step.name == name)
        if step.guessed and not step.guessed.is_certain:
            is_secret = typer.confirm(
                f"Is {step.name} a secret? ({step.guessed.why})", default=step.guessed.secret, err=True
            )
            (secret if is_secret else plain).append(step.name)


def _tell_other_cases(steps: list[AdoptStep], declared: Iterable[str]) -> None:
    """Print which new names differ from declared ones only in case."""
    from coinjar.actions.editing.adopt import NEW
    from coinjar.core.names import same_but_for_case

    for name, other in same_but_for_case(dict.fromkeys(step.name for step in steps if step.action == NEW), declared):
        print_status(f"{name} is a new name, but {other} is declared: to a program they are two names")


def _show(source: SourceVariables, steps: list[AdoptStep], stage: str, services: list[str]) -> None:
    from coinjar.actions.editing.adopt import ADD, CHANGE, LEFT_OUT, NEW, SAME
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width
    from coinjar.core.display import Masker, visible

    masker = Masker()
    by_action = {
        action: [step for step in steps if step.action == action] for action in (NEW, ADD, CHANGE, SAME, LEFT_OUT)
    }
    whom = ", ".join([stage, *services])
    several = len({step.stage for step in steps}) > 1
    declared = len({step.name for step in by_action[NEW]})
    parts = [counted(declared, "new name")] if declared else []
    parts += [counted(len(by_action[ADD]), "new value")] if by_action[ADD] else []
    parts += [counted(len(by_action[CHANGE]), "other value")] if by_action[CHANGE] else []
    parts += [f"{len(by_action[SAME])} the same"] if by_action[SAME] else []
    parts += [f"{len(by_action[LEFT_OUT])} left out"] if by_action[LEFT_OUT] else []
    show(styled(f"{source.label} → {whom}: {', '.join(parts) or 'nothing in it'}", "bold"))
    another = " (use file+DIALECT:PATH for another)" if source.label.startswith("file") else ""
    show(f"read as {source.dialect}: {source.why}{another}")
    rows = []
    for step in [*by_action[NEW], *by_action[ADD], *by_action[CHANGE]]:
        text = "(unset)" if step.text is None else masker.show(step.text, secret=step.secret)
        if step.reference is not None:
            text = f"ƒ {visible(step.reference)}"
        if step.action == CHANGE:
            text = f"{masker.show(step.old or '', secret=step.secret)} → {text}"
        kind = "secret" if step.secret else step.variable.kind
        doubt = "?" if step.guessed and not step.guessed.is_certain else ""
        sign = {NEW: StyledText("+", "green"), ADD: StyledText("+", "green"), CHANGE: StyledText("≠", "yellow")}[
            step.action
        ]
        whose = [
            word
            for word in (
                step.stage if several else "",
                step.scope if step.scope != "all" and [step.scope] != services else "",
            )
            if word
        ]
        name = f"{step.name} ({', '.join(whose)})" if whose else step.name
        rows.append(
            [
                sign,
                StyledText(name, "bold"),
                StyledText(kind + doubt, "cyan"),
                StyledText(text + (f"  ({step.reason})" if step.reason else "")),
            ]
        )
    for row in (
        table(["", "variable", "kind", "value"], rows, least=[1, 16, 8, 20], width=terminal_width()) if rows else []
    ):
        show(row)
    if any(step.guessed and not step.guessed.is_certain for step in steps):
        print_status("'?' marks an uncertain guess: decide with --secret NAME or --plain NAME.")
    for reason in dict.fromkeys(step.reason for step in by_action[LEFT_OUT]):
        names = dict.fromkeys(step.name for step in by_action[LEFT_OUT] if step.reason == reason)
        print_status(f"left out: {', '.join(names)}: {reason}")
    if source.reading.remarks:
        print_status(f"\n{counted(len(source.reading.remarks), 'remark')} on {source.label}:")
    for remark in source.reading.remarks:
        print_status(f"  {remark.location}: {visible(remark.message)}")
    secrets = {step.name for step in steps if step.secret and step.action in (NEW, ADD, CHANGE)}
    if secrets and source.dialect != "jar":
        print_status(
            f"\n{counted(len(secrets), 'secret')} will be encrypted; the plain values remain in {source.label}, so "
            "keep it out of version control."
        )
