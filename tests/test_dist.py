"""What is released: the same bytes twice, docs inside, metadata that an index takes, a man page without warnings."""

from __future__ import annotations

import subprocess
import sys
import zipfile
from pathlib import Path

from coinjar.cli.help_topics import FILES, TOPICS
from coinjar.cli.main import COMMANDS
from tests.consumers import need

ROOT = Path(__file__).parent.parent


def run_with_tools(code: str, *arguments: str) -> str:
    argv = [sys.executable, "-c", f"import sys; sys.path.insert(0, {str(ROOT / 'tools')!r})\n{code}", *arguments]
    return subprocess.run(argv, capture_output=True, text=True, check=True, cwd=ROOT).stdout


def test_two_builds_are_the_same_and_have_the_docs(tmp_path: Path) -> None:
    code = (
        "from pathlib import Path\nimport dist\none, other = Path(sys.argv[1], 'a'), Path(sys.argv[1], 'b')\n"
        "assert dist.build(one) == dist.build(other)\ndist.check_metadata(next(one.glob('*.whl')))\n"
    )
    run_with_tools(code, str(tmp_path))
    wheel = next((tmp_path / "a").glob("*.whl"))
    with zipfile.ZipFile(wheel) as archive:
        names = set(archive.namelist())
        pages = {FILES.get(topic, topic) for topic in TOPICS if topic != "guide"}
        pages |= {f"guide/{path.stem}" for path in (ROOT / "docs/guide").iterdir()}
        assert {f"coinjar/docs/{page}.md" for page in pages} <= names
        assert {f"coinjar/report/page/report.{end}" for end in ("html.jinja", "css", "js")} <= names
        assert "coinjar/demo/app/jar/jar.yaml" in names
        assert not [name for name in names if "__pycache__" in name or "/tests/" in name]
    assert len(list((tmp_path / "a").iterdir())) == 2


def test_the_man_page(tmp_path: Path) -> None:
    page = tmp_path / "coinjar.1"
    page.write_text(run_with_tools("import manual\nprint(manual.manual(), end='')"))
    argv = [need("groff"), "-Kutf8", "-man", "-Tutf8", "-P-cbou", "-ww", "-rLL=110n", str(page)]
    done = subprocess.run(argv, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    for name in COMMANDS:
        assert f"coinjar {name}" in done.stdout, name
    assert "COINJAR_IDENTITY_FILE" in done.stdout
