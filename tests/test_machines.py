"""Deliveries to machines over SSH: how they are reached, and what is on them before."""

from __future__ import annotations

import getpass
import re
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.conftest import Coinjar
from tests.systems import free_port, sshd
from tests.test_program import imported

USER = getpass.getuser()
DECLARED = "stages: {dev: {}}\nvariables: {LEVEL: {default: info}}\ndestinations:\n"
KEYS = "known_hosts: sshd/known_hosts, identity_file: sshd/user_key"


@pytest.fixture
def port(cj: Coinjar) -> Iterator[int]:
    with sshd(cj.folder / "sshd") as port:
        yield port


def there(cj: Coinjar) -> list[str]:
    return sorted(path.name for path in (cj.folder / "there").iterdir())


def farm(cj: Coinjar, hosts: str, more: str = KEYS) -> str:
    return f"  farm: {{type: host, hosts: [{hosts}], path: '{cj.folder}/there/{{host}}.{{service}}', {more}}}\n"


def test_more_services_on_a_machine_than_sessions_in_a_connection(
    jar: Callable[..., Coinjar], cj: Coinjar, port: int
) -> None:
    """An sshd allows ten sessions to a connection unless it is configured otherwise."""
    services = ", ".join(f"s{number}: {{}}" for number in range(12))
    jar(
        f"services: {{{services}}}\n{DECLARED}"
        + farm(cj, f"'{USER}@127.0.0.1:{port}'", f"{KEYS}, reload: [sh, -c, 'sleep 0.3']")
    )
    assert "12 delivered" in cj("deliver", "dev", "--restart").out
    assert len(there(cj)) == 12
    assert "12 up to date" in cj("deliver", "dev", "--restart").out


def test_a_folder_that_is_missing_and_a_file_that_was_left(jar: Callable[..., Coinjar], cj: Coinjar, port: int) -> None:
    jar(f"services: {{web: {{}}, mailer: {{}}}}\n{DECLARED}" + farm(cj, f"'{USER}@127.0.0.1:{port}'"))
    assert "2 delivered" in cj("deliver", "dev").out
    for path in (cj.folder / "there").iterdir():
        assert path.stat().st_mode & 0o777 == 0o600
        path.with_name(f"{path.name}.coinjar-unfinished").write_text("half of a fi")
    cj("put", "LEVEL=debug", "--stage", "dev")
    assert "2 delivered" in cj("deliver", "dev").out
    assert there(cj) == [f"127.0.0.1:{port}.mailer", f"127.0.0.1:{port}.web"]
    assert {path.read_text().count("debug") for path in (cj.folder / "there").iterdir()} == {1}


@pytest.mark.parametrize("size", [0, 16383, 16384, 16385, 300_000])
def test_files_of_every_size_are_read_whole(jar: Callable[..., Coinjar], cj: Coinjar, port: int, size: int) -> None:
    jar(f"services: {{web: {{}}}}\n{DECLARED}" + farm(cj, f"'{USER}@127.0.0.1:{port}'"))
    cj("deliver", "dev")
    path = cj.folder / "there" / f"127.0.0.1:{port}.web"
    usual = path.read_text()
    path.write_text(f"{usual}# {'x' * (size - len(usual) - 3)}\n" if size else "")
    assert len(path.read_bytes()) == size
    assert ("1 target up to date" in cj("drift", "dev", code=None).out) == bool(size)
    path.write_text(f"# {'x' * size}\n{usual.replace('info', 'other')}")
    assert re.search(r"LEVEL +changed there", cj("drift", "dev", code=1).out)


def test_machines_by_name_and_by_the_persons_own_configuration(
    jar: Callable[..., Coinjar], cj: Coinjar, port: int
) -> None:
    known = cj.folder / "sshd/known_hosts"
    known.write_text(known.read_text() + known.read_text().replace("[127.0.0.1]", "[localhost]"))
    jar(f"services: {{web: {{}}}}\n{DECLARED}" + farm(cj, f"'{USER}@localhost:{port}'"))
    assert "1 delivered" in cj("deliver", "dev").out
    configuration = Path(cj.env["HOME"]) / ".ssh/config"
    configuration.parent.mkdir()
    configuration.write_text(
        f"Host pier\n  HostName 127.0.0.1\n  HostKeyAlias [127.0.0.1]:{port}\n  Port {port}\n  User {USER}\n"
    )
    cj.write({"jar/jar.yaml": (cj.folder / "jar/jar.yaml").read_text().replace(f"{USER}@localhost:{port}", "pier")})
    assert "1 delivered" in cj("deliver", "dev").out
    assert there(cj) == [f"localhost:{port}.web", "pier.web"]


def test_a_key_that_cannot_be_used_is_used_for_no_machine(jar: Callable[..., Coinjar], cj: Coinjar, port: int) -> None:
    """Not even for the second one, which was connected to with the person's own keys instead."""
    (cj.folder / "sshd/user_key").write_text("not a key\n")
    jar(f"services: {{web: {{}}}}\n{DECLARED}" + farm(cj, f"'{USER}@127.0.0.1:{port}', '{USER}@localhost:{port}'"))
    done = cj("deliver", "dev", code=5)
    assert "2 failed" in done.out
    assert done.out.count("cannot use the SSH key or configuration") == 2
    assert not (cj.folder / "there").exists()


def test_a_reload_during_which_the_connection_is_lost(jar: Callable[..., Coinjar], cj: Coinjar, port: int) -> None:
    """Nobody knows whether it succeeded, so it is not said."""
    jar(
        f"services: {{web: {{}}}}\n{DECLARED}"
        + farm(cj, f"'{USER}@127.0.0.1:{port}'", f"{KEYS}, reload: [sh, -c, 'kill -9 $PPID']")
    )
    done = cj("deliver", "dev", "--restart", code=5)
    assert "1 failed" in done.out
    assert "cannot run sh" in done.err
    assert "pending restart" in cj("drift", "dev", code=1).out


def test_machines_that_are_not_reached(jar: Callable[..., Coinjar], cj: Coinjar, port: int) -> None:
    closed = free_port()
    hosts = f"'{USER}@127.0.0.1:{closed}', '{USER}@127.0.0.1:{port}', '{USER}@nowhere.invalid:{port}'"
    jar(f"services: {{web: {{}}}}\n{DECLARED}" + farm(cj, hosts))
    done = cj("deliver", "dev", code=5)
    assert "1 delivered, 2 failed" in done.out, done.out
    assert f"farm (web at 127.0.0.1:{closed}): cannot connect (" in done.err
    assert f"farm (web at nowhere.invalid:{port}): cannot connect (" in done.err


def test_a_jar_with_machines_is_checked_without_the_ssh_library(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """Its import takes longer than the check."""
    jar(f"services: {{web: {{}}}}\n{DECLARED}" + farm(cj, "pier"))
    for command in (["check"], ["consent", "--show"]):
        assert "asyncssh" not in (modules := imported(cj, *command))
        assert "coinjar.destinations.live.host" in modules


def test_machines_of_a_stage_that_does_not_exist(jar: Callable[..., Coinjar], cj: Coinjar) -> None:
    """They were passed over, and nobody was told; a stage of a pattern, and a renamed one, are known."""
    jar(
        "services: {web: {}}\nstages: {dev: {}, prod: {}, trial-*: {}}\nvariables: {LEVEL: {default: info}}\n"
        "destinations:\n  farm: {type: host, hosts: {dev: [a.invalid], prdo: [b.invalid], trial-7: [c.invalid],\n"
        "    trial-*: [d.invalid]}, path: /x, stages: [dev]}\n"
    )
    done = cj("check", code=1)
    assert "jar/jar.yaml:7:48: error CJ017: farm: 'prdo' of hosts is not declared\n    did you mean 'prod'?" in done.out
    assert done.out.startswith("1 error")
    cj.write({"jar/jar.yaml": cj.read("jar/jar.yaml").replace("prdo", "prod")})
    assert "CJ017" not in cj("check", code=None).out
    cj("stages", "rename", "prod", "live", "--yes")
    assert "live: [b.invalid]" in cj.read("jar/jar.yaml")
    assert "CJ017" not in cj("check", code=None).out
