"""Descriptions of platforms, and the ways to other systems: hosts and their keys, tokens, values that an etcd keeps."""

from __future__ import annotations

import json
import os
import re
import stat
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
import yaml

from tests.conftest import Coinjar
from tests.line import line
from tests.places import there
from tests.systems import etcd, sshd, standin


def test_many_hosts_at_once_and_only_known_ones(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    user = subprocess.run(["id", "-un"], capture_output=True, text=True, check=True).stdout.strip()
    names = [f"h{number}.example" for number in range(1, 101)]
    with sshd(cj.folder / "sshd") as port:
        key = " ".join((cj.folder / "sshd/host_key.pub").read_text().split()[:2])
        blocks = [
            f"Host {name}\n  HostName 127.0.0.1\n  HostKeyAlias {name}\n  Port {port}\n  User {user}\n"
            for name in names
        ]
        cj.write({"known": "".join(f"{name} {key}\n" for name in names[:-1]), "ssh_config": "".join(blocks)})
        jar(
            "services: {web: {}}\nstages: {dev: {}}\nvariables: {LEVEL: {default: info}, TOKEN: {secret: true}}\n"
            f"destinations:\n  farm: {{type: host, hosts: {json.dumps(names)}, path: "
            f"'{cj.folder}/there/{{host}}/{{service}}.env', ssh_config: ssh_config,\n"
            f"    owner: '{os.getuid()}:{os.getgid()}', known_hosts: known, identity_file: sshd/user_key}}\n"
        )
        cj("put", "TOKEN", "--stage", "dev", stdin="made-up")
        done = cj("deliver", "dev", "--restart", code=5)
        assert "99 delivered, 1 failed" in done.out
        assert "farm (web at h100.example): its host key is not the known one" in done.err
        path = cj.folder / "there/h7.example/web.env"
        assert (path.read_text().count("TOKEN="), stat.S_IMODE(path.stat().st_mode)) == (1, 0o600)
        assert len(list((cj.folder / "there").rglob("*"))) == 2 * 99
        with (cj.folder / "known").open("a") as file:
            file.write(f"{names[-1]} {key}\n")
        assert "1 delivered, 99 up to date" in cj("deliver", "dev", "--restart").out
        text = cj.read("jar/jar.yaml")
        (cj.folder / "jar/jar.yaml").write_text(text.replace(json.dumps(names), json.dumps(names[-1:])))
        assert cj("drift", "dev").out.startswith("dev: 1 target up to date")
        (cj.folder / "sshd/user_key").write_text((cj.folder / "sshd/host_key").read_text())
        assert "Public key mismatch" in cj("drift", "dev", code=5).err
        (cj.folder / "sshd/user_key.pub").unlink()
        assert "it refused the login" in cj("drift", "dev", code=5).err
    assert "cannot connect" in cj("drift", "dev", code=5).err


def test_values_that_an_etcd_keeps(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with etcd(cj.folder / "etcd") as address, standin("saltmarsh", cj.folder / "s", "line") as salt:
        jar(
            "services: {web: {}}\nstages: {dev: {}, prod: {}}\n"
            "variables: {QUOTA: {kind: integer}, OTHER: {default: x}}\ndestinations:\n"
            f"  registry: {{type: etcd, address: '{address}', prefix: '/line/{{stage}}/', variables: [OTHER]}}\n"
            f"  salt: {{type: platform, platform: saltmarsh, address: '{salt.standin.address}', app: line, "
            f"stages: [dev], token: {{from_env: SALT}}}}\n",
            dev='all: {QUOTA: {stored_in: registry, key: "/shared/{stage}/quota"}}',
            prod="all: {QUOTA: {stored_in: registry, key: /nowhere}}",
        )
        cj.env["SALT"] = salt.token
        subprocess.run(
            ["etcdctl", "--endpoints", address, "put", "/shared/dev/quota", "0012"],
            env={"ETCDCTL_API": "3", "PATH": os.environ["PATH"]},
            check=True,
        )
        assert cj("value", "dev", "QUOTA").out.strip() == "12"
        assert "stored: " in cj("why", "dev", "QUOTA").out
        assert json.loads(cj("why", "dev", "QUOTA", "--json").out)["layers"][0]["form"] == "stored"
        cj("deliver", "dev", "salt")  # which has a loop of its own running
        assert salt.standin.state["apps"]["line"]["settings"]["QUOTA"] == "12"
        assert "registry has nothing under /nowhere" in cj("value", "prod", "QUOTA", code=3).err
        assert "2 values are in a store or another jar, which `check` does not read" in cj("check", code=None).err
    assert "cannot reach" in cj("value", "dev", "QUOTA", code=5).err


DESCRIPTION = """\
platform: 1
settings: {address: where}
account: {send: GET /a, is: "{/name}"}
list: {send: GET /v, map: /v}
write: {changes: {send: PUT /v, body: {v: "{changes}"}}}
"""


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("platform: 1", "platform: 2", "this version does not read this format"),
        ("{address: where}", "{space: where}", "the settings have no address"),
        ("send: GET /a", "send: LOOK /a", "'account' is not a request"),
        ("send: GET /a", 'send: "GET /a/{nope}"', "'{nope}' in 'account' is not defined"),
        ("map: /v", "map: v", "'v' is not a JSON Pointer"),
        ("map: /v", "map: /v, items: /v", "'list' requires either map or items"),
        ("{changes: {send: PUT /v", "{nope: {send: PUT /v", "unknown key 'nope' in 'write'"),
        ("{changes: {send: PUT /v", "{create: {send: PUT /v", "'write' cannot remove"),
        ("list:", "values: {empty: maybe}\nlist:", "'empty' is not valid as 'maybe'"),
        ("list:", "names: {shape: '('}\nlist:", "the pattern of names is not a valid pattern"),
        ("list:", "state: {send: GET /s}\nlist:", "'state' has neither pending nor saved and running"),
        ("list:", "restart: {send: POST /r, wait: {send: GET /r}}\nlist:", "'wait' has no until"),
        ("account:", "acount:", "did you mean 'account'?"),
    ],
)
def test_a_faulty_description_says_where(
    jar: Callable[..., Coinjar], cj: Coinjar, old: str, new: str, words: str
) -> None:
    jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {default: x}}\n"
        "destinations: {there: {type: platform, platform: x, address: 'http://127.0.0.1:1'}}\n"
    )
    cj.write({"jar/platforms/x.yaml": DESCRIPTION})
    assert "nothing found" in cj("check").out
    cj.write({"jar/platforms/x.yaml": DESCRIPTION.replace(old, new, 1)})
    message = cj("check", code=1).out
    assert "CJ017" in message
    assert words in message


def test_descriptions_and_their_schema_agree() -> None:
    import jsonschema

    from coinjar.core.errors import CoinJarError
    from coinjar.jarfile.schemas import schema_text
    from coinjar.platforms.description_reader import read_description

    schema = json.loads(schema_text("platform"))
    jsonschema.Draft202012Validator.check_schema(schema)
    pages = [
        path.read_text() for path in sorted((Path(__file__).parent.parent / "src/coinjar/platforms/shipped").iterdir())
    ]
    for text in [
        *pages,
        DESCRIPTION,
        DESCRIPTION.replace("account:", "acount:"),
        DESCRIPTION.replace("GET /a", "/a"),
        DESCRIPTION + "most: many\n",
        "platform: 1\n",
    ]:
        try:
            read_description(text.encode(), "x.yaml", "x")
            reads = True
        except CoinJarError:
            reads = False
        assert jsonschema.Draft202012Validator(schema).is_valid(yaml.safe_load(text)) is reads, text
    assert len(pages) == 3


def test_where_a_token_may_go(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """Not readable over a network, and not to another server."""
    jar(
        "services: {web: {}}\nstages: {dev: {}}\nvariables: {A: {default: x}, KEY: {secret: true}}\ndestinations:\n"
        "  far: {type: platform, platform: saltmarsh, address: 'http://hosting.example', app: line, token: "
        "{secret: KEY}, variables: [A]}\n"
        "  unset: {type: platform, platform: saltmarsh, address: {from_env: NOT_SET}, app: line, token: {secret: A}}\n"
    )
    cj("put", "KEY", "--stage", "dev", stdin="made-up-key")
    assert "would be sent unencrypted to hosting.example" in cj("deliver", "dev", "far", code=3).err
    jar_text = cj.read("jar/jar.yaml")
    cj.write({"jar/jar.yaml": jar_text.replace("token: {secret: A}", "token: {secret: KEY}, variables: [A]")})
    assert "unset (line): the environment has no NOT_SET" in cj("deliver", "dev", "unset", code=3).err
    cj.write({"jar/jar.yaml": jar_text})
    assert "A is not a declared secret" in cj("deliver", "dev", "unset", code=3).err


def test_removal_as_a_description_says_it(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """A removed variable is null, or empty; a value never becomes one of these."""
    shipped = Path(__file__).parent.parent / "src/coinjar/platforms/shipped/saltmarsh.yaml"
    with line(jar, cj) as (salt, _, _):
        salt.standin.state["apps"]["line-web-dev"]["settings"] = {"LEVEL": "x", "MAIL": "left over"}
        cj.write(
            {
                "jar/jar.yaml": cj.read("jar/jar.yaml").replace(
                    "MAIL: {services: [mailer], default", "MAIL: {services: [mailer, web], stages: [prod], default"
                )
            }
        )
        for way, spelled in (("empty", '""'), ("nothing", "null")):
            cj.write(
                {"jar/platforms/saltmarsh.yaml": shipped.read_text().replace("remove_by: empty", f"remove_by: {way}")}
            )
            message = cj("deliver", "dev", "hosting", "--dry-run", "--requests").out
            assert f'"MAIL": {spelled}' in message
            assert '"LEVEL": "info"' in message


def test_what_is_not_ours_stays_where_the_whole_set_is_replaced(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    with there("millrace", jar, cj) as system:
        system.outside("EXTRA", "somebody else's")
        cj("deliver", "dev", "--restart")
        assert system.own()["EXTRA"] == "somebody else's"
        cj("put", "TITLE", "--unset", "--stage", "dev")
        cj("deliver", "dev", "--restart")
        assert set(system.own()) == {"LEVEL", "LINK", "TOKEN", "EXTRA"}
        cj("put", "LEVEL=debug", "--stage", "dev")
        assert '"EXTRA": "somebody else\'s"' in cj("deliver", "dev", "--dry-run", "--requests").out
        cj("deliver", "dev", "--remove-extra")
        assert set(system.own()) == {"LEVEL", "LINK", "TOKEN"}


def test_an_answer_that_is_none_is_not_an_empty_set(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """Else all of it would be written anew."""
    with line(jar, cj) as (salt, _, _):
        cj("deliver", "dev", "hosting")
        shipped = (Path(__file__).parent.parent / "src/coinjar/platforms/shipped/saltmarsh.yaml").read_text()
        for wrong in ("map: /nope", "items: /settings"):
            cj.write({"jar/platforms/saltmarsh.yaml": shipped.replace("map: /settings", wrong)})
            assert re.search("the response has no (object|list) at '/", cj("deliver", "dev", "hosting", code=5).err)
        assert not [request for request in salt.server.seen if request.startswith("PATCH")][1:]
