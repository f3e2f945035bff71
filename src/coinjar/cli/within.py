"""`coinjar within`."""

import os
import sys
from typing import TYPE_CHECKING, Annotated

import typer

from coinjar.cli.common import (
    ByDefaultOption,
    JarOption,
    ServiceOption,
    StageArgument,
    WithOption,
    open_here,
    print_by_default,
)
from coinjar.cli.opening import print_status, resolved

if TYPE_CHECKING:
    from coinjar.actions.open_jar import OpenJar, Resolution
    from coinjar.actions.output.watched_run import WatchedValues


def run(
    ctx: typer.Context,
    stage: StageArgument,
    command: Annotated[
        list[str], typer.Argument(metavar="-- CMD [ARGUMENT...]", help="The program and its arguments, after --.")
    ],
    service: ServiceOption = None,
    with_: WithOption = None,
    bare: Annotated[
        bool,
        typer.Option(
            "--bare",
            help="Start from an empty environment, keeping only PATH, HOME, USER, LOGNAME, SHELL, TERM, TZ, TMPDIR, "
            "LANG, LC_ALL. Default: inherit all.",
        ),
    ] = False,
    by_default: ByDefaultOption = False,
    mask: Annotated[
        bool,
        typer.Option(
            "--mask",
            help="Mask secrets in the program's output, for logs: it runs as a child process; signals and "
            "exit code are passed on.",
        ),
    ] = False,
    watch: Annotated[
        bool, typer.Option("--watch", help="Restart the program when a value that it gets changes; for development.")
    ] = False,
    jar: JarOption = None,
) -> None:
    """Run a program with a service's variables: it replaces this process, so pid, signals and exit code are its own.

    The identity is not passed on. Exit code 127 if there is no such program, 126 if it cannot be executed. No shell is
    involved.
    """
    from coinjar.actions.output.exec_program import environment, exec_program

    opened = open_here(ctx, jar)
    resolver, resolution = resolved(opened, stage, service, with_)
    if by_default:
        print_by_default(resolver, resolution.service)
    env = environment(resolution, os.environ, bare=bare)
    if not mask and not watch:
        exec_program(command, env)
    from coinjar.actions.output.masked_run import run_masked, secrets_of, too_short

    if mask and (names := too_short(resolution)):
        print_status(f"coinjar: too short to mask: {', '.join(names)}")
    if watch:
        raise typer.Exit(_watched(opened, command, resolution, with_, bare=bare, mask=mask))
    raise typer.Exit(run_masked(command, env, secrets_of(resolution)))


def _watched(
    opened: "OpenJar",
    command: list[str],
    resolution: "Resolution",
    given: list[str] | None,
    *,
    bare: bool,
    mask: bool,
) -> int:
    from coinjar.actions.output.exec_program import environment
    from coinjar.actions.output.masked_run import secrets_of
    from coinjar.actions.output.watched_run import WatchedValues, deciding_files, run_watched
    from coinjar.cli.opening import one_offs

    def values(resolution: "Resolution") -> "WatchedValues":
        return WatchedValues(
            environment(resolution, os.environ, bare=bare),
            secrets_of(resolution) if mask else None,
            deciding_files(opened.folder, resolution),
        )

    def load() -> "WatchedValues":
        chosen = one_offs(given)
        return values(opened.resolve(resolution.stage, service=resolution.service, one_offs=chosen, mine=True))

    return run_watched(
        command, values(resolution), load, lambda text: print_status(f"coinjar: {text}"), waits=sys.stderr.isatty()
    )
