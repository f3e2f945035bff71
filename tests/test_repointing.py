"""What leads to the old place of a move: in the jar, on other systems, in files; and who must follow,
in which order.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from tests.conftest import Coinjar
from tests.systems import Running, standin

JAR = """\
services: {web: {}, site: {code: [site.py]}, shop: {}}
stages: {dev: {}, prod: {}, isles: {follows: prod}, isles-2: {follows: prod}}
variables:
  LEVEL: {default: info}
  PUBLIC_ADDRESS: {kind: url, services: [web, site], supplied: {by: [old, pages], sample: "https://x.example/"}}
  WEB_LINK: {services: [site]}
  SITE_LINK: {services: [shop], default: {text: "${PUBLIC_ADDRESS@of:site:-}home"}}
  SHOP_LINKS: {services: [shop], kind: json}
destinations:
  old: {type: platform, platform: saltmarsh, address: '%(salt)s', app: 'web-{stage}',
        token: {from_env: SALT}, services: [web], stages: [prod]}
  pages: {type: platform, platform: saltmarsh, address: '%(salt)s', app: '{service}-{stage}',
          token: {from_env: SALT}, services: [site, shop], stages: [prod], without: [SHOP_LINKS]}
  new: {type: platform, platform: lanternfish, address: '%(fish)s', project: web,
        token: {from_env: FISH}, services: [web], stages: [prod]}
"""
APPS = ("web-prod", "site-prod", "shop-prod", "site-isles", "shop-isles")


@contextmanager
def harbour(jar: Callable[..., Coinjar], cj: Coinjar) -> Iterator[tuple[Running, Running, str]]:
    """web on its old place, site and shop beside it; the address that web has there."""
    with (
        standin("saltmarsh", cj.folder / "standins", *APPS) as salt,
        standin("lanternfish", cj.folder / "standins", "web") as fish,
    ):
        jar(JAR % {"salt": salt.standin.address, "fish": fish.standin.address})
        cj.env |= {"SALT": salt.token, "FISH": fish.token, "COLUMNS": "170"}
        cj.write({"site.py": "import os\nos.environ['WEB_LINK']\n"})
        cj("deliver", "prod", "old", "--restart")
        yield salt, fish, f"{salt.standin.address}/run/web-prod/"


def settings(salt: Running, app: str) -> dict[str, str]:
    result: dict[str, str] = salt.standin.state["apps"][app]["running"]
    return result


def _become(cj: Coinjar, variable: str, text: str) -> None:
    """Say in the sheet what is to stand in a value."""
    lines = [
        re.sub(r"becomes: ('[^']*'|\"[^\"]*\"|[^,]*)", f"becomes: '{text}'", line)
        if f"variable: {variable}," in line
        else line
        for line in cj.read("move.yaml").splitlines()
    ]
    cj.write({"move.yaml": "\n".join(lines) + "\n"})


def test_who_follows_and_in_which_order(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with harbour(jar, cj) as (salt, fish, address):
        cj("put", f"WEB_LINK={address}tickets?price=$5", "--stage", "prod")
        cj("put", f'SHOP_LINKS=["{address}"]', "--stage", "prod")
        cj("deliver", "prod", "pages", "--restart")
        cj("deliver", "isles", "pages", "--restart")  # a stage that follows, delivered to before; isles-2 never was
        cj("migrate", "dest:old", "dest:new", "--out", "move.yaml")
        for becomes, words in (
            ("", "the new value of SHOP_LINKS is not known"),
            ("${PUBLIC_ADDRESS@of:web}", "SHOP_LINKS is of kind json, in which a reference would be data"),
        ):
            _become(cj, "SHOP_LINKS", becomes)
            assert words in cj("migrate", "--execute", "move.yaml", "--yes", code=3).err
        now = f"{fish.standin.address}/run/web/prod/"
        _become(cj, "SHOP_LINKS", now)
        done = cj("migrate", "--execute", "move.yaml", "--yes", "--restart")
        assert (
            settings(salt, "site-prod")["WEB_LINK"]
            == settings(salt, "site-isles")["WEB_LINK"]
            == f"{now}tickets?price=$5"
        )
        assert (
            cj("value", "prod", "SHOP_LINKS", "--service", "shop").out.replace(" ", "") == f'["{now}"]'
        )  # changed in the jar, delivered nowhere
        messages = [line for line in done.err.splitlines() if line.startswith("repointed: ")]
        assert messages == ["repointed: site on prod: pages", "repointed: site on isles: pages"]
        assert "isles-2" not in done.err + done.out


def test_an_address_that_the_listing_hides_is_found_by_the_jar(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """What the jar recorded of the old place leads to the values that contain it."""
    with harbour(jar, cj) as (salt, fish, address):
        cj("put", f"WEB_LINK={address}tickets", "--stage", "prod")
        salt.standin.state["apps"]["web-prod"]["given"].pop("PUBLIC_ADDRESS")
        cj("migrate", "dest:old", "dest:new", "--out", "move.yaml")
        lines = cj.read("move.yaml").partition("repointed:")[2]
        assert "{variable: WEB_LINK, where: prod/all" in lines
        cj("migrate", "--execute", "move.yaml", "--yes", "--restart")
        assert settings(salt, "site-prod")["WEB_LINK"] == f"{fish.standin.address}/run/web/prod/tickets"


def test_what_is_left_to_a_person(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """A value for every stage, one that only another system has, files of the code, and a system that
    does not answer.
    """
    with harbour(jar, cj) as (salt, fish, address):
        cj("put", f"WEB_LINK={address}", "--stage", "shared")
        cj("deliver", "prod", "pages", "--restart")
        salt.standin.state["apps"]["shop-prod"]["settings"]["BY_HAND"] = f"{address}cart"
        cj.write({"site.py": f"import os\nos.environ['WEB_LINK']\nFALLBACK = '{address}'\n"})
        text = cj.read("jar/jar.yaml")
        cj.write(
            {
                "jar/jar.yaml": text
                + (
                    "  gone: {type: platform, platform: saltmarsh, address: 'http://127.0.0.1:1', app: x, "
                    "token: {from_env: SALT}, services: [shop], stages: [prod]}\n"
                )
            }
        )
        result = cj("migrate", "dest:old", "dest:new", "--out", "move.yaml")
        assert "site.py:3 contains an address of old: change it by hand" in result.err
        assert "gone could not be searched for addresses" in result.err
        lines = cj.read("move.yaml").partition("repointed:")[2]
        assert "{variable: WEB_LINK, where: shared/all" in lines
        assert "write its new value" in lines
        assert "{variable: BY_HAND, where: 'prod/dest:pages'" in lines.replace('"', "'")
        assert "the new value of WEB_LINK is not known" in cj("migrate", "--execute", "move.yaml", "--yes", code=3).err
        assert not fish.standin.state["projects"]["web"]["variables"]
        _become(cj, "WEB_LINK", "https://tickets.example/")
        cj("migrate", "--execute", "move.yaml", "--yes", "--restart")
        assert settings(salt, "site-prod")["WEB_LINK"] == "https://tickets.example/"
        assert "left to you: not in the jar" in cj.read("move.yaml")
        assert salt.standin.state["apps"]["shop-prod"]["settings"]["BY_HAND"] == f"{address}cart"


def test_one_name_for_two_stages_is_refused(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with harbour(jar, cj):
        text = (
            cj.read("jar/jar.yaml")
            .replace("project: web,", "project: web, stage_names: {dev: live, prod: live},")
            .replace("services: [web], stages: [prod]}\n", "services: [web]}\n")
        )
        cj.write({"jar/jar.yaml": text})
        for command in (
            ("deliver", "dev", "new", "--dry-run"),
            ("migrate", "dest:old", "dest:new", "--out", "move.yaml"),
        ):
            assert (
                "new has the same name, live, for dev and prod, which would overwrite each other"
                in cj(*command, code=3).err
            )
        assert "which would overwrite each other" in cj("check", code=1).out


def test_moves_into_files(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """To a destination that is rendered; to a file, which is read back, and not written over another; of a name with
    several values.
    """
    compose = (
        "services:\n  web: {image: a, environment: {LEVEL: one, SAME: s}}\n"
        "  site: {image: b, environment: {LEVEL: two, SAME: s}}\n"
    )
    cj.write({"compose.yaml": compose, "there.env": "OTHER=1\n", "one.env": "LEVEL=debug\n"})
    cj("migrate", "compose:compose.yaml", "file+posix:out.env", "--out", "m.yaml")
    assert (
        "LEVEL has different values in all/web, all/site, but a file contains one"
        in cj("migrate", "--execute", "m.yaml", "--yes", code=3).err
    )
    assert not (cj.folder / "out.env").exists()
    cj("migrate", "file:one.env", "file+literal:there.env", "--out", "n.yaml")
    assert (
        "there.env: the file already exists, with different content"
        in cj("migrate", "--execute", "n.yaml", "--yes", code=3).err
    )
    assert cj.read("there.env") == "OTHER=1\n"
    assert "why: unchanged" in cj.read("n.yaml")
    (cj.folder / "there.env").unlink()
    for _ in range(2):  # once more does no harm
        cj("migrate", "--execute", "n.yaml", "--yes")
    assert cj.read("there.env") == "LEVEL=debug\n"
    assert "outcome: 'there, and equal'" in cj.read("n.yaml")
    assert (
        "is not a running system: remove it by hand"
        in cj("migrate", "--execute", "n.yaml", "--yes", "--empty-source").err
    )
    jar(
        "services: {web: {}}\nstages: {dev: {}}\n"
        "variables: {LEVEL: {default: info}, MORE: {}}\n"
        "destinations: {env: {type: file, as: literal, path: 'out/{stage}.env'}}\n"
    )
    cj.write({"in.env": "LEVEL=warning\nMORE=m\n"})
    cj("migrate", "file:in.env", "dest:env", "--stage", "dev", "--out", "o.yaml")
    assert "Nothing is sent: the new place is a file." in cj("migrate", "--execute", "o.yaml", "--dry-run").err
    cj("migrate", "--execute", "o.yaml", "--yes")
    assert cj.read("out/dev.env") == "LEVEL=info\nMORE=m\n"  # what the jar says goes before what is there
    groups: dict[str, Any] = {
        line.split(":")[0]: None for line in cj.read("o.yaml").splitlines() if line and line[0].isalpha()
    }
    assert {"carried", "replaced"} <= set(groups)
    data = json.loads(cj("compare", "file:in.env", "dest:env@dev", "--sheet", "o.yaml", "--json").out)["rows"]
    assert {line["name"]: line["sheet"].partition(":")[0] for line in data} == {"LEVEL": "replaced", "MORE": "carried"}
