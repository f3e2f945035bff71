"""`python -m coinjar`, and the console script."""

from __future__ import annotations

import gc
import sys

from coinjar import __version__


def run() -> None:
    """Run the program and end with its exit code. Control-C ends it with 130, also while it is being imported."""
    if sys.argv[1:] == ["--version"]:  # scripts ask for it often: five times as fast without the rest of the program
        try:
            sys.stdout.write(f"coinjar {__version__}\n")
            sys.stdout.flush()
        except OSError:
            pass  # told below
        else:
            return
    try:
        code = _code()
    except KeyboardInterrupt:
        code = 130
    gc.freeze()  # else Python looks through everything once more before it ends
    sys.exit(code)


def _code() -> int:
    if "within" in (sys.argv[1:2] if sys.argv[1:2] != ["--jar"] else sys.argv[3:4]):
        from coinjar.cli.direct_start import start_directly

        if (code := start_directly(sys.argv[1:])) is not None:
            return code
    from coinjar.cli.main import main

    return main()


if __name__ == "__main__":
    run()
