"""`coinjar within`."""

import os
from typing import Annotated

import typer

from coinjar.cli.common import (
    ByDefaultOption,
    JarOption,
    ServiceOption,
    StageArgument,
    WithOption,
    open_here,
    print_by_default,
    print_status,
    resolved,
)


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
    jar: JarOption = None,
) -> None:
    """Run a program with a service's variables: it replaces this process, so pid, signals and exit code are its own.

    The identity is not passed on. Exit code 127 if there is no such program, 126 if it cannot be executed. No shell is
    involved.
    """
    from coinjar.actions.output.exec_program import environment, exec_program

    resolver, resolution = resolved(open_here(ctx, jar), stage, service, with_)
    if by_default:
        print_by_default(resolver, resolution.service)
    env = environment(resolution, os.environ, bare=bare)
    if not mask:
        exec_program(command, env)
    from coinjar.actions.output.masked_run import run_masked, secrets_of, too_short

    if names := too_short(resolution):
        print_status(f"coinjar: too short to mask: {', '.join(names)}")
    raise typer.Exit(run_masked(command, env, secrets_of(resolution)))
