"""What a person sees on a terminal: messages that fit it, and a bar for what takes long."""

from __future__ import annotations

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from coinjar.cli import progress
from coinjar.cli.tables import wrapped_words
from tests.conftest import Coinjar, on_a_terminal

pytestmark = pytest.mark.unit
WORDS = st.lists(
    st.sampled_from(["a", "jar.yaml:3:1:", "warning", "`coinjar put A=… --stage prod`", "`x`,", "long-" * 12, "…"]),
    min_size=1,
    max_size=30,
)


@given(WORDS, st.integers(40, 120))
def test_lines_fit_and_commands_stay_whole(words: list[str], room: int) -> None:
    text = " ".join(words)
    lines = wrapped_words(text, "    ", room)
    assert " ".join(line.strip() for line in lines) == text
    for line in lines:
        assert len(line) <= room or len(re.sub(r"`[^`]*`", "x", line.strip()).split()) == 1  # one word too long
    for command in re.findall(r"`[^`]*`", text):
        assert any(command in line for line in lines)
    assert wrapped_words(text, "    ", None) == [text]


def test_an_error_fits_the_terminal_and_its_command_can_be_copied(demo: Coinjar) -> None:
    demo.env["COLUMNS"] = "60"
    shown = on_a_terminal(demo, "value", "prod", "TICKET_DB_PASWORD")
    demo.env["COLUMNS"] = "50"
    narrow = on_a_terminal(demo, "generate", "TICKET_DB_PASSWORD", "--stage", "prod").replace("\r", "")
    assert "did you mean" in shown
    assert all(len(line) <= 50 for line in narrow.splitlines()), narrow
    assert len(narrow.splitlines()) > 2
    assert "\n    " in narrow
    plain = demo("generate", "TICKET_DB_PASSWORD", "--stage", "prod", code=2).err
    assert max(map(len, plain.splitlines())) > 50, "in a log a message is one line"


def test_a_bar_only_for_what_takes_long(monkeypatch: pytest.MonkeyPatch) -> None:
    drawn: list[str] = []
    clock = [0.0]
    monkeypatch.setattr(progress, "draw", drawn.append)
    monkeypatch.setattr(progress, "monotonic", lambda: clock[0])
    monkeypatch.setattr(progress, "error_columns", lambda: 60)
    bar = progress.ProgressBar()
    bar.show("rules", 1, 50)
    assert drawn == []
    clock[0] = 10.0
    bar.show("rules", 10, 50)
    assert re.fullmatch(r"\r\x1b\[Krules ━+─+ 10 of 50, about 40 s left", drawn[-1])
    clock[0] = 3000.0
    bar.show("rules" * 20, 10, 50)
    assert len(drawn[-1]) <= 60 + 4
    bar.show("rules", 50, 50)
    assert drawn[-1] == "\r\x1b[K"
    bar.show("variables", 1, 3)  # what follows takes its own time
    assert drawn[-1] == "\r\x1b[K"
    assert len(drawn) == 3


def test_no_bar_in_a_log(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("sys.stderr.isatty", lambda: False)
    assert progress.progress() is None
