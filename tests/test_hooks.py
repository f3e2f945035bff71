"""The hooks of this repository in somebody else's, as the program pre-commit runs them from a clone."""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Coinjar

ROOT = Path(__file__).parent.parent


def git(folder: Path, *words: str) -> None:
    who = ("-c", "user.name=anna", "-c", "user.email=anna@sandling.example")
    subprocess.run(["git", *who, *words], cwd=folder, check=True, capture_output=True)


def test_the_hooks_work_from_a_clone(cj: Coinjar, tmp_path_factory: pytest.TempPathFactory) -> None:
    clone = tmp_path_factory.mktemp("clone")
    for name in ("pyproject.toml", "README.md", "LICENSE", ".pre-commit-hooks.yaml"):
        shutil.copy(ROOT / name, clone)
    for name in ("docs", "src"):
        shutil.copytree(ROOT / name, clone / name, ignore=shutil.ignore_patterns("__pycache__"))
    git(clone, "init", "-q")
    git(clone, "add", "-A")
    git(clone, "commit", "-qm", "Everything")
    cj.write(
        {
            "jar/jar.yaml": "coinjar: 1\napp: trial\nservices: {web: {code: [web.py]}}\nstages: {dev: {}}\n"
            "variables: {PORT: {kind: port}}\n"
            "destinations: {file: {type: file, as: literal, path: 'out/{stage}.env', services: [web]}}\n",
            "jar/plain/dev.yaml": "all: {PORT: 80}\n",
            "web.py": "import os\nprint(os.environ['PORT'])\n",
        }
    )
    cj("render", "dev")
    git(cj.folder, "init", "-q")
    git(cj.folder, "add", "-A")
    hooks = [sys.executable, "-m", "pre_commit", "try-repo", str(clone), "--all-files", "--color=never"]

    def outcome() -> str:
        env = cj.env | {"PATH": f"{Path(sys.executable).parent}:/usr/bin:/bin"}
        done = subprocess.run(hooks, cwd=cj.folder, env=env, capture_output=True, text=True, check=False)
        return done.stdout + done.stderr

    first = outcome()
    assert first.count("Passed") == 2, first
    cj.write({"jar/plain/dev.yaml": "all: {PORT: none}\n"})
    second = outcome()
    assert second.count("Failed") == 2, second
    assert "PORT" in second
