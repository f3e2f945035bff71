"""Files of values read in a second process, where a jar has many."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import cache
from itertools import repeat
from pathlib import Path
from typing import TypeAlias

from coinjar.core.definition import Content, Definition
from coinjar.core.errors import CoinJarError
from coinjar.core.model import Layer
from coinjar.system.second_process import beside

_Columns: TypeAlias = tuple[list[str], list[Content], list[int], list[int]]
"""Names, contents, lines and columns of a scope: objects of ours would take longer to pass on than to make."""


def read_beside(files: Mapping[str, Path], read: Callable[[Path], tuple[str, Layer]]) -> Callable[[], dict[str, Layer]]:
    """Start to read these layers' files; `read` returns a file's name as shown and its layer. Return what waits for the
    layers: not for those whose file has a fault, which is raised when the file is read again.
    """

    def work() -> dict[str, tuple[str, dict[str, _Columns]]]:
        result = {}
        for layer, path in files.items():
            try:
                file, scopes = read(path)
            except CoinJarError:
                continue
            result[layer] = file, {scope: _columns(scopes[scope]) for scope in scopes}
        return result

    wait = beside(work)

    @cache
    def layers() -> dict[str, Layer]:
        return {
            layer: {scope: _definitions(file, columns) for scope, columns in scopes.items()}
            for layer, (file, scopes) in wait().items()
        }

    return layers


def _columns(scope: Mapping[str, Definition]) -> _Columns:
    values = scope.values()
    return (
        list(scope),
        [value.content for value in values],
        [value.line for value in values],
        [value.column for value in values],
    )


def _definitions(file: str, columns: _Columns) -> dict[str, Definition]:
    names, contents, lines, starts = columns
    return dict(zip(names, map(Definition, contents, repeat(file), lines, starts), strict=True))
