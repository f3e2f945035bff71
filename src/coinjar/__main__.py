"""`python -m coinjar`, and the console script."""

from __future__ import annotations

import gc
import sys


def run() -> None:
    """Run the program and end with its exit code. Control-C ends it with 130, also while it is being imported."""
    try:
        from coinjar.cli.main import main

        code = main()
    except KeyboardInterrupt:
        code = 130
    gc.freeze()  # else Python looks through everything once more before it ends
    sys.exit(code)


if __name__ == "__main__":
    run()
