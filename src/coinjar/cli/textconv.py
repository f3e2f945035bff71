"""`coinjar textconv`."""

from __future__ import annotations

from typing import Annotated

import typer

from coinjar.cli.common import JarOption, open_here
from coinjar.cli.opening import print_status
from coinjar.core.errors import UsageError


def run(
    ctx: typer.Context,
    path: Annotated[str | None, typer.Argument(metavar="[FILE]", help="A file of encrypted values (.coins).")] = None,
    setup: Annotated[
        bool, typer.Option("--setup", help="Let `git diff` and `git log -p` show such files by this command, here.")
    ] = False,
    jar: JarOption = None,
) -> None:
    """Print a file of encrypted values as text for a comparison: names, masked lengths, tags that equal values share.

    --setup writes jar/.gitattributes, which you commit, and this repository's own configuration, once per clone.
    """
    from pathlib import Path

    from coinjar.actions.secrets.readable_secrets import SecretsText, set_up, stage_of
    from coinjar.cli.tables import show
    from coinjar.jarfile.load import read_bytes
    from coinjar.system.version_control import set_text_conversion

    opened = open_here(ctx, jar)
    if setup == bool(path):
        raise UsageError("which file?", hint="name one, or use --setup")
    if setup:
        set_text_conversion(opened.folder)
        added = set_up(opened)
        print_status("git shows encrypted values as text now." + (" Commit jar/.gitattributes." if added else ""))
        return
    assert path is not None
    for line in SecretsText(opened, stage_of(Path(path))).lines(read_bytes(Path(path)), path):
        show(line)
