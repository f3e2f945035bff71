"""Help that travels: the pages of docs/ are part of the package, messages name topics, every rule explains itself."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

import pytest

from coinjar.actions.checking.rules import all_rules
from coinjar.cli.help_topics import FILES, TOPICS
from coinjar.cli.main import COMMANDS
from tests.conftest import Coinjar, on_a_terminal

ROOT = Path(__file__).parent.parent


def test_every_topic_is_shipped_and_shown(cj: Coinjar) -> None:
    settings = tomllib.loads((ROOT / "pyproject.toml").read_text())
    shipped = settings["tool"]["hatch"]["build"]["targets"]["wheel"]["force-include"]
    files = {topic: FILES.get(topic, topic) for topic in TOPICS}
    files["guide"] = "guide/index"
    paths = ["guide" if topic == "guide" else f"{file}.md" for topic, file in files.items()]
    assert shipped == {f"docs/{path}": f"coinjar/docs/{path}" for path in paths}
    for topic, file in files.items():
        written = [line for line in (ROOT / f"docs/{file}.md").read_text().splitlines() if line[:2] != "!["]
        assert [line for line in cj("help", topic).out.splitlines() if line] == [line for line in written if line]
        assert topic not in COMMANDS, "one of them could not be asked for"
        assert topic in cj("help").out


def test_every_rule_explains_itself(cj: Coinjar) -> None:
    for rule in all_rules():
        shown = cj("help", rule.code.lower()).out
        assert shown.startswith(f"## {rule.code} · {rule.title}")
        assert shown.count("\n## ") == 0


def test_a_section_by_its_name(cj: Coinjar) -> None:
    assert cj("help", "formats", "proofs").out.startswith("## Proofs\n")
    assert cj("help", "guide", "rotate", "secrets").out.startswith("# Rotate secrets\n")
    assert "#!/bin/sh" in cj("help", "guide", "rotate").out, "a comment in an example ends no section"
    assert "has no section 'nonsense'" in cj("help", "formats", "nonsense", code=2).err
    assert "has no section 'CJ999'" in cj("help", "CJ999", code=2).err
    assert "there is no command 'nothing'" in cj("help", "nothing", code=2).err


def test_messages_name_topics_and_no_path_of_the_repository(cj: Coinjar) -> None:
    named = set()
    for path in sorted((ROOT / "src/coinjar").rglob("*.py")):
        text = path.read_text()
        for words in re.findall(r"`coinjar help ([a-z]+(?: [a-z]+)?)`", text):
            named.add(words)
        for line in text.splitlines():
            code = line.split("#")[0]
            is_message = re.search(r"(hint|help|fix|message)\b.*docs/\w+\.md", code) is not None
            assert not is_message, (path, line)
    assert len(named) > 5
    for words in sorted(named):
        assert cj("help", *words.split()).out, words


@pytest.mark.parametrize("words", [("CJ048",), ("formats", "proofs")])
def test_on_a_terminal_it_is_rendered(cj: Coinjar, words: tuple[str, ...]) -> None:
    cj.env["PAGER"] = "cat"
    shown = on_a_terminal(cj, "help", *words)
    assert "##" not in shown
    assert "|---|" not in shown
    assert "Proofs" in shown or "CJ048" in shown
