"""Import PyYAML in half the time.

A third of its import compiles patterns that only its pure Python reader and its typed loaders use, neither of which is
used here. So during the import, patterns are replaced by objects that compile on first use (see docs/decisions.md).
"""

from __future__ import annotations

import re
import sys
from typing import Any


class _LazyPattern:
    """A pattern that is compiled on first use."""

    def __init__(self, *given: Any) -> None:  # noqa: ANN401 - whatever `re.compile` takes
        self._given = given

    def __getattr__(self, name: str) -> Any:  # noqa: ANN401 - whatever a pattern has
        return getattr(re.compile(*self._given), name)  # which caches what it compiled


def import_yaml() -> None:
    """Import yaml quickly, for later `import yaml`. Does nothing if it is already imported."""
    if "yaml" in sys.modules:
        return
    compile_now = re.compile
    re.compile = _LazyPattern  # type: ignore[assignment]  # for the next line only
    try:
        import yaml  # noqa: F401 - for what it leaves behind
    finally:
        re.compile = compile_now
