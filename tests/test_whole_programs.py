"""Mentions in whole programs, as people write them: written after the readers, and without looking at what these can
do.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.labelled import Snippet, found_in, unmarked

PROGRAMS = Path(__file__).parent / "mentions/programs"


@pytest.mark.parametrize("file", sorted(path.name for path in PROGRAMS.iterdir()))
def test_a_program_is_read_as_a_person_reads_it(file: str) -> None:
    program, labels = unmarked((PROGRAMS / file).read_text(encoding="utf-8"))
    names = {item for item in found_in(Snippet("", file, file, program, frozenset(labels))) if item[1] != "?"}
    assert sorted(map(str, names - set(labels))) == []
    assert sorted(map(str, set(labels) - names)) == []
