"""`coinjar value`."""

from __future__ import annotations

import sys

import typer

from coinjar.cli.common import (
    JarOption,
    NameArgument,
    SecretsOption,
    ServiceOption,
    StageArgument,
    WithOption,
    one_offs,
    open_here,
    print_status,
)
from coinjar.core.errors import UsageError


def run(
    ctx: typer.Context,
    stage: StageArgument,
    name: NameArgument,
    service: ServiceOption = None,
    with_: WithOption = None,
    show_secrets: SecretsOption = False,
    jar: JarOption = None,
) -> None:
    """Print one value, without a line break after it, for scripts.

    Exit code 1 if there is none: an empty value prints nothing, and exits with 0.
    """
    from coinjar.cli.service_choice import service_that_sees

    resolver = open_here(ctx, jar).resolver(stage, one_offs=one_offs(with_))
    variable = resolver.jar.variable(name)
    resolved = resolver.value(name, service_that_sees(resolver, variable, service))
    if resolved.fault:
        raise resolved.fault
    if resolved.text is None:
        print_status(f"{name} has no value on {stage}" + (": it is unset on purpose" if resolved.is_unset else ""))
        raise typer.Exit(1)
    terminal = sys.stdout.isatty()
    if resolved.secret and terminal and not show_secrets:
        raise UsageError(
            f"{name} is a secret, and stdout is a terminal",
            hint="add --show-secrets to see it; a pipe or a file gets it without",
        )
    sys.stdout.flush()
    sys.stdout.buffer.write(resolved.text.encode("utf-8", "surrogatepass"))
    sys.stdout.buffer.flush()
    if terminal:
        print()
