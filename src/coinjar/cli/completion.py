"""What Typer's completion of shells lacks."""

from __future__ import annotations

import os
from collections.abc import Sequence

from typer import _completion_shared

_FIRST_TAB = """
if [ "$funcstack[1]" = "_coinjar" ]; then
  _coinjar_completion "$@"
fi
"""
"""zsh reads the file at the first press of Tab, and would complete only at the second one."""


def prepare(words: Sequence[str]) -> None:
    """Let `--install-completion SHELL` take the shell that is named, instead of ignoring it; correct zsh's script."""
    if words:
        os.environ["_TYPER_COMPLETE_TEST_DISABLE_SHELL_DETECTION"] = "1"
    scripts = _completion_shared._completion_scripts
    if not scripts["zsh"].endswith(_FIRST_TAB):
        scripts["zsh"] += _FIRST_TAB
