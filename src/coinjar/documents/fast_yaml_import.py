"""Import PyYAML in half the time.

A third of its import goes into compiling patterns that only its pure Python reader and its typed loaders use, neither of
which runs here. So while it is imported, patterns are put off until they are first used (see docs/decisions.md).
"""

from __future__ import annotations

import re
import sys
from typing import Any


class _LazyPattern:
    """Stands for a compiled pattern, and becomes one when it is first asked for anything."""

    def __init__(self, *given: Any) -> None:  # noqa: ANN401 - whatever `re.compile` takes
        self._given = given

    def __getattr__(self, name: str) -> Any:  # noqa: ANN401 - whatever a pattern has
        return getattr(re.compile(*self._given), name)  # which keeps what it compiled


def import_yaml() -> None:
    """Make `import yaml` quick for those who come after. Does nothing if it has been imported."""
    if "yaml" in sys.modules:
        return
    compile_now = re.compile
    re.compile = _LazyPattern  # type: ignore[assignment]  # for the next line only
    try:
        import yaml  # noqa: F401 - for what it leaves behind
    finally:
        re.compile = compile_now
