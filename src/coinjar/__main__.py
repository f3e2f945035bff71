"""`python -m coinjar`, and the console script."""

from __future__ import annotations

import gc
import sys

from coinjar.cli.main import main


def run() -> None:
    """Run the program and end with its exit code."""
    code = main()
    gc.freeze()  # else Python looks through everything once more before it ends
    sys.exit(code)


if __name__ == "__main__":
    run()
