"""What Kubernetes fills in by itself keeps its meaning when variables move into objects; and what else of manifests
must stay or be said.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import yaml

from tests.conftest import Coinjar

JAR = (
    "services: {web: {}, worker: {}}\nstages: {dev: {}, prod: {}}\n"
    "variables: {URL: {}, HOST: {}, LEVEL: {default: info}, TOKEN: {secret: true}, %s}\n"
    "destinations: {k8s: {type: manifests, from: k8s, to: 'out/{stage}', %s}}\n"
)
SHOP = """\
apiVersion: v1
kind: %(kind)s
metadata: {name: shop, namespace: "4"}
%(open)s
      containers:
      - name: web
        image: x
        env:
        - {name: POD_IP, valueFrom: {fieldRef: {fieldPath: status.podIP}}}
        - {name: URL, value: "http://$(POD_IP):8080/$$(HOST)"}
        - {name: BEFORE, value: "$(HOST) $$ $(A$$B) $(LEVEL)"}
        - {name: HOST, value: here}
        - {name: BEHIND, value: "$(HOST)"}
        - {name: LEVEL, value: old}
        - {name: LEVEL, value: older}
        - {name: TOKEN, value: written-down}
"""
TEMPLATE = {"ReplicationController": "spec:\n  template:\n    spec:", "PodTemplate": "template:\n  spec:"}


def as_kubernetes(folder: Path, container: str = "web") -> dict[str, str]:
    """What the container gets: objects in order, then its own entries, each `$(NAME)` replaced by what came before
    (core/v1, Container.env).
    """
    objects: dict[str, dict[str, str]] = {}
    result: dict[str, str] = {}
    documents = [
        item for path in folder.rglob("*.yaml") for item in yaml.safe_load_all(path.read_text(encoding="utf-8-sig"))
    ]
    for document in documents:
        if document["kind"] in ("ConfigMap", "Secret"):
            assert isinstance(document["metadata"].get("namespace", ""), str)
            objects[document["metadata"]["name"]] = {**document.get("data", {}), **document.get("stringData", {})}
    node: dict[str, Any] = next(document for document in documents if document["kind"] in TEMPLATE)
    node = node.get("spec", node)["template"]["spec"]
    [node] = [candidate for candidate in node["containers"] if candidate["name"] == container]
    for source in node.get("envFrom", []):
        result |= objects[next(iter(source.values()))["name"]]
    for item in node.get("env", []):
        text = item.get("value", "")
        if "valueFrom" in item:
            text = "10.0.0.7" if "fieldRef" in item["valueFrom"] else f"from {item['valueFrom']['secretKeyRef']}"
        result[item["name"]] = re.sub(
            r"\$\$|\$\(([^)]*)\)", lambda match: "$" if match[0] == "$$" else result.get(match[1], match[0]), text
        )
    return result


@pytest.mark.parametrize("kind", TEMPLATE)
def test_what_refers_to_a_field_stays_in_its_place(kind: str, jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        JAR % ("OTHER: {}", "string_data: true"),
        prod="web: {URL: 'http://$(POD_IP):9090/$(HOST)', HOST: there, TOKEN: made-up}\n",
    )
    cj.write({"k8s/shop.yaml": "\ufeff" + SHOP % {"kind": kind, "open": TEMPLATE[kind]}})
    for _ in range(2):
        cj("render", "prod")
    environment = as_kubernetes(cj.folder / "out/prod")
    assert environment == {
        "POD_IP": "10.0.0.7",
        "URL": "http://10.0.0.7:9090/$(HOST)",
        "HOST": "there",
        "LEVEL": "info",
        "TOKEN": "made-up",
        "BEFORE": "$(HOST) $ $(A$$B) $(LEVEL)",
        "BEHIND": "there",
    }
    assert (cj.folder / "out/prod/shop.yaml").read_bytes().startswith(b"\xef\xbb\xbf")


def test_a_secret_that_the_cluster_has_is_referred_to(jar: Callable[..., Coinjar]) -> None:
    cj = jar(
        JAR % ("OTHER: {}", "from_secret: 'shop-{stage}-{service}'"),
        prod="web: {HOST: there, URL: x, TOKEN: made-up-text}\n",
    )
    cj.write({"k8s/shop.yaml": SHOP % {"kind": "PodTemplate", "open": TEMPLATE["PodTemplate"]}})
    for _ in range(2):
        cj("render", "prod")
    assert as_kubernetes(cj.folder / "out/prod")["TOKEN"] == "from {'name': 'shop-prod-web', 'key': 'TOKEN'}"
    assert not any("made-up-text" in path.read_text() for path in (cj.folder / "out").rglob("*.yaml"))


def test_what_is_written_down_and_left_out_says_what_to_do(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR % ("OTHER: {}", "plain_only: true"), prod="web: {HOST: there, URL: x, TOKEN: made-up-text}\n")
    cj.write({"k8s/shop.yaml": SHOP % {"kind": "PodTemplate", "open": TEMPLATE["PodTemplate"]}})
    message = cj("render", "prod").err
    assert "TOKEN of shop was left unchanged: plain_only excludes secrets" in message
    assert "from_secret: NAME" in message
    cj = jar(JAR % ("OTHER: {}", "secrets: 'ref-{name}'"), prod="web: {HOST: there}\n")
    message = cj("render", "prod", code=3).err
    assert "'secrets' of k8s would write a text into an object" in message
    assert "from_secret: NAME" in message


def test_what_kubernetes_skips_is_said_and_the_rest_is_written(jar: Callable[..., Coinjar]) -> None:
    cj = jar(JAR % ("1ABC: {default: x}", ""), prod="web: {HOST: there, URL: x, TOKEN: made-up-text}\n")
    source = "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: old}\ndata: {1abc: x, HOST: y}\n---\n"
    cj.write(
        {
            "k8s/shop.yaml": source + SHOP % {"kind": "PodTemplate", "open": TEMPLATE["PodTemplate"]},
            "k8s/list.json": '{"kind": "List", "items": []}\n',
        }
    )
    cj.write(
        {
            "k8s/own.yaml": "kind: Farm\nmetadata: {name: a}\n"
            "spec:\n  pods:\n  - containers:\n    - {name: web, image: x}\n"
        }
    )
    message = cj("render", "prod").err
    assert "1ABC was skipped: Kubernetes makes no variable from such a key of a ConfigMap" in message
    assert "k8s/own.yaml:5:5: the containers of Farm a were not changed" in message
    assert "k8s/list.json: JSON manifests are copied unchanged" in message
    assert cj.read("out/prod/list.json") == '{"kind": "List", "items": []}\n'
    assert as_kubernetes(cj.folder / "out/prod")["HOST"] == "there"
