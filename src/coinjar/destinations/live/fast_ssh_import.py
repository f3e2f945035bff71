"""Import asyncssh without the programs that it runs for this.

It looks for two libraries that it can do without: of ciphers and key exchanges that OpenSSH offers besides those which
asyncssh has itself. Looking for them runs ldconfig, a compiler and a linker, which takes a third of its import (see
docs/decisions.md).
"""

from __future__ import annotations

import ctypes.util
import sys


def import_asyncssh() -> None:
    """Import asyncssh quickly, for later `import asyncssh`. Does nothing if it is already imported."""
    if "asyncssh" in sys.modules:
        return
    find_library = ctypes.util.find_library
    ctypes.util.find_library = lambda name: None  # noqa: ARG005 - for the next line only
    try:
        import asyncssh  # noqa: F401 - for what it leaves behind
    finally:
        ctypes.util.find_library = find_library
