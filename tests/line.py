"""A jar of two services, delivered to three stand-ins."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from tests.conftest import Coinjar
from tests.systems import Running, standin

TWO = """\
services: {web: {}, mailer: {}}
stages: {dev: {}, trial: {follows: dev}, prod: {guarded: true}}
variables:
  LEVEL: {default: info}
  MAIL: {services: [mailer], default: relay.example}
  TOKEN: {secret: true, services: [web]}
  PORT: {kind: port, default: 8080, supplied: {by: [hosting]}}
  PUBLIC_ADDRESS: {kind: url, required: true, services: [web], supplied: {by: [hosting], sample: "https://x.example/"}}
  LINK: {services: [mailer], default: {text: "${PUBLIC_ADDRESS@of:web}inbox"}}
destinations:
"""


HOSTING = (
    "  hosting: {type: platform, platform: saltmarsh, address: '%s', app: 'line-{service}-{stage}', token: "
    "{from_env: THERE}, variables: [LEVEL, MAIL, TOKEN, PUBLIC_ADDRESS], services: [web]}\n"
)


FISH = (
    "  fish: {type: platform, platform: lanternfish, address: '%s', project: 'line-{service}', stage_names: "
    "{prod: live}, token: {from_env: FISH}, services: [mailer], variables: [LEVEL, MAIL, LINK]}\n"
)


SLUICE = (
    "  pipes: {type: platform, platform: sluiceway, address: '%s', project: line, token: {from_env: PIPES}, "
    "variables: [LEVEL, MAIL, TOKEN]}\n"
)


@contextmanager
def line(jar: Callable[..., Coinjar], cj: Coinjar, more: str = "") -> Iterator[tuple[Running, Running, Running]]:
    """A jar of two services, delivered to three stand-ins."""
    folder = cj.folder / "standins"
    apps = [f"line-web-{stage}" for stage in ("dev", "trial", "prod")]
    with (
        standin("saltmarsh", folder, *apps) as salt,
        standin("lanternfish", folder, "line-mailer") as fish,
        standin("sluiceway", folder, "line") as sluice,
    ):
        jar(TWO + HOSTING % salt.standin.address + FISH % fish.standin.address + SLUICE % sluice.standin.address + more)
        cj.env |= {"THERE": salt.token, "FISH": fish.token, "PIPES": sluice.token, "COLUMNS": "140"}
        cj("put", "TOKEN", "--stage", "dev", stdin="made-up-token")
        yield salt, fish, sluice


def by_destination(cj: Coinjar, *arguments: str, code: int = 0) -> dict[str, Any]:
    return {target["destination"]: target for target in json.loads(cj(*arguments, "--json", code=code).out)["targets"]}
