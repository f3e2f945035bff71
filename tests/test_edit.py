"""`edit`, and a script that carries its values encrypted: text of secrets in memory, in an age file,
and nowhere else.
"""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import signal
import subprocess
import time
from pathlib import Path

from tests.conftest import PROGRAM, Coinjar, on_a_terminal
from tests.consumers import need, podman_engine


def editor(cj: Coinjar, *lines: str) -> str:
    """An editor that runs these shell lines on the file it is given, and notes where that lay."""
    cj.write({"editor": '#!/bin/sh\necho "$1" >>where\nstat -c \'%a %A\' "$1" >>where\n' + "\n".join(lines) + "\n"})
    (cj.folder / "editor").chmod(0o755)
    return str(cj.folder / "editor")


def test_edit(jar_with_secrets: Coinjar) -> None:
    cj = jar_with_secrets
    cj.write(
        {
            "jar/plain/prod.yaml": "# kept\nall: {}   # too\n",
            "jar/jar.yaml": cj.read("jar/jar.yaml") + "  LEVEL: {kind: port}\n",
        }
    )
    before = cj.read("jar/coins/prod.coins")
    where = {"EDITOR": editor(cj, 'cp "$1" seen', 'sed -i "s/TOKEN: .*/TOKEN: edited/" "$1"')}
    done = cj("edit", "prod", env=where)
    assert done.err == "prod: encrypted: TOKEN\n"
    assert cj.read("seen") == (
        "# kept\nall: {}   # too\n--- # secrets of prod: values below this line are encrypted when you save\n"
        "all:\n  LOGIN: made-up LOGIN of prod\n  OTHER: made-up OTHER of prod\n  TOKEN: made-up TOKEN of prod\n"
    )
    after = cj.read("jar/coins/prod.coins")
    assert [
        line.split()[1] for line, old in zip(after.splitlines(), before.splitlines(), strict=True) if line != old
    ] == ["TOKEN"]
    path, mode = cj.read("where").splitlines()[:2]
    assert path.startswith(("/dev/shm/", "/run/"))  # noqa: S108 - memory, which is asserted here
    assert mode == "600 -rw-------"
    assert not Path(path).parent.exists()
    assert cj("edit", "prod", env={"EDITOR": "true"}).err == "prod: nothing changed\n"
    moved = editor(
        cj,
        'sed -i "s/^all: {}/all: {LEVEL: 80}/; /OTHER/d; s/^  LOGIN: .*/  TOKEN: x/" "$1"',
        'sed -i "0,/  TOKEN: x/! s/  TOKEN: edited//" "$1"',
        "printf 'mailer:\\n  LOGIN: own\\n' >>\"$1\"",
    )
    assert (
        cj("edit", "prod", env={"EDITOR": moved}).err
        == "prod: encrypted: TOKEN, LOGIN; dropped: OTHER; plain values changed\n"
    )
    assert cj("value", "prod", "LOGIN").out == "own"
    assert cj.read("jar/plain/prod.yaml") == "# kept\nall: {LEVEL: 80}   # too\n"
    for lines, words in {
        ('sed -i "s/LEVEL: 80/LEVEL: eighty/" "$1"',): "prod.yaml:2:14: the value of LEVEL is not a port",
        ('sed -i "s/LEVEL/LEVLE/" "$1"',): "prod.yaml:2:7: LEVLE is not declared",
        ('sed -i "s/LEVEL: 80/TOKEN: open/" "$1"',): "TOKEN is a secret",
        ('sed -i "s/  TOKEN:/  LEVEL:/" "$1"',): "LEVEL is not a secret",
        ('sed -i "s/LEVEL: 80/TOKEN: {from_env: X}/" "$1"',): "prod.yaml:2:14: TOKEN is above and below the line",
        ('sed -i "/--- # secrets/d" "$1"',): "the line '--- # secrets' is missing",
        ("exit 7",): "the editor ended with 7",
    }.items():
        saved = cj.read("jar/plain/prod.yaml"), cj.read("jar/coins/prod.coins")
        done = cj("edit", "prod", env={"EDITOR": editor(cj, *lines)}, code=None)
        assert done.code in (3, 5), words
        assert words in done.err
        assert (cj.read("jar/plain/prod.yaml"), cj.read("jar/coins/prod.coins")) == saved
    for text, code in (("'vim", 2), ("nope-nope", 5)):
        assert "editor" in cj("edit", "prod", env={"EDITOR": text}, code=code).err.lower()
    others = cj("edit", "prod", env={"EDITOR": editor(cj, 'cp "$1" seen'), "COINJAR_IDENTITY": ""})
    assert others.code == 0
    assert "2 more are encrypted for others, and stay\n# without a value of their own here: OTHER\n" in cj.read("seen")


def test_a_faulty_text_is_offered_again_and_a_kill_leaves_nothing(jar_with_secrets: Coinjar) -> None:
    cj = jar_with_secrets
    cj.env["EDITOR"] = editor(
        cj,
        (
            'if grep -q once "$1"; then sed -i "s/once/twice/" "$1"; sed -i "/BAD/d" "$1"; else printf "  BAD: '
            'once\\n" >>"$1"; sed -i "s/TOKEN: .*/TOKEN: once/" "$1"; fi'
        ),
    )
    shown = on_a_terminal(cj, "edit", "prod", typed="y\n")
    assert "BAD is not declared" in shown
    assert "Edit again?" in shown
    assert cj("value", "prod", "TOKEN").out == "twice"  # what was typed the first time was not lost
    cj.env["EDITOR"] = editor(cj, "touch started", "sleep 60")
    (cj.folder / "where").unlink()
    for number in (signal.SIGTERM, signal.SIGKILL):
        (cj.folder / "started").unlink(missing_ok=True)
        process = subprocess.Popen(
            [PROGRAM, "edit", "prod"], cwd=cj.folder, env=cj.env, stdin=subprocess.DEVNULL, start_new_session=True
        )
        end = time.monotonic() + 20
        while not (cj.folder / "started").exists():
            assert time.monotonic() < end
            time.sleep(0.02)
        process.send_signal(number)
        process.wait(20)
        with contextlib.suppress(ProcessLookupError):  # the editor may have ended with it
            os.killpg(process.pid, signal.SIGKILL)
    cj.env["EDITOR"] = editor(cj, "kill -INT $PPID", 'sed -i "s/TOKEN: .*/TOKEN: after Control-C/" "$1"')
    cj("edit", "prod")
    assert cj("value", "prod", "TOKEN").out == "after Control-C"
    first, _, second, *_ = cj.read("where").splitlines()
    assert not Path(first).parent.exists()
    cj("edit", "prod", env={"EDITOR": "true"})  # the next run removes what a killed one could not
    assert not Path(second).parent.exists()


def test_a_script_that_carries_its_values_encrypted(demo: Coinjar) -> None:
    """In a container that has sh, age and the identity: no Coin Jar, no Python, and nothing readable in the script or
    the image.
    """
    age = need("age")
    demo("readers", "seal")
    own = demo("identity", "new", "--out", "box.identity").out.strip()
    script = demo("render", "prod", "-s", "ticketing", "--as", "exec-script", "--encrypt-to", own).out
    secret = demo("value", "prod", "TICKET_DB_PASSWORD", "-s", "ticketing").out
    wanted = demo("value", "prod", "TICKET_DB_URL", "-s", "ticketing").out
    assert not re.search("made-up|tickets|sandling.example", script)
    image = demo.folder / "image-of-the-script"
    (image / "lib64").mkdir(parents=True)
    (image / "lib/x86_64-linux-gnu").mkdir(parents=True)
    shutil.copy(age, image / "age")
    libraries = re.findall(r"(/\S+\.so\S*)", subprocess.check_output(["ldd", age], text=True))
    for library in libraries:
        (image / library.lstrip("/")).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(library, image / library.lstrip("/"))
    (image / "start").write_text(script)
    tops = {Path(library).parts[1] for library in libraries}
    copies = "".join(f"COPY {top} /{top}\n" for top in sorted(tops))
    (image / "Containerfile").write_text(
        f"FROM localhost/coinjar/base:1\nCOPY age /bin/age\n{copies}COPY start /start\n"
    )
    base, env = podman_engine()
    tag = f"localhost/coinjar/sealed:{os.getpid()}"
    subprocess.run(
        [*base, "build", "-q", "--isolation", "chroot", "--network", "host", "--pull=never", "-t", tag, str(image)],
        env=env,
        check=True,
        capture_output=True,
    )
    saved = subprocess.run([*base, "save", tag], env=env, check=True, capture_output=True).stdout
    assert secret.encode() not in saved
    key = demo.read("box.identity").splitlines()[-1]
    mounted = ["-v", f"{demo.folder}/box.identity:/identity:ro", "-e", "COINJAR_IDENTITY_FILE=/identity"]
    show = ["/bin/busybox", "sh", "/start", "/bin/busybox", "env"]
    for way, given in ((mounted, {}), (["-e", "COINJAR_IDENTITY"], {"COINJAR_IDENTITY": key})):
        done = subprocess.run(
            [*base, "run", "--rm", "--network", "host", *way, tag, *show],
            env=env | given,
            capture_output=True,
            text=True,
            check=False,
        )
        assert f"TICKET_DB_URL={wanted}\n" in done.stdout, done.stderr
        assert "COINJAR" not in done.stdout
        assert "coinjar" not in done.stdout
    refused = subprocess.run(
        [*base, "run", "--rm", "--network", "host", tag, *show], env=env, capture_output=True, text=True, check=False
    )
    assert refused.returncode != 0
    assert "COINJAR_IDENTITY_FILE" in refused.stderr
    assert (
        "this is not a recipient"
        in demo("render", "prod", "-s", "ticketing", "--as", "exec-script", "--encrypt-to", key, code=2).err
    )
    assert "requires" in demo("render", "prod", "-s", "ticketing", "--as", "json", "--encrypt-to", own, code=2).err
