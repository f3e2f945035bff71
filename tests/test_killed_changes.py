"""kill -9 after every file that a change of the jar replaces: every value can still be read, and the next run completes
it.
"""

from __future__ import annotations

import shutil
import signal
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import Coinjar

DECLARATIONS = """\
services: {web: {}, mailer: {}}
stages: {dev: {}, prod: {follows: dev}}
variables:
  PLAIN: {default: x}
  TOKEN: {secret: true, generate: {length: 24}}
  LOGIN: {secret: true, services: [mailer]}
  LINK: {default: {text: "x://${PLAIN}/"}}
"""
COMMANDS = {
    "readers seal": {"TOKEN": "made-up-plain", "LOGIN": "made-up-login"},
    "readers rekey": {"TOKEN": "made-up-plain", "LOGIN": "made-up-login"},
    "edit dev": {"TOKEN": "made-up-edited", "LOGIN": "made-up-login"},
    "rename TOKEN NEW_TOKEN --yes": {"NEW_TOKEN": "made-up-plain", "LOGIN": "made-up-login"},
    "drop LOGIN --everywhere --yes": {"TOKEN": "made-up-plain"},
    "stages rename prod live --yes": {"TOKEN": "made-up-plain", "LOGIN": "made-up-login"},
    "services rename web site --yes": {"TOKEN": "made-up-plain", "LOGIN": "made-up-login"},
    "app rename trial ferry --yes": {"TOKEN": "made-up-plain", "LOGIN": "made-up-login"},
    "stages copy dev twin --yes": {"TOKEN": "made-up-plain", "LOGIN": "made-up-login"},
}
"""Each command, and the values of mailer on dev after it."""
KILLED = """\
import os, signal, sys
real, left = os.rename, [int(sys.argv[1])]
def counted(*given, **named):
    real(*given, **named)
    left[0] -= 1
    if left[0] == 0:
        os.kill(os.getpid(), signal.SIGKILL)
os.rename = counted
from coinjar.cli.main import main
sys.exit(main(sys.argv[2:]))
"""


@pytest.mark.parametrize("command", COMMANDS)
def test_killed_at_every_file(
    command: str, jar: Callable[..., Coinjar], tmp_path_factory: pytest.TempPathFactory
) -> None:
    cj = jar(DECLARATIONS, dev="all:\n  TOKEN: made-up-plain\nmailer:\n  LOGIN: made-up-login\n")
    cj("put", "TOKEN", "--stage", "prod", stdin="made-up-prod")
    if command != "readers seal":
        cj("readers", "seal")
    cj.write({"editor.sh": "#!/bin/sh\nsed -i s/made-up-plain/made-up-edited/ $1\n"})
    (cj.folder / "editor.sh").chmod(0o755)
    cj.env |= {"EDITOR": str(cj.folder / "editor.sh"), "PYTHONPATH": str(Path(__file__).parent.parent)}
    kept = tmp_path_factory.mktemp("kept") / "jar"
    shutil.copytree(cj.folder / "jar", kept)
    after = COMMANDS[command]
    ended, number = -signal.SIGKILL, 0
    while ended == -signal.SIGKILL:
        number += 1
        argv = [sys.executable, "-c", KILLED, str(number), *command.split()]
        ended = subprocess.run(argv, cwd=cj.folder, env=cj.env, capture_output=True, check=False).returncode
        for name in {"TOKEN", "LOGIN", *after}:
            done = cj("value", "dev", name, "--service", "mailer", code=None)
            if done.code == 4:  # renamed; the consents for the new names were not stored yet
                assert "this needs your consent" in done.err, (number, name, done)
            else:
                assert done.code in (0, 2, 3), (number, name, done)  # 2: not declared; 3: partly renamed
            assert done.code != 0 or done.out.startswith("made-up"), (number, name, done)
        cj(*command.split(), code=None)
        for name, text in after.items():
            assert cj("value", "dev", name, "--service", "mailer").out == text, (number, name)
        left = [path.name for path in (cj.folder / "jar").rglob("*unfinished*")]
        assert not left, (number, left)
        if ended == -signal.SIGKILL:
            shutil.rmtree(cj.folder / "jar")
            shutil.copytree(kept, cj.folder / "jar")
            cj("grid")  # with the consents for the names that it has again
    assert ended == 0
    assert number > 1
