"""Kubernetes manifests: rewritten, read back, taken by the real programs."""

from __future__ import annotations

import json
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import kubernetes_validate  # type: ignore[import-untyped]  # it has no types
import pytest
import yaml

from tests.conftest import Coinjar
from tests.consumers import need, podman_play
from tests.systems import standin

SERVICES = ["timetable", "ticketing", "notices", "berths"]
JAR = """\
services: {web: {}, mailer: {}}
stages: {dev: {}, prod: {}}
variables:
  PORT: {kind: port, default: 8080}
  LEVEL: {default: info}
  ODD: {default: "y"}
  LINES: {default: "a\\nb\\n"}
  TOKEN: {secret: true}
  ONLY_MAILER: {services: [mailer], default: "1.10"}
  NOWHERE: {}
destinations:
  k8s: {type: manifests, from: k8s, to: "out/{stage}", workloads: {shop/app: web, night: mailer}}
"""
KINDS = {
    "Deployment": "spec: {selector: {matchLabels: {a: b}}, template: {metadata: {labels: {a: b}}, spec: SPEC}}",
    "StatefulSet": (
        "spec: {serviceName: s, selector: {matchLabels: {a: b}}, template: {metadata: {labels: {a: b}}, spec: SPEC}}"
    ),
    "DaemonSet": "spec: {selector: {matchLabels: {a: b}}, template: {metadata: {labels: {a: b}}, spec: SPEC}}",
    "Job": "spec: {template: {spec: SPEC}}",
    "CronJob": 'spec: {schedule: "0 3 * * *", jobTemplate: {spec: {template: {spec: SPEC}}}}',
    "Pod": "spec: SPEC",
}
API = {
    "Deployment": "apps/v1",
    "StatefulSet": "apps/v1",
    "DaemonSet": "apps/v1",
    "Job": "batch/v1",
    "CronJob": "batch/v1",
    "Pod": "v1",
}


def documents(folder: Path) -> list[dict[str, Any]]:
    return [item for path in sorted(folder.rglob("*.yaml")) for item in yaml.safe_load_all(path.read_text()) if item]


def every_kind() -> str:
    """A workload of each kind, written in different styles, with an init container that belongs to another service."""
    init = "initContainers: [{name: mailer, image: x, env: [{name: LEVEL, value: old}]}]"
    spec = (
        f'{{restartPolicy: Never, {init}, containers: [{{name: web, image: x, env: [{{name: PORT, value: "1"}}, '
        f"{{name: MINE, value: kept}}]}}]}}"
    )
    return "\n---\n".join(
        f"apiVersion: {API[kind]}\nkind: {kind}\nmetadata: {{name: a-{kind.lower()}}}\n{text.replace('SPEC', spec)}"
        for kind, text in KINDS.items()
    )


def test_every_kind_is_rewritten_and_valid(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR, prod="all: {TOKEN: made-up-secret}\n")
    cj.write({"k8s/all.yaml": every_kind().replace("restartPolicy: Never, ", "restartPolicy: Always, ", 3)})
    done = cj("render", "prod")
    assert [line for line in done.err.splitlines() if "must be deleted" in line] == [
        (
            f"k8s/all.yaml:{line}:18: {kind} {name} must be deleted and created again for new values: a cluster "
            "does not change it in place"
        )
        for line, kind, name in ((18, "Job", "a-job"), (28, "Pod", "a-pod"))
    ]
    created = documents(cj.folder / "out/prod")
    for item in created:
        kubernetes_validate.validate(item, "1.29", strict=True)
    objects = {
        (item["kind"], item["metadata"]["annotations"]["coinjar/service"]): item
        for item in created
        if item["kind"] in ("ConfigMap", "Secret")
    }
    assert objects["ConfigMap", "all"]["data"] == {"PORT": "8080", "LEVEL": "info", "ODD": "y", "LINES": "a\nb\n"}
    assert objects["ConfigMap", "mailer"]["data"] == {"ONLY_MAILER": "1.10"}
    assert objects["Secret", "all"]["data"] == {"TOKEN": "bWFkZS11cC1zZWNyZXQ="}
    assert len(objects) == 3
    named = {key: item["metadata"]["name"] for key, item in objects.items()}
    shared = [{"configMapRef": {"name": named["ConfigMap", "all"]}}, {"secretRef": {"name": named["Secret", "all"]}}]
    for item in created:
        if item["kind"] in KINDS:
            pod = item["spec"]
            while "containers" not in pod:
                pod = (
                    pod.get("jobTemplate", pod).get("spec", pod)
                    if "jobTemplate" in pod
                    else pod["template"]["spec"]
                    if "template" in pod
                    else pod["spec"]
                )
            assert pod["containers"][0]["env"] == [{"name": "MINE", "value": "kept"}]
            assert sorted(map(str, pod["containers"][0]["envFrom"])) == sorted(map(str, shared))
            assert "env" not in pod["initContainers"][0]
            assert {"configMapRef": {"name": named["ConfigMap", "mailer"]}} in pod["initContainers"][0]["envFrom"]
    cj.write(
        {"jar/jar.yaml": cj.read("jar/jar.yaml").replace('to: "out/{stage}"', 'to: "out/{stage}", string_data: true')}
    )
    shown = cj("render", "prod", "--dry-run").out
    assert "+stringData:\n+  TOKEN = •••• 14 chars #1" in shown
    secret = next((cj.folder / "out/prod").glob("*.secret.yaml"))
    assert secret.stat().st_mode & 0o777 == 0o600
    assert "bWFkZS11cC1zZWNyZXQ" not in done.out + done.err + cj("render", "prod", "--dry-run").out


SHOP = """\
# kept: everything that is not managed
apiVersion: apps/v1
kind: Deployment
metadata: {name: shop}
spec:
  selector: {matchLabels: {a: b}}
  template:
    metadata: {labels: {a: b}}
    spec:
      containers:
      - name: app          # the shop
        image: "x"
        env:
        - name: PORT
          value: "1"
        # from the cluster
        - {name: LEVEL, valueFrom: {fieldRef: {fieldPath: metadata.name}}}
        - name: NOWHERE
          value: stays
        - name: TOKEN
          valueFrom:
            secretKeyRef: {name: old, key: t}
        envFrom:
        - configMapRef: {name: other}
      - {name: stranger, image: x, env: [{name: PORT, value: "2"}]}
---
apiVersion: v1
kind: Secret
metadata: {name: old}
data: {t: b2xk}
"""


def test_what_is_not_managed_stays_and_is_told(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR, prod="all: {TOKEN: x}\n")
    cj.write({"k8s/shop.yaml": SHOP, "k8s/list.yaml": "kind: List\nitems: []\n", "k8s/a.json": "{}"})
    assert "jar/.local/naming.key: there was no key yet to name Secrets with" in cj("render", "prod", "--dry-run").err
    message = cj("render", "prod").err
    assert "jar/.local/naming.key" in message
    assert "naming.key" not in cj("render", "prod").err
    for line in (
        "k8s/list.yaml:2:8: lists of objects are not supported",
        "k8s/a.json: JSON manifests are copied unchanged",
        "k8s/shop.yaml:17:11: LEVEL of shop is set from another source here, which overrides the managed value",
        "k8s/shop.yaml:18:11: NOWHERE of shop was left unchanged: the jar has no value for web on prod",
        "k8s/shop.yaml:25:9: the container stranger of shop belongs to no service, so its PORT were left unchanged",
    ):
        assert line in message
    names = {path.name.split(".")[-2]: path.name.split(".")[0] for path in (cj.folder / "out/prod").glob("trial-*")}
    expected = SHOP.replace('        - name: PORT\n          value: "1"\n', "").replace(
        "        - name: TOKEN\n          valueFrom:\n            secretKeyRef: {name: old, key: t}\n", ""
    )
    expected = expected.replace(
        "{name: other}\n",
        (
            f"{{name: other}}\n        - configMapRef:\n"
            f"            name: {names['configmap']}\n        - secretRef:\n"
            f"            name: {names['secret']}\n"
        ),
    )
    assert cj.read("out/prod/shop.yaml") == expected
    codes = {finding["rule"] for finding in json.loads(cj("check", "--json", code=None).out)["findings"]}
    assert {"CJ022"} <= codes


def test_a_container_beside_the_service_gets_nothing(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR, prod="all: {TOKEN: x}\n")
    plain, inline = "{name: NAME, image: x}", "{name: NAME, image: x, env: [{name: PORT, value: '1'}]}"
    pod = "kind: Pod\nmetadata: {name: web}\nspec: {initContainers: [INIT], containers: [MAIN]}\n"
    cj.write({
        "k8s/one.yaml": pod.replace("INIT",
            f"{plain}, {inline}".replace("NAME", "wait", 1).replace("NAME", "migrate")).replace("MAIN",
            plain.replace("NAME", "main")),
        "k8s/two.yaml": pod.replace("INIT", "").replace("MAIN",
            f"{plain}, {plain}".replace("NAME", "web", 1).replace("NAME", "proxy")),
    })  # fmt: skip
    cj("render", "prod")
    environment: dict[str, int] = {}
    for file in ("one", "two"):
        spec = yaml.safe_load(cj.read(f"out/prod/{file}.yaml"))["spec"]
        environment |= {
            item["name"]: len(item.get("envFrom", []))
            for section in ("initContainers", "containers")
            for item in spec[section] or []
        }
    assert environment == {"wait": 0, "migrate": 2, "main": 2, "web": 2, "proxy": 0}


def test_refusals_come_before_anything_is_written(jar: Callable[..., Coinjar]) -> None:
    big = "x" * 400_000
    cj = jar(
        JAR.replace("  NOWHERE: {}", "  NOWHERE: {}\n  BIG1: {}\n  BIG2: {}\n  BIG3: {}"),
        prod=f"all: {{TOKEN: x, BIG1: {big}, BIG2: {big}, BIG3: {big}}}\n",
    )
    cj.write({"k8s/shop.yaml": SHOP})
    message = cj("render", "prod", code=3).err
    assert "kube-configmap cannot carry them together: they are 1171 KiB, but an object holds at most 1 MiB" in message
    assert not (cj.folder / "out").exists()
    cj.write({"k8s/shop.yaml": "a: [1\n"})
    assert "k8s/shop.yaml:2:1: this is not YAML" in cj("render", "prod", code=3).err


def test_names_follow_content_and_old_objects_are_listed(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR, prod="all: {TOKEN: first}\n")
    cj.write({"k8s/shop.yaml": SHOP})
    names = []
    for number, level in enumerate("abcb"):
        cj("put", f"LEVEL={level}", "--stage", "prod")
        cj("render", "prod")
        names.append({path.name for path in (cj.folder / "out/prod").glob("*.configmap.yaml")})
        cj("render", "prod", "--verify")
        assert len(names[-1]) == min(number + 1, 3)
    assert cj("render", "prod", "--stale").out == ""
    assert cj("render", "prod", "--stale", "--keep", "1").out == f"out/prod/{(names[0]).pop()}\n"
    cj("put", "TOKEN", "--stage", "dev", stdin="first")
    cj("render", "dev")
    digests = [path.name.split("-")[1] for path in (cj.folder / "out").glob("*/*.secret.yaml")]
    assert len(digests) == len(set(digests)) == 2  # equal secrets, and nobody sees that they are
    name = cj("render", "prod", "--json").out
    moved = cj("render", "prod", "--json", "--dry-run", env={"COINJAR_NAMING_KEY": "0" * 64}).out
    assert {path["path"] for path in json.loads(name)["files"]} ^ {
        path["path"] for path in json.loads(moved)["files"]
    }  # the Secret's name is keyed
    assert "this is not a naming key" in cj("render", "prod", code=3, env={"COINJAR_NAMING_KEY": "short"}).err


def test_kubectl_applies_what_is_rendered(demo: Coinjar, tmp_path: Path) -> None:
    kubectl = need("kubectl")

    def run(*arguments: str) -> str:
        argv = [kubectl, "--kubeconfig", config, "--cache-dir", str(tmp_path / "cache"), *arguments]
        done = subprocess.run(argv, capture_output=True, text=True, check=False, env={"HOME": str(tmp_path)})
        assert done.returncode == 0, done.stderr
        return done.stdout

    with standin("hayloft", tmp_path / "hayloft") as hayloft:
        config, objects = hayloft.standin.more()["kubeconfig"], hayloft.standin.state["objects"]
        demo("render", "rehearsal", "workloads")
        run("apply", "--validate=false", "-f", str(demo.folder / "build/rehearsal/k8s"))
        live = objects["default/deployments/ticketing"]["spec"]["template"]["spec"]["containers"][0]
        assert "env" not in live
        held = objects[f"default/configmaps/{live['envFrom'][0]['configMapRef']['name']}"]["data"]
        assert held["PUBLIC_URL"] == "https://rehearsal.sandling.example/"
        hayloft.server.seen.clear()
        demo("put", "FARE_ZONES=4", "--stage", "rehearsal", "--service", "ticketing")
        demo("render", "rehearsal", "workloads")
        run("apply", "--validate=false", "-f", str(demo.folder / "build/rehearsal/k8s"))
        name = run(
            "get",
            "deployment",
            "ticketing",
            "-o",
            "jsonpath={.spec.template.spec.containers[0].envFrom[1].configMapRef.name}",
        )
        # its new object, and the one workload that uses it
        assert f"default/configmaps/{name}" in objects
        wrote = [request for request in hayloft.server.seen if not request.startswith("GET")]
        assert wrote == [
            "POST /api/v1/namespaces/default/configmaps",
            "PATCH /apis/apps/v1/namespaces/default/deployments/ticketing",
        ]


def test_adopted_and_rendered_manifests_run_with_the_same_environment(demo: Coinjar, tmp_path: Path) -> None:
    """The repetitive manifests of the demo, adopted by a jar that is made for them, rendered, and both
    run by podman.
    """
    fresh = Coinjar(tmp_path / "fresh")
    shutil.copytree(demo.folder / "k8s", fresh.folder / "k8s")
    fresh(
        "new",
        "--app",
        "line",
        *[word for service in SERVICES for word in ("--service", service)],
        "--stage",
        "rehearsal",
    )
    result = fresh("adopt", "manifests:k8s", "--stage", "rehearsal", "--yes")
    assert result.out.startswith("manifests:k8s → rehearsal: 15 new names")
    assert "NODE_NAME of berths comes from the cluster itself" in result.err
    plain = yaml.safe_load(fresh.read("jar/plain/rehearsal.yaml"))
    assert plain["all"]["APP_TITLE"] == "Sandling Ferries (rehearsal)"  # said four times before, now once
    assert {name for scope in plain if scope != "all" for name in plain[scope]} >= {"LISTEN_PORT", "LOG_LEVEL"}
    with (fresh.folder / "jar/jar.yaml").open("a") as file:
        file.write('destinations: {k8s: {type: manifests, from: k8s, to: "out/{stage}"}}\n')
    fresh("render", "rehearsal")
    assert fresh("compare", "manifests:k8s", "dest:k8s@rehearsal").out.startswith(
        "manifests:k8s and dest:k8s@rehearsal: 27 the same"
    )
    before = podman_play(demo.folder / "k8s", SERVICES)
    after = podman_play(fresh.folder / "out/rehearsal", SERVICES)
    assert set(before) == set(SERVICES)
    assert before == after


@pytest.mark.parametrize(
    ("env", "environment"),
    [
        ("[{name: A, value: '1'}, {name: B, value: '$(A)-$$(A)-$(NO)'}]", {"A": "1", "B": "1-$(A)-$(NO)"}),
        ("[{name: A, valueFrom: {configMapKeyRef: {name: c, key: k}}}, {name: B}]", {"A": "v", "B": ""}),
        (
            "[{name: K, value: over}]\n    envFrom: [{configMapRef: {name: c}, prefix: P_}, {configMapRef: {name: c}}]",
            {"P_k": "v", "k": "v", "K": "over"},
        ),
    ],
)
def test_environments_are_read_as_kubernetes_works_them_out(cj: Coinjar, env: str, environment: dict[str, str]) -> None:
    cj.write(
        {
            "m.yaml": (
                f"kind: Pod\nmetadata: {{name: p}}\nspec:\n  containers:\n  - name: web\n    env: {env}\n---\n"
                f"kind: ConfigMap\nmetadata: {{name: c}}\ndata: {{k: v}}\n"
            )
        }
    )
    cj.write({"all.json": json.dumps(environment)})
    done = cj("compare", "manifests:m.yaml", "file:all.json", "--all", code=None)
    assert done.code == 0, done.out
