"""Write docs/reference.md from the program's own help: `make docs`. A test compares the two."""

from __future__ import annotations

import os
import subprocess
import sys
from importlib import import_module
from pathlib import Path

COINJAR = str(Path(sys.executable).parent / "coinjar")
HEAD = """# Reference

Made from the program's own help by `make docs`; a test compares the two.

Exit codes: 0 done, nothing to report · 1 findings, differences or no value · 2 wrong usage · 3 the jar or an input is
invalid · 4 a secret cannot be decrypted · 5 an external system failed · 130 interrupted. `within` returns the program's
own, 127 and 126 as shells do.
"""


def help_of(*command: str) -> str:
    """A command's help, 100 columns wide."""
    env = {"PATH": os.environ.get("PATH", ""), "COLUMNS": "100", "TERMINAL_WIDTH": "100", "LANG": "C.UTF-8"}
    return subprocess.run(
        [COINJAR, *command, "--help"], env=env, capture_output=True, text=True, check=True
    ).stdout.rstrip()


def reference() -> str:
    """The whole page."""
    from coinjar.cli.main import COMMANDS

    parts = [HEAD, f"```text\n{help_of()}\n```\n"]
    for name in COMMANDS:
        parts.append(f"## {name}\n\n```text\n{help_of(name)}\n```\n")
        members = getattr(import_module(f"coinjar.cli.{name}"), "COMMANDS", ())
        parts += [f"### {name} {member}\n\n```text\n{help_of(name, member)}\n```\n" for member in members]
    parts += ["## Library\n", *library(), ""]
    return "\n".join(parts)


def library() -> list[str]:
    """A line for each public name, from its docstring."""
    import coinjar

    return [
        f"- `coinjar.{name}`: {(getattr(coinjar, name).__doc__ or '').strip().splitlines()[0]}"
        for name in coinjar.__all__
    ]


if __name__ == "__main__":
    sys.stdout.write(reference())
