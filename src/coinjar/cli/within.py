"""`coinjar within`."""

import os
from typing import Annotated

import typer

from coinjar.cli.common import (
    CommandsOption,
    JarOption,
    ServiceOption,
    StageArgument,
    WithOption,
    open_here,
    print_status,
    resolved,
)


def run(
    ctx: typer.Context,
    stage: StageArgument,
    command: Annotated[
        list[str], typer.Argument(metavar="-- CMD [ARGUMENT...]", help="The program and its arguments, behind --.")
    ],
    service: ServiceOption = None,
    with_: WithOption = None,
    bare: Annotated[
        bool,
        typer.Option(
            "--bare",
            help="Start from an empty environment: only PATH, HOME, USER, LOGNAME, SHELL, TERM, TZ, TMPDIR, LANG, LC_ALL are kept.",
        ),
    ] = False,
    mask: Annotated[
        bool,
        typer.Option(
            "--mask",
            help="Replace secrets in the program's output, for logs: it is a child then, signals and exit code are passed on.",
        ),
    ] = False,
    allow_commands: CommandsOption = False,
    jar: JarOption = None,
) -> None:
    """Run a program with a service's variables: becomes it, so pid, signals and exit code are the program's own.

    The identity that opens secrets is not passed on. 127 if there is no such program, 126 if it cannot be run. Nothing passes through a shell.
    """
    from coinjar.actions.output.exec_program import environment, exec_program

    _, resolution = resolved(open_here(ctx, jar), stage, service, with_, allow_commands=allow_commands)
    env = environment(resolution, os.environ, bare=bare)
    if not mask:
        exec_program(command, env)
    from coinjar.actions.output.masked_run import run_masked, secrets_of, too_short

    if names := too_short(resolution):
        print_status(f"coinjar: too short to be masked: {', '.join(names)}")
    raise typer.Exit(run_masked(command, env, secrets_of(resolution)))
