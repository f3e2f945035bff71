"""`python -m coinjar`, and the console script."""

from __future__ import annotations

import sys

from coinjar.cli.main import main


def run() -> None:
    """Run the program and end with its exit code."""
    sys.exit(main())


if __name__ == "__main__":
    run()
