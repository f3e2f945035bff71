"""`coinjar edit`."""

from __future__ import annotations

import os
import shlex
import signal
import subprocess
import sys
from pathlib import Path
from shutil import which
from typing import Annotated

import typer

from coinjar.cli.common import JarOption, LabelOption, label_first_reader, layer_names, open_here
from coinjar.cli.opening import print_status
from coinjar.core.errors import CoinJarError, ExternalError, UsageError
from coinjar.system.child_environment import child_environment

# What vim and similar editors write beside the file, or into the user's own folder: none of it.
_TRACELESS = ["-n", "-i", "NONE", "-c", "set nobackup nowritebackup noundofile"]


def run(
    ctx: typer.Context,
    stage: Annotated[str, typer.Argument(metavar="STAGE", autocompletion=layer_names, help="The stage, or shared.")],
    label: LabelOption = None,
    jar: JarOption = None,
) -> None:
    """Edit a stage's plain and secret values together, in your editor (VISUAL, EDITOR, or vi).

    The text is in memory only. Changes are checked, encrypted and written, everything else keeps its bytes; a faulty
    text can be edited again.
    """
    from coinjar.actions.editing.edit_buffer import edit_stage
    from coinjar.cli.main import print_error
    from coinjar.system.memory_files import private_file

    opened = open_here(ctx, jar)
    label_first_reader(opened, label)
    with private_file(f"{stage}.yaml") as path:

        def edited(text: str) -> str:
            path.write_bytes(text.encode("utf-8", "surrogatepass"))
            _run_editor(path)
            return path.read_bytes().decode("utf-8", "replace")

        def again(fault: CoinJarError) -> bool:
            if not sys.stdin.isatty():
                return False
            print_error(fault)
            return typer.confirm("Nothing was written yet. Edit again?", default=True, err=True)

        done = edit_stage(opened, stage, f"{stage}.yaml", edited, again)
    for note in done.notes:
        print_status(note)
    messages = [f"encrypted: {', '.join(done.sealed)}"] if done.sealed else []
    messages += [f"dropped: {', '.join(done.dropped)}"] if done.dropped else []
    messages += ["plain values changed"] if done.plain_changed else []
    print_status(f"{stage}: {'; '.join(messages) or 'nothing changed'}")


def _run_editor(path: Path) -> None:
    try:
        words = shlex.split(os.environ.get("VISUAL") or os.environ.get("EDITOR") or "vi") or ["vi"]
    except ValueError:
        raise UsageError(
            "EDITOR (or VISUAL) has a quote that is not closed", hint="set it to a program and its options"
        ) from None
    if Path(which(words[0]) or words[0]).resolve().name.startswith(("vim", "nvim")):  # the name of `vi` on this machine
        words += _TRACELESS
    env = child_environment() | {"TMPDIR": str(path.parent)}
    # Control-C is for the editor: a handler of ours (not SIG_IGN, which it would inherit) keeps this process running
    # meanwhile.
    before = signal.signal(signal.SIGINT, lambda *_: None)
    try:
        # The user's own editor.
        code = subprocess.run([*words, str(path)], env=env, check=False).returncode  # noqa: S603
    except OSError as fault:
        raise ExternalError(
            f"cannot start the editor {words[0]}: {(fault.strerror or '').lower()}", hint="set EDITOR", code="editor"
        ) from None
    finally:
        signal.signal(signal.SIGINT, before)
    if code:
        raise ExternalError(
            f"the editor ended with {code}, so nothing was changed", hint="leave it normally to save", code="editor"
        )
