"""`coinjar demo`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from coinjar.core.errors import UsageError


def run(
    keep: Annotated[
        Path | None,
        typer.Option(
            "--keep",
            metavar="DIR",
            help="Keep the example in this folder, which must be new or empty. Default: a temporary folder, removed at "
            "the end.",
        ),
    ] = None,
) -> None:
    """Run the whole example: adopt, inspect, correct, deliver, migrate, with real services.

    Prints every command it runs, checks the results, and cleans up. Exit code 1 if a check failed.
    """
    from coinjar.demo.walk import walk

    if keep is not None and keep.exists() and (not keep.is_dir() or any(keep.iterdir())):
        raise UsageError(f"{keep} is not empty", hint="name a folder that is new or empty")
    if walk(keep):
        raise typer.Exit(1)
