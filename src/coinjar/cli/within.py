"""`coinjar within`."""

import os
from typing import Annotated

import typer

from coinjar.cli.common import CommandsOption, JarOption, ServiceOption, StageArgument, WithOption, resolved


def run(
    ctx: typer.Context,
    stage: StageArgument,
    command: Annotated[list[str], typer.Argument(metavar="-- CMD [ARGUMENT...]", help="The program and its arguments, behind --.")],
    service: ServiceOption = None,
    with_: WithOption = None,
    bare: Annotated[
        bool, typer.Option("--bare", help="Start from an empty environment: only PATH, HOME, USER, LOGNAME, SHELL, TERM, TZ, TMPDIR, LANG, LC_ALL are kept.")
    ] = False,
    allow_commands: CommandsOption = False,
    jar: JarOption = None,
) -> None:
    """Run a program with a service's variables: becomes it, so pid, signals and exit code are the program's own.

    127 if there is no such program, 126 if it cannot be run. Nothing passes through a shell.
    """
    from coinjar.actions.within import become, environment

    _, resolution = resolved(ctx, jar, stage, service, with_, allow_commands=allow_commands)
    become(command, environment(resolution, os.environ, bare=bare))
