"""What a newcomer may rely on in the source tree: unique class names, short modules, packages that introduce
themselves.
"""

from __future__ import annotations

import ast
from collections import defaultdict
from pathlib import Path

import pytest

pytestmark = pytest.mark.unit

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src/coinjar"
MODULES = {path: ast.parse(path.read_text()) for path in sorted(SOURCE.rglob("*.py")) if "app" not in path.parts}


def test_a_class_name_is_used_once() -> None:
    places = defaultdict(list)
    for path, tree in MODULES.items():
        for node in ast.walk(tree):
            if isinstance(node, ast.ClassDef):
                places[node.name].append(f"{path.relative_to(SOURCE)}:{node.lineno}")
    assert {name: lines for name, lines in places.items() if len(lines) > 1} == {}


def test_modules_and_lines_are_short() -> None:
    paths = [path for folder in ("src", "tests", "bench", "tools") for path in sorted((ROOT / folder).rglob("*.py"))]
    lines = {str(path.relative_to(ROOT)): path.read_text().splitlines() for path in paths if "app" not in path.parts}
    assert {name: len(content) for name, content in lines.items() if len(content) >= 400} == {}
    assert [
        (name, number) for name, content in lines.items() for number, line in enumerate(content, 1) if len(line) > 120
    ] == []


def test_every_module_and_package_has_a_docstring() -> None:
    assert [str(path.relative_to(SOURCE)) for path, tree in MODULES.items() if not ast.get_docstring(tree)] == []
