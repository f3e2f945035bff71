"""Proofs: what running things are asked, and what the answers must be on each stage."""

from __future__ import annotations

import json
import re
import signal
import subprocess
import sys
import threading
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, HTTPServer
from typing import Any

from coinjar.standins.masking import digest
from tests.conftest import Coinjar
from tests.places import K8S, there
from tests.systems import free_port, standin

JAR = """\
services: {web: {}}
stages: {dev: {}, prod: {}}
variables:
  PORT: {kind: port, required: true}
  MAIL: {kind: host, stages: [prod]}
  LEVEL: {default: info}
  TOKEN: {secret: true}
  PROOF_KEY: {secret: true}
proofs:
"""


class Answering(HTTPServer):
    """A service that answers with what it was told to."""

    data: Any = None


class _Handler(BaseHTTPRequestHandler):
    server: Answering

    def do_GET(self) -> None:
        body = json.dumps(self.server.data).encode()
        self.send_response(200 if self.path == "/" else 503)
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, form: str, *values: Any) -> None:
        del form, values


def holding(cj: Coinjar, *arguments: str, code: int | None = None) -> dict[str, bool]:
    """Whether each proof holds, by its name and stage."""
    return {
        f"{proof['proof']}@{proof['stage']}": proof["holds"]
        for proof in json.loads(cj("confirm", *arguments, "--json", code=code).out)["proofs"]
    }


def test_proofs_of_an_address_and_of_a_process(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    port = free_port()
    jar(
        JAR
        + """\
  up: {http: "http://127.0.0.1:${PORT}/", expect: 200}
  level: {http: "http://127.0.0.1:${PORT}/", at: /settings/LEVEL, expect: "${LEVEL}"}
  mail:
    about: mail is configured on prod, and not on dev
    http: "http://127.0.0.1:${PORT}/"
    at: /settings/MAIL
    expect_on: {prod: "${MAIL}", dev: {absent: true}}
  token: {http: "http://127.0.0.1:${PORT}/", at: /digest, expect: {digest: TOKEN, key: PROOF_KEY}}
  masked: {http: "http://127.0.0.1:${PORT}/", at: /settings/TOKEN, expect: {not: "${TOKEN}"}}
  shape: {http: "http://127.0.0.1:${PORT}/", pattern: '"LEVEL": "(\\w+)"', expect: {matches: "^(info|debug)$"}}
  there: {http: "http://127.0.0.1:${PORT}/", at: /settings/LEVEL, expect: {present: true}, stages: [dev]}
  sick: {http: "http://127.0.0.1:${PORT}/health", expect: 503}
  listens: {process: {port: "${PORT}"}, variable: LEVEL, expect: "${LEVEL}"}
  named: {process: {pid_file: pid}, variable: MAIL, expect_on: {dev: {absent: true}}}
  whole: {process: {runs: "made-up-service-4711 --for-tests"}, stages: [dev]}
""",
        dev=f"all: {{PORT: {port}}}",
        prod=f"all: {{PORT: {port}, MAIL: relay.example}}",
    )
    for name in ("TOKEN", "PROOF_KEY"):
        for stage in ("dev", "prod"):
            cj("put", name, "--stage", stage, stdin=f"made-up-{name}")
    assert holding(cj, "dev", "up", code=1) == {"up@dev": False}  # nobody listens
    with Answering(("127.0.0.1", port), _Handler) as server:
        server.data = {
            "settings": {"LEVEL": "info", "TOKEN": "••••"},
            "digest": digest("made-up-PROOF_KEY", "made-up-TOKEN")[:32],
        }
        threading.Thread(target=server.serve_forever, daemon=True).start()
        sleeper = "import time; time.sleep(600)"
        argv = [sys.executable, "-c", sleeper, "made-up-service-4711", "--for-tests"]
        own = {"PORT": str(port), "LEVEL": "info", "TOKEN": "made-up-TOKEN", "PROOF_KEY": "made-up-PROOF_KEY"}
        process = subprocess.Popen(argv, env=own)
        try:
            (cj.folder / "pid").write_text(str(process.pid))
            held = holding(cj, "dev", "prod", code=1)
            # LEVEL: this very process listens, and was started without it
            assert {name for name, holds in held.items() if not holds} == {"mail@prod", "listens@dev", "listens@prod"}
            assert {"there@prod", "named@prod", "whole@prod"}.isdisjoint(held)
            shown = cj("confirm", "dev", "prod", code=1)
            assert shown.out.startswith("3 of 19 proofs not as expected\nproof ")
            assert (
                "mail on prod (mail is configured on prod, and not on dev): nothing there, expected relay.example"
                in shown.out
            )
            assert "made-up" not in shown.out + shown.err
            cj("put", "LEVEL=debug", "--stage", "dev")
            whole = cj("confirm", "dev", "whole", code=1).out
            assert "1 different: LEVEL" in whole
            # a wrong digest, and one that is too short to say anything
            for wrong in ("0" * 32, digest("made-up-PROOF_KEY", "made-up-TOKEN")[:8]):
                server.data["digest"] = wrong
                assert holding(cj, "prod", "token", code=1) == {"token@prod": False}
            # --wait: a rollout comes to its end
            timer = threading.Timer(1.0, lambda: server.data["settings"].__setitem__("MAIL", "relay.example"))
            timer.start()
            assert holding(cj, "prod", "mail", "--wait", "20", code=0) == {"mail@prod": True}
        finally:
            process.send_signal(signal.SIGKILL)
            process.wait()
            server.shutdown()


def test_proofs_of_files_and_logs(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    jar(
        JAR
        + """\
  file: {file: "conf/{}.env", as: literal, variable: LEVEL, expect: "${LEVEL}"}
  settings: {file: conf/settings.json, at: /log/level, expect: "${LEVEL}"}
  rendered: {file: conf/server.conf, pattern: "listen (\\\\d+);", expect: "${PORT}"}
  log: {log: conf/log, pattern: "level is (\\\\w+)", expect: "${LEVEL}"}
  gone: {file: conf/none, expect: {absent: true}}
  every: {file: conf/all.env, as: literal, stages: [dev]}
""".replace("{}", "a"),
        dev="all: {PORT: 9000}",
    )
    cj.write(
        {
            "conf/a.env": "LEVEL=info\n",
            "conf/settings.json": '{"log": {"level": "info"}}',
            "conf/server.conf": "server { listen 9000; }\n",
            "conf/log": "level is debug\nrestarted\nlevel is info\n",
            "conf/all.env": "LEVEL=info\n",
        }
    )
    held = holding(cj, "dev", code=1)
    assert held == dict.fromkeys(["file@dev", "settings@dev", "rendered@dev", "log@dev", "gone@dev"], True) | {
        "every@dev": False
    }
    assert "1 missing: PORT" in cj("confirm", "dev", "every", code=1).out


def test_proofs_of_a_container(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with there("container", jar, cj):
        text = cj.read("jar/jar.yaml")
        match = re.search(r"container: (web-[\d-]+), env_file: web.env, engine: \[(.*)\]", text)
        assert match
        engine = match[2].replace(", ", " ")
        proof = f"proofs:\n  has: {{container: {{'': {match[1]}, engine: '{engine}'}}}}\n"
        (cj.folder / "jar/jar.yaml").write_text(text + proof)
        assert holding(cj, "dev", code=1) == {"has@dev": False}  # it was made before
        cj("deliver", "dev", "--restart")
        assert holding(cj, "dev", code=0) == {"has@dev": True}


def test_proofs_of_pods_and_of_a_pipeline(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with standin("hayloft", cj.folder / "s") as loft, standin("sluiceway", cj.folder / "s", "line") as sluice:
        cj.write({"k8s/web.yaml": K8S})
        config = loft.standin.more()["kubeconfig"]
        jar(
            f"""\
services: {{web: {{}}}}
stages: {{dev: {{}}, prod: {{}}}}
variables: {{LEVEL: {{default: info}}, TOKEN: {{secret: true}}}}
destinations:
  workloads: {{type: manifests, from: k8s, to: "out/{{stage}}"}}
  loft: {{type: cluster, manifests: workloads, kubeconfig: '{config}', stages: [dev]}}
  pipes: {{type: platform, platform: sluiceway, address: '{sluice.standin.address}', project: line,
          token: {{from_env: PIPES}}}}
proofs:
  pods: {{pods: loft, stages: [dev]}}
  level: {{pods: loft, variable: LEVEL, expect: "${{LEVEL}}", stages: [dev]}}
  sees: {{run: {{in: pipes, pipeline: look}}, pattern: "level=(.*)", expect: "${{LEVEL}}", stages: [dev]}}
"""
        )
        cj.env["PIPES"] = sluice.token
        cj("put", "TOKEN", "--stage", "dev", stdin="made-up-token")
        sluice.standin.state["projects"]["line"]["pipelines"]["look"] = (
            "pipeline: 1\njobs: [{stage: dev, lines: [{do: echo level=$LEVEL}]}]\n"
        )
        assert set(holding(cj, "dev", code=1).values()) == {False}
        cj("deliver", "dev", "--restart")
        assert set(holding(cj, "dev", "--wait", "10", code=0).values()) == {True}
        cj("put", "LEVEL=debug", "--stage", "dev")
        cj("deliver", "dev", "loft")  # saved, and the rollout goes on by itself
        held = holding(cj, "dev", "--wait", "10", "pods", "level", code=0)
        assert set(held.values()) == {True}
        assert holding(cj, "dev", "sees", code=1) == {"sees@dev": False}  # the pipeline was not delivered to
        done = cj("confirm", "dev", "sees", code=5, env={"PIPES": "wrong"})
        assert "check the token" in done.err


def test_faulty_proofs_are_told_all_at_once(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    jar(
        JAR
        + """\
  nobody: {expect: x}
  two: {http: "http://x/", file: y, expect: x}
  nothing: {http: "http://x/"}
  unknown: {http: "http://${NOPE}/", expect: x}
  forms: {file: x, expect: {is: a, not: b}}
  pointer: {file: x, at: level, expect: x}
  pattern: {file: x, pattern: "(", expect: x}
  digest: {file: x, expect: {digest: TOKEN}}
  stage: {file: x, expect_on: {nope: x}}
  process: {process: {pid_file: a, port: 1}}
  service: {file: x, service: nope, expect: x}
  contrary: {file: x, expect: {present: false}}
"""
    )
    message = cj("confirm", "dev", code=3).err
    for words in (
        "proof 'nobody' asks nobody", "proof 'two' asks http and file", "'nothing' has no expected answer",
        "names NOPE, which is not declared",
        "has one of is, not, matches", "'level' is not a JSON Pointer", "'pattern' is not a valid pattern",
        "refers to no key, which is not declared", "there is no stage 'nope'",
        "has one of pid_file, port, runs", "there is no service 'nope'",
        "'present' of proof 'contrary' can only be true",
    ):  # fmt: skip
        assert words in message, words
    assert "which stage?" in jar(JAR + "  a: {file: x, expect: y}\n")("confirm", code=2).err
    assert "there is no proof or stage 'nope'" in cj("confirm", "dev", "nope", code=2).err
    assert (
        "'runs' is not a valid pattern"
        in jar(JAR + "  a: {process: {runs: '('}, variable: LEVEL, expect: y}\n")("confirm", "dev", code=3).err
    )
    jar(JAR + "  a: {file: x, expect: y}\n")
    assert "no proof is for" not in cj("confirm", "dev", "a", code=1).out
    jar(JAR.replace("proofs:\n", ""))
    assert "the jar has no proofs" in cj("confirm", "dev", code=2).err
