"""The stand-ins as a person runs them; and the Kubernetes API that a cluster is delivered to."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.request import Request, urlopen

import pytest

from coinjar.standins.apply_patch import FieldConflict, applied
from tests.conftest import PROGRAM, Coinjar
from tests.consumers import need
from tests.places import K8S
from tests.systems import Running, free_port, standin

CANARY = "made-up-canary-4711"


@contextmanager
def running(cj: Coinjar, *arguments: str) -> Iterator[list[dict[str, Any]]]:
    """`coinjar standins` in the foreground of its own process; the lines that it prints."""
    names = [
        argument
        for argument in arguments
        if not argument.startswith("-") and arguments[max(arguments.index(argument) - 1, 0)][:1] != "-"
    ]
    process = subprocess.Popen(
        [PROGRAM, "standins", *arguments, "--state", "state"],
        cwd=cj.folder,
        env=cj.env,
        stdout=subprocess.PIPE,
        text=True,
        # A background job inherits an ignored SIGINT.
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # noqa: PLW1509
    )
    assert process.stdout
    try:
        yield [json.loads(process.stdout.readline()) for _ in names]
    finally:
        process.send_signal(signal.SIGINT)
        process.stdout.close()
        assert process.wait(20) in (0, 130, -signal.SIGINT)


def ask(address: str, token: str = "", method: str = "GET", body: object = None) -> Any:
    data = json.dumps(body).encode() if body is not None else None
    with urlopen(
        Request(address, data, {"Authorization": f"Bearer {token}", "Content-Type": "application/json"}, method=method),
        timeout=20,
    ) as answer:
        result = answer.read().decode()
        return json.loads(result) if answer.headers["Content-Type"] == "application/json" else result


def test_standins_are_run_until_they_are_stopped(cj: Coinjar) -> None:
    port = free_port()
    with running(
        cj, "saltmarsh", "sluiceway", "--port", str(port), "--make", "line", "--exports", "state/exports"
    ) as lines:
        assert [(line["name"], set(line)) for line in lines] == [
            (name, {"name", "address", "token", "second_token"}) for name in ("saltmarsh", "sluiceway")
        ]
        assert lines[0]["address"] == f"http://127.0.0.1:{port}"
        exports = (cj.folder / "state/exports").read_text()
        assert f"export SLUICEWAY_TOKEN={lines[1]['token']}\n" in exports
        assert (cj.folder / "state/exports").stat().st_mode & 0o077 == 0
        ask(
            f"{lines[0]['address']}/v1/apps/line/settings",
            lines[0]["token"],
            "PATCH",
            {"settings": {"API_TOKEN": CANARY, "TITLE": "<b>bold</b>"}},
        )
        page = ask(f"{lines[0]['address']}/")
        assert "&lt;b&gt;bold" in page
        assert CANARY not in page
        assert "pending deploy" in page
        assert CANARY not in json.dumps(ask(f"{lines[0]['address']}/run/line/"))
        with pytest.raises(OSError, match="401"):
            ask(f"{lines[0]['address']}/v1/apps/line/settings", "wrong")
        token = lines[0]["token"]
    with running(cj, "saltmarsh") as lines:  # what was set is still there, under the same token
        assert lines[0]["token"] == token
        assert ask(f"{lines[0]['address']}/v1/apps/line/settings", token)["settings"]["API_TOKEN"] == CANARY


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("nope", "--state", "x"), "there is no stand-in 'nope'"),
        (("saltmarsh", "--state", "x", "--fault", "flood"), "there is no fault 'flood'"),
        (("saltmarsh", "--state", "x", "--fault", "500:0"), "there is no fault '500:0'"),
    ],
)
def test_what_standins_refuse(cj: Coinjar, arguments: tuple[str, ...], words: str) -> None:
    assert words in cj("standins", *arguments, code=2).err


def test_a_port_that_is_taken(cj: Coinjar) -> None:
    with standin("lanternfish", cj.folder / "s") as item:
        port = item.standin.address.rpartition(":")[2]
        assert (
            f"cannot listen on port {port}" in cj("standins", "saltmarsh", "--state", "x", "--port", port, code=5).err
        )


# -- the cluster


@pytest.mark.parametrize(
    ("old", "by", "wanted", "force", "after"),
    [
        ({"data": {"A": "1"}}, "a", {"data": {"A": "2"}}, False, {"A": "2"}),
        ({"data": {"A": "1", "B": "1"}}, "a", {"data": {"B": "1"}}, False, {"B": "1"}),
        ({"data": {"A": "1"}}, "b", {"data": {"B": "1"}}, False, {"A": "1", "B": "1"}),
        ({"data": {"A": "1"}}, "b", {"data": {"A": "1"}}, False, {"A": "1"}),
        ({"data": {"A": "1"}}, "b", {"data": {"A": "2"}}, False, None),
        ({"data": {"A": "1"}}, "b", {"data": {"A": "2"}}, True, {"A": "2"}),
    ],
)
def test_server_side_apply(
    old: dict[str, Any], by: str, wanted: dict[str, Any], force: bool, after: dict[str, str] | None
) -> None:
    there = applied({}, old | {"metadata": {"name": "x"}}, "a", force=False)
    if after is None:
        with pytest.raises(FieldConflict, match=r"a manages \.data\.A"):
            applied(there, wanted | {"metadata": {"name": "x"}}, by, force=force)
        return
    assert applied(there, wanted | {"metadata": {"name": "x"}}, by, force=force)["data"] == after


@contextmanager
def cluster(jar: Callable[..., Coinjar], cj: Coinjar, more: str = "") -> Iterator[Running]:
    with standin("hayloft", cj.folder / "s") as running:
        cj.write({"k8s/web.yaml": K8S})
        config = running.standin.more()["kubeconfig"]
        jar(
            "services: {web: {}}\nstages: {dev: {}}\n"
            "variables: {LEVEL: {default: info}, TOKEN: {secret: true}}\ndestinations:\n"
            f"  workloads: {{type: manifests, from: k8s, to: 'out/{{stage}}'}}\n"
            f"  loft: {{type: cluster, manifests: workloads, kubeconfig: '{config}'{more}}}\n"
        )
        cj("put", "TOKEN", "--stage", "dev", stdin=CANARY)
        yield running


def kubectl(running: Running, cj: Coinjar, *arguments: str, stdin: str = "") -> str:
    argv = [
        need("kubectl"),
        "--kubeconfig",
        running.standin.more()["kubeconfig"],
        "--cache-dir",
        str(cj.folder / "cache"),
        *arguments,
    ]
    done = subprocess.run(argv, input=stdin, capture_output=True, text=True, check=False, env={"HOME": str(cj.folder)})
    assert done.returncode == 0, done.stderr
    return done.stdout


def test_only_our_own_stale_objects_are_pruned(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """The last few stay for going back; what others made, or took over, stays for good."""
    with cluster(jar, cj, ", keep: 2") as running:
        other = (
            "apiVersion: v1\nkind: ConfigMap\n"
            "metadata: {name: trial-0123456789-web, annotations: {coinjar/service: web}}\ndata: {A: b}\n"
        )
        kubectl(
            running,
            cj,
            "apply",
            "--validate=false",
            "--server-side",
            "--field-manager",
            "somebody",
            "-f",
            "-",
            stdin=other,
        )
        kubectl(
            running,
            cj,
            "apply",
            "--validate=false",
            "-f",
            "-",
            stdin="apiVersion: v1\nkind: ConfigMap\nmetadata: {name: trial-notes}\ndata: {A: b}\n",
        )
        names: list[str] = []
        for number in range(6):
            cj("put", f"LEVEL=l{number}", "--stage", "dev")
            done = cj("deliver", "dev", "--restart")
            data = json.loads(kubectl(running, cj, "get", "deployment", "web", "-o", "json"))["spec"]["template"][
                "spec"
            ]["containers"][0]["envFrom"]
            names += [item["configMapRef"]["name"] for item in data if "configMapRef" in item]
        assert "removed unused objects" in done.err
        left = {
            item["metadata"]["name"]
            for item in json.loads(kubectl(running, cj, "get", "configmaps", "-o", "json"))["items"]
        }
        assert left >= {*names[-3:], "trial-0123456789-web", "trial-notes"}
        assert left <= {*names[-4:], "trial-0123456789-web", "trial-notes"}  # pods of the one before may still have run
        assert CANARY not in done.out + done.err
        secrets = [item for key, item in running.standin.state["objects"].items() if "/secrets/" in key]
        assert [secret["metadata"]["managedFields"][0]["manager"] for secret in secrets] == ["coinjar"]
        (name,) = [
            item["metadata"]["name"]
            for item in json.loads(kubectl(running, cj, "get", "secrets", "-o", "json"))["items"]
        ]
        assert name == secrets[0]["metadata"]["name"]


def test_somebody_elses_fields_are_not_taken_over_unasked(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with cluster(jar, cj) as running:
        mine = K8S.replace("localhost/web:1", "localhost/web:2")
        kubectl(
            running,
            cj,
            "apply",
            "--validate=false",
            "--server-side",
            "--field-manager",
            "somebody",
            "-f",
            "-",
            stdin=mine,
        )
        done = cj("deliver", "dev", code=5)
        assert "Deployment web has fields with another manager" in done.err
        assert "take_over: true" in done.err
        text = cj.read("jar/jar.yaml")
        cj.write({"jar/jar.yaml": text.replace("kubeconfig:", "take_over: true, kubeconfig:")})
        cj("deliver", "dev", "--restart")
        assert (
            kubectl(running, cj, "get", "deployment", "web", "-o", "jsonpath={.spec.template.spec.containers[0].image}")
            == "localhost/web:1"
        )


def test_ways_into_a_cluster(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """A token, one from a program, a namespace of the context; and what is wrong with a kubeconfig."""
    with cluster(jar, cj) as running:
        path = Path(running.standin.more()["kubeconfig"])
        config = json.loads(path.read_text())
        program = cj.folder / "credentials"
        program.write_text('#!/bin/sh\necho "{\\"status\\": {\\"token\\": \\"made-up-token\\"}}"\n')
        program.chmod(0o755)
        heard: list[str] = []
        running.standin.unguarded = False  # type: ignore[misc]  # of this one only
        running.standin.who = (  # type: ignore[method-assign]
            lambda header: heard.append(header) or "anna"  # type: ignore[func-returns-value]
        )
        for user in (
            {"token": "made-up-token"},
            {"exec": {"apiVersion": "client.authentication.k8s.io/v1", "command": str(program)}},
        ):
            config["users"] = [{"name": "anna", "user": user}]
            config["contexts"][0]["context"] |= {"user": "anna", "namespace": "line"}
            path.write_text(json.dumps(config))
            cj("deliver", "dev")
            assert heard[-1] == "Bearer made-up-token"
        assert any(key.startswith("line/configmaps/") for key in running.standin.state["objects"])
        config["users"][0]["user"] = {"tokenFile": "nowhere"}
        path.write_text(json.dumps(config))
        assert "credentials cannot be read: No such file" in cj("drift", "dev", code=3).err
        secure = json.loads(json.dumps(config).replace("http://", "https://"))
        secure["clusters"][0]["cluster"]["certificate-authority-data"] = "bm90IG9uZQ=="
        path.write_text(json.dumps(secure))
        assert "credentials cannot be read" in cj("drift", "dev", code=3).err
        config["users"][0]["user"] = {
            "exec": {"apiVersion": "client.authentication.k8s.io/v1", "command": str(program)}
        }
        path.write_text(json.dumps(config))
        program.write_text("#!/bin/sh\nexit 1\n")
        assert "returned no token" in cj("drift", "dev", code=3).err
        for text, words in (
            ("[]", "this is not a kubeconfig"),
            ("a: [", "is not YAML"),
            (json.dumps(config | {"current-context": "x"}), "has no \"context 'x'\""),
        ):
            path.write_text(text)
            assert words in cj("drift", "dev", code=3).err
        path.unlink()
        assert re.search(
            "cannot read the kubeconfig: no such file",
            cj("drift", "dev", code=3, env={"PATH": os.environ["PATH"]} | cj.env).err,
        )
