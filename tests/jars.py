"""A jar with destinations; identities of others, and a jar's readers: for the tests of these."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

from tests.conftest import Coinjar

JAR = """\
services: {web: {}, mailer: {}}
stages: {dev: {}, prod: {}, prod-isles: {follows: prod}}
variables:
  PORT: {kind: port, default: 8080}
  LEVEL: {default: info}
  MAIL__HOST: {kind: host, services: [mailer]}
  MAIL_ON: {kind: boolean, default: false, spelling: {true: "1", false: "0"}, place: [mail, "on"]}
  PIERS: {kind: list, default: [north, south]}
  FARES: {kind: json, default: '{"a": [1.10, null]}'}
  TOKEN: {secret: true, services: [web]}
  TOKEN_LINE: {default: {text: "t=${TOKEN:-none}"}, services: [web]}
"""


SECRET = "made-up-secret"


PROD = f"all: {{TOKEN: {SECRET}, LEVEL: error, MAIL__HOST: mail.example}}\n"


def made(jar: Callable[..., Coinjar], destinations: str, **plain: str) -> Coinjar:
    return jar(JAR + f"destinations:\n{destinations}", **({"prod": PROD} | plain))


TEMPLATES = "  conf:\n    type: templates\n    services: [web]\n    from: in\n    suffix: .fill\n    to: out/{stage}\n"


def somebody(cj: Coinjar, name: str) -> tuple[dict[str, str], str]:
    """Another identity: the environment that uses it, but its recipient."""
    recipient = cj("identity", "new", "--out", f"{name}.identity").out.strip()
    return {"COINJAR_IDENTITY": "", "COINJAR_IDENTITY_FILE": f"{name}.identity"}, recipient


def readers_of(cj: Coinjar) -> list[dict[str, Any]]:
    """Label, recipient and stages of each."""
    listed = json.loads(cj("readers", "list", "--json").out)["readers"]
    return [item | {"opens": [stage["stage"] for stage in item["opens"]]} for item in listed]
