"""`coinjar demo`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from coinjar.core.errors import UsageError


def run(
    keep: Annotated[
        Path | None,
        typer.Option("--keep", metavar="DIR", help="Leave the example in this folder, which must be new or empty."),
    ] = None,
) -> None:
    """Walk through the whole job on a made-up example: adopt, look, mend, run two services for real.

    Prints every command it runs, checks what must hold, cleans up. Exit code 1 if anything did not hold.
    """
    from coinjar.demo.walk import walk

    if keep is not None and keep.exists() and (not keep.is_dir() or any(keep.iterdir())):
        raise UsageError(f"{keep} is not empty", hint="name a folder that is new or empty")
    if walk(keep):
        raise typer.Exit(1)
