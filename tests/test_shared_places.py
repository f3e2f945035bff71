"""Two of each: services in one namespace, stages at one destination, levels of one document; and what must not be taken
from a neighbour.
"""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import pytest
import yaml

from coinjar.core.recorded_names import RecordedNames
from coinjar.records import locks
from coinjar.standins import hayloft
from tests.conftest import Coinjar
from tests.systems import Running, sshd, standin

K8S = """\
apiVersion: apps/v1
kind: Deployment
metadata: {name: %(name)s}
spec:
  selector: {matchLabels: {app: %(name)s}}
  template:
    metadata: {labels: {app: %(name)s}}
    spec:
      containers: [{name: %(name)s, image: "localhost/x:1"}]
"""


@contextmanager
def cluster(jar: Callable[..., Coinjar], cj: Coinjar, more: str = "") -> Iterator[Running]:
    """Two services in one namespace of one cluster."""
    with standin("hayloft", cj.folder / "s") as running:
        config = running.standin.more()["kubeconfig"]
        cj.write({f"k8s/{name}.yaml": K8S % {"name": name} for name in ("web", "worker")})
        jar(
            "services: {web: {}, worker: {}}\nstages: {live: {}, other: {}}\n"
            "variables: {LEVEL: {default: info}, OWN: {default: a, services: [web]}, TOKEN: {secret: "
            "true}}\ndestinations:\n"
            f"  workloads: {{type: manifests, from: k8s, to: 'out/{{stage}}'}}\n"
            f"  loft: {{type: cluster, manifests: workloads, kubeconfig: '{config}'{more}}}\n"
        )
        cj("put", "TOKEN", "--stage", "live", stdin="made-up-1")
        yield running


def test_services_of_one_stage_share_a_namespace(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with cluster(jar, cj):
        cj("deliver", "live", "--restart")
        assert "2 up to date" in cj("deliver", "live").out
        assert "live: 2 targets up to date" in cj("drift", "live").out
        cj("put", "LEVEL=debug", "--stage", "live")
        assert "2 delivered" in cj("deliver", "live", "--restart").out
        assert "live: 2 targets up to date" in cj("drift", "live").out
        cj("put", "TOKEN", "--stage", "other", stdin="made-up-2")
        assert "two would overwrite each other" in cj("deliver", "other", code=3).err


def test_old_objects_go_and_those_that_all_share_too(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with cluster(jar, cj, ", keep: 2") as running:
        for number in range(6):
            cj("put", f"LEVEL=v{number}", f"OWN=o{number}", "--stage", "live")
            cj("deliver", "live", "--restart")
        shared = {
            one["metadata"]["name"]
            for one in _objects(running, "configmaps")
            if one["metadata"]["name"].endswith("-all")
        }
        assert len(shared) == 3, shared  # the one in use, and two to go back to


def _objects(running: Running, plural: str) -> list[dict[str, dict[str, str]]]:
    kubectl = ["kubectl", "--kubeconfig", str(running.standin.more()["kubeconfig"]), "get", plural, "-o", "json"]
    data: list[dict[str, dict[str, str]]] = json.loads(
        subprocess.run(kubectl, capture_output=True, text=True, check=True).stdout
    )["items"]
    return data


def test_a_rollout_may_take_as_long_as_it_is_given(
    jar: Callable[..., Coinjar], cj: Coinjar, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(hayloft, "_LOOKS", 10**6)  # pods that never come up
    with cluster(jar, cj, ", restart_timeout: 1s"):
        message = cj("deliver", "live", "--restart", code=5).err
        assert "after 1 s" in message
        assert "restart_timeout of loft" in message
    text = cj.read("jar/jar.yaml")
    cj.write({"jar/jar.yaml": text.replace("restart_timeout: 1s", "restart_timeout: soon, keep: many")})
    message = cj("deliver", "live", "--dry-run", code=3).err
    assert "restart_timeout of loft is not a duration" in message
    assert "keep of loft must be a whole number" in message


def test_a_failed_reload_shows_its_last_lines_masked(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with sshd(cj.folder / "sshd") as port:
        keys = f"known_hosts: '{cj.folder}/sshd/known_hosts', identity_file: '{cj.folder}/sshd/user_key'"
        script = "echo at {host} for {service}; cat {0}/there/web.env >&2; echo last line; exit 2"
        reload = f"reload: [sh, -c, '{script}']".replace("{0}", str(cj.folder))
        jar(
            "services: {web: {}}\nstages: {dev: {}}\nvariables: {TOKEN: {secret: true}}\ndestinations:\n"
            f"  host: {{type: host, hosts: ['root@127.0.0.1:{port}'], path: "
            f"'{cj.folder}/there/{{service}}.env', as: posix, {keys}, {reload}}}\n"
        )
        cj("put", "TOKEN", "--stage", "dev", stdin="made-up-canary")
        result = cj("deliver", "dev", "--restart", code=5)
        assert f"at 127.0.0.1:{port} for web" in result.err
        # The machine sends what went to stdout and to stderr in any order.
        assert "export TOKEN='[TOKEN ••••]'" in result.err
        assert "last line" in result.err
        assert "canary" not in result.err + result.out
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace("for {service}", "for {name}")})
    assert "'{name}' in reload of host is not replaced" in cj("deliver", "dev", code=3).err


def test_extra_variables_go_with_their_restart(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with standin("saltmarsh", cj.folder / "s", "x-web") as running:
        jar(
            "services: {web: {}}\nstages: {dev: {}}\nvariables: {LEVEL: {default: info}}\ndestinations:\n"
            f"  salt: {{type: platform, platform: saltmarsh, address: '{running.standin.address}', app: "
            f"'x-{{service}}', token: {{from_env: T}}}}\n"
        )
        cj.env["T"] = running.token
        app = running.standin.state["apps"]["x-web"]
        cj("deliver", "dev", "--restart")
        app["settings"]["EXTRA"] = app["running"]["EXTRA"] = "1"
        assert "1 unmanaged" in cj("deliver", "dev", "--dry-run").out
        plan = cj("deliver", "dev", "--remove-extra", "--dry-run").out
        assert "unmanaged" not in plan
        assert "with --restart" in plan
        done = cj("deliver", "dev", "--remove-extra", "--restart").out
        assert "unmanaged" not in done
        assert "restarted, in use" in done
        assert "EXTRA" not in app["running"]


def test_a_guarded_pipeline_is_started_once_and_watched(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with standin("sluiceway", cj.folder / "s", "line") as running:
        jar(
            "services: {web: {}}\nstages: {dev: {}, prod: {guarded: true}}\n"
            "variables: {LEVEL: {default: info}}\ndestinations:\n"
            f"  pipes: {{type: platform, platform: sluiceway, address: '{running.standin.address}', project: "
            f"line, token: {{from_env: T}}}}\n"
            'proofs:\n  sees: {run: {in: pipes, pipeline: look}, pattern: "level=(.*)", expect: "${LEVEL}"}\n'
        )
        cj.env["T"] = running.token
        project = running.standin.state["projects"]["line"]
        project["pipelines"]["look"] = "pipeline: 1\njobs: [{stage: prod, lines: [{do: echo level=$LEVEL}]}]\n"
        assert "prod is guarded: it was not started" in cj("confirm", "prod", code=2).err
        assert not project["runs"]
        result = cj("confirm", "prod", "--allow-guarded", "prod", "--wait", "2", code=1)
        assert list(project["runs"]) == ["1"]
        assert "the run is waiting for approval" in result.out
        assert not result.err
        cj("confirm", "prod", "--allow-guarded", "prod", code=1)
        assert list(project["runs"]) == ["1", "2"]
        project["pipelines"]["look"] = "pipeline: 1\njobs: [{stage: dev, lines: [{do: echo level=other}]}]\n"
        assert "other" in cj("confirm", "dev", "--wait", "3", code=1).out
        assert list(project["runs"]) == ["1", "2", "3"]  # an answer that is final is not readable for again


def test_no_proof_for_a_stage_is_no_all_clear(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}, prod: {}}\nvariables: {A: {default: x}}\nproofs:\n"
        "  p: {file: f, expect: x, stages: [prod]}\n"
        "  q: {file: f, expect: x, stages: [dev]}\n"
    )
    cj.write({"f": "x"})
    assert "1 proof asked, all hold" in cj("confirm", "prod").out
    assert "q is not for prod" in cj("confirm", "prod", "p", "q", code=2).err
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace("stages: [dev]", "stages: [prod]")})
    assert "no proof is for dev" in cj("confirm", "dev", code=2).err


DOCUMENT = (
    "provider:\n  environment:\n    LOG_LEVEL: info   # for all\n    THEIRS: x\nfunctions:\n  a: {handler: a}\n"
    "  b: {handler: b}\n"
)


@pytest.mark.parametrize(
    ("places", "wanted"),
    [
        (
            (
                "/provider/environment: {stage: live}\n"
                "      /functions/a/environment: {stage: live, services: [a], inherits: [/provider/environment]}"
            ),
            ("info", "debug"),
        ),
        ("/provider/environment: {stage: live}", ("info", None)),
        ("/provider/environment: {stage: live, services: []}", ("info", None)),
    ],
)
def test_what_one_function_overrides_stays_for_all_others(
    jar: Callable[..., Coinjar], places: str, wanted: tuple[str, str | None]
) -> None:
    cj = jar(
        "services: {a: {}, b: {}, c: {}}\nstages: {live: {}}\nvariables: {LOG_LEVEL: {default: info}}\n"
        f"destinations:\n  fn:\n    type: document\n    path: fn.yaml\n    places:\n      {places}\n",
        live="a: {LOG_LEVEL: debug}\n",
    )
    cj.write({"fn.yaml": DOCUMENT})
    for _ in range(2):
        cj("render", "live")
        data = yaml.safe_load(cj.read("fn.yaml"))
        assert data["provider"]["environment"] == {"LOG_LEVEL": wanted[0], "THEIRS": "x"}
        assert data["functions"]["a"].get("environment", {}).get("LOG_LEVEL") == wanted[1]
        assert "environment" not in data["functions"]["b"]
    assert "# for all" in cj.read("fn.yaml")
    cj("render", "live", "--verify")


def test_a_compose_place_of_no_service_is_looked_at_and_left_alone(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {PORT: {kind: port, default: 8080}}\n"
        "destinations:\n"
        "  c: {type: document, path: compose.yaml, places: {/services/web/environment: {services: []}}}\n"
    )
    text = "services:\n  web:\n    image: a\n    environment:\n      PORT: '8080'\n"
    cj.write({"compose.yaml": text})
    cj("render", "dev")
    assert cj.read("compose.yaml") == text


def test_two_stages_do_not_share_a_file(jar: Callable[..., Coinjar]) -> None:
    declared = (
        "services: {web: {}}\nstages: {dev: {}, prod: {}, isles: {follows: prod}}\nvariables: {A: {}}\n"
        "destinations:\n  env: {type: file, as: literal, path: web.env%s}\n"
    )
    cj = jar(declared % "", dev="all: {A: 1}\n", prod="all: {A: 2}\n")
    message = cj("render", "dev", code=3).err
    assert "env writes web.env for dev and for prod, which overwrite each other" in message
    assert "stages: [dev]" in message
    assert not (cj.folder / "web.env").exists()
    assert "env: it writes web.env for dev and for prod" in cj("check", code=1).out.replace(" on dev", "").replace(
        " on prod", ""
    )
    jar(declared % ", stages: [dev]")
    cj("render", "dev")
    jar(declared % ", stages: [prod]")
    cj("render", "prod")  # one that only follows it is rendered by nobody


def test_a_lock_is_renewed_until_it_is_lost(cj: Coinjar, monkeypatch: pytest.MonkeyPatch) -> None:
    """One failure of the database is no loss; when it lasts as long as a lease, the next write is refused."""
    import asyncio

    from coinjar.core.errors import ExternalError
    from coinjar.records.store import RecordStore

    monkeypatch.setattr(locks, "_AGAIN", 0.01)
    monkeypatch.setattr(locks, "_RETRY", 0.01)
    monkeypatch.setattr(locks, "LEASE", 0.3)
    records = RecordStore(RecordedNames("x"), cj.folder / "records.sqlite")

    async def work(failures: int) -> bool:
        async with locks.held(records, "fn/live", 0) as lock:
            real, left = lock.heartbeat, failures

            def failing() -> None:
                nonlocal left
                left -= 1
                if left >= 0:
                    raise ExternalError("the database is away", hint="", code="records")
                real()

            monkeypatch.setattr(lock, "heartbeat", failing)
            while left > 0 and lock.lost is None:
                await asyncio.sleep(0.02)
            await asyncio.sleep(0.05)
            if lock.lost is None:
                return True
            with pytest.raises(ExternalError, match="could not be renewed: the database is away") as refused:
                lock.check()
            assert refused.value.exit_code == 5
            return False

    assert asyncio.run(work(1))
    assert not asyncio.run(work(10**9))
    records.close()


def test_a_value_that_no_place_takes_blocks_nothing(jar: Callable[..., Coinjar]) -> None:
    """A command's value that this document does not take is not readable for; one that it takes is, and hides no
    finding about the rest.
    """
    cj = jar(
        "services: {web: {}}\nstages: {dev: {}}\n"
        "variables: {SLOW: {default: {command: [sh, -c, 'echo made']}}, LEVEL: {default: info}, PORT: "
        "{default: 1}}\n"
        "destinations:\n"
        "  doc: {type: document, path: d.yaml, places: {/env: {services: [web], stage: dev, variables: "
        "[LEVEL, PORT]}}}\n"
    )
    cj.write({"d.yaml": "env:\n  PORT: 0x10\n"})
    cj("render", "dev")
    assert yaml.safe_load(cj.read("d.yaml"))["env"] == {"LEVEL": "info", "PORT": "1"}
    cj.write({"d.yaml": "env:\n  OWN: 0x10\n"})
    assert "is read as the text" in cj("check", code=None).out
