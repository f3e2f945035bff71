"""A source tree to look through for mentions: 10,000 files in eleven languages, some with labelled snippets in them."""

from __future__ import annotations

import os
import random
from pathlib import Path

from tests.labelled import NAMES, Score, scores, snippets

FILES = 10_000
LONGEST = 1_000
"""Characters of a snippet; a whole program would take its language's share of the time."""
SHARE = 0.04
"""Of the files that mention any variable."""
_NOT_PARSED = "text of another version"
"""The snippet that today's Python does not parse: a search of it ends with another code."""
_LANGUAGES = ("python", "javascript", "typescript", "go", "java", "kotlin", "ruby", "php", "csharp", "rust", "shell")
_FILLING = {
    "python": (
        "def part_{n}(boats, piers):\n    total = boats * {n} + piers\n    return [total + one for one in "
        "range({n})]\n\n\n"
    ),
    "ruby": "def part_{n}(boats, piers)\n  total = boats * {n} + piers\n  [total].map {{ |one| one + {n} }}\nend\n\n",
    "shell": "# what part {n} is for\nprintf '%s\\n' 'part {n} of the tide table'\n",
    "javascript": "/* part {n} */ function part{n}(boats, piers) {{ let t = boats * {n} + piers; return [t, {n}]; }}\n",
    "typescript": (
        "function part{n}(boats: number, piers: number): number[] {{ const total = boats * {n} + piers; return [total, "
        "{n}]; }}\n"
    ),
    "java": "class Part{n} {{ int of(int boats, int piers) {{ int total = boats * {n} + piers; return total; }} }}\n",
    "kotlin": "fun part{n}(boats: Int, piers: Int): Int {{\n    val t = boats * {n} + piers\n    return t\n}}\n\n",
    "php": "<?php function part{n}($boats, $piers) {{ $total = $boats * {n} + $piers; return [$total, {n}]; }} ?>\n",
    "csharp": "class Part{n} {{ int Of(int boats, int piers) {{ var total = boats * {n} + piers; return total; }} }}\n",
    "rust": "fn part{n}(boats: u32, piers: u32) -> u32 {{\n    let total = boats * {n} + piers;\n    total\n}}\n\n",
    "go": "func part{n}(boats, piers int) int {{\n\ttotal := boats*{n} + piers\n\treturn total\n}}\n\n",
}


def code_tree(folder: Path) -> None:
    """Write the tree: files of 6 KB on average, as source files are."""
    rng = random.Random(6)
    by_language: dict[str, list[str]] = {}
    for snippet in [snippet for snippet in snippets() if snippet.title != _NOT_PARSED and len(snippet.text) < LONGEST]:
        by_language.setdefault(snippet.language, []).append(snippet.text)
    for number in range(FILES):
        language = rng.choice(_LANGUAGES)
        body = "".join(_FILLING[language].format(n=n) for n in range(rng.randint(10, 110)))
        start = rng.choice(by_language[language]) if rng.random() < SHARE else ""
        path = folder / f"part{number % 97}" / f"of{number % 7}" / f"file{number}{Path(NAMES[language]).suffix}"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(f"{start}\n{body}")
        os.utime(path, (1_700_000_000, 1_700_000_000))


def labels() -> tuple[dict[str, Score], Score]:
    """How well the labelled snippets are read: by language, and all of them."""
    result = scores()
    names = list(result.values())
    return result, Score(
        sum(score.labelled for score in names), sum(score.right for score in names), sum(score.wrong for score in names)
    )
