"""`coinjar render`."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

import typer

from coinjar.cli.common import CommandsOption, DialectOption, JarOption, SecretsOption, ServiceOption, StageArgument, WithOption, open_here, resolved, say
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from coinjar.actions.opening import Resolution


def run(
    ctx: typer.Context,
    stage: StageArgument,
    dialect: DialectOption = None,
    service: ServiceOption = None,
    with_: WithOption = None,
    show_secrets: SecretsOption = False,
    allow_commands: CommandsOption = False,
    jar: JarOption = None,
) -> None:
    """Write a service's variables to stdout in a dialect: posix, literal, dotenv, json, nul, exec-script, example.

    What goes in comes out of the real reader byte for byte, or is refused by name. On a terminal secrets are masked.
    """
    from coinjar.actions.opening import the_service
    from coinjar.actions.render import rendered, rendered_example
    from coinjar.dialects import BUILT_IN, get

    if dialect is None:
        raise UsageError("in which dialect?", hint=f"add --as: {', '.join(BUILT_IN)}")
    found = get(dialect)
    if dialect == "example":  # made from the declarations: a value may well be missing
        resolver = open_here(ctx, jar).resolver(stage)
        data = rendered_example(resolver, the_service(resolver.jar, service))
    else:
        resolver, resolution = resolved(ctx, jar, stage, service, with_, allow_commands=allow_commands)
        data = rendered(resolver.jar, _masked(resolution) if sys.stdout.isatty() and not show_secrets else resolution, found)
    sys.stdout.flush()
    sys.stdout.buffer.write(data)
    sys.stdout.buffer.flush()


def _masked(resolution: Resolution) -> Resolution:
    """The same for a terminal: a mask in every secret's place."""
    from coinjar.actions.opening import Resolution
    from coinjar.core.model import Resolved
    from coinjar.core.shown import Masker

    masker = Masker()
    shown = {
        name: Resolved(seen.variable, seen.written, masker.mask(seen.text), secret=True) if seen.secret and seen.text is not None else seen
        for name, seen in resolution.items()
    }
    say("coinjar: secrets are masked on a terminal (--show-secrets shows them; a pipe or a file gets them)")
    return Resolution(resolution.stage, resolution.service, shown)
