"""`type: host`: an env file on machines over SSH, many at once: written beside its target, then renamed; mode 0600; a
reload command.
"""

from __future__ import annotations

import asyncio
import re
import shlex
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from yaml.nodes import MappingNode

from coinjar.core.consent import READS, RUNS, Act
from coinjar.core.delivery import DeliveryChange, DesiredValue, LiveValue
from coinjar.core.errors import CoinJarError, InputError
from coinjar.core.model import Destination
from coinjar.destinations.live.base import NOW, LiveDestination, RestartState, Target, last_lines, unreadable
from coinjar.destinations.live.declared_acts import contact, content_digest, file_words, ssh_programs
from coinjar.destinations.live.env_file import EnvFileTarget, read_dialect
from coinjar.destinations.live.names_there import check_declared
from coinjar.destinations.live.ssh_address import (
    MachineFault,
    SshAddress,
    has_own_configuration,
    network_connection,
    parse_address,
)
from coinjar.destinations.options import NAMES, Option
from coinjar.destinations.stage_view import RenderContext, StageView
from coinjar.documents.field_reader import FieldReader
from coinjar.system.files import expanded, is_outside, leads_outside, link_outside

if TYPE_CHECKING:
    from coinjar.destinations.live.machine import Machine

_NAMED = 4
"""Machines that a consent names; of more, their number and a digest of all."""


class HostDestination(LiveDestination):
    """`hosts` (a list, or a list per stage), `path`, `as`; `owner`, `reload`, `known_hosts`, `identity_file`,
    `ssh_config`, `at_once`.
    """

    declared: Mapping[str, Option] = {
        "hosts": Option(
            "Machines ([USER@]HOST[:PORT]), as one list or by stage.",
            {
                "anyOf": [
                    {"$ref": "#/$defs/names"},
                    {"type": "object", "additionalProperties": {"$ref": "#/$defs/names"}},
                ]
            },
            needed=True,
        ),
        "path": Option("The file there; {stage}, {service} and {host} are replaced.", needed=True),
        "as": Option("The dialect of the file; default: systemd."),
        "owner": Option("The owner of the file there: USER:GROUP."),
        "reload": Option("The command to run there after a change, so that the service reads the file.", NAMES),
        "known_hosts": Option("The known_hosts file; default: the user's own."),
        "identity_file": Option("The SSH key; default: the user's own keys and the agent."),
        "ssh_config": Option("A configuration file of OpenSSH's client."),
        "at_once": Option("How many machines at the same time; default: 128.", {"type": "integer", "minimum": 1}),
    }

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.path = self.pattern("path", ("stage", "service", "host"))
        self.owner = self.text("owner")
        self.reload = self.command_of("reload", ("stage", "service", "host"))
        self.dialect = read_dialect(self, "systemd")
        self.hosts = self._hosts()
        self._refuse_one_file_for_two_stages()
        self.at_once = max(self.count("at_once", 128), 1)
        self._users: dict[SshAddress, set[str]] = {}
        self._shared: dict[str, object] | None = None
        self._machines: dict[SshAddress, asyncio.Future[Machine]] = {}
        if self.owner and not re.fullmatch(r"\d+:\d+|[a-z_][\w-]*(:[a-z_][\w-]*)?", self.owner):
            fields.fault(self.options["owner"], "'owner' is user, or user:group", "write root:ticketing", "destination")

    def _hosts(self) -> dict[str, list[SshAddress]]:
        node = self.options.get("hosts")
        if node is None:
            return {}
        lists = [("", node)]
        if isinstance(node, MappingNode):
            members = list(self.fields.members(node, "'hosts'"))
            for stage, key, _ in members:
                check_declared(self.fields, key, stage, "hosts", list(self.render_context.jar.stages))
            lists = [(stage, value) for stage, _, value in members]
        result: dict[str, list[SshAddress]] = {}
        for stage, value in lists:
            result[stage] = []
            for text, at in self.fields.texts(value, "'hosts'"):
                if address := parse_address(text):
                    result[stage].append(address)
                else:
                    self.fields.fault(at, f"'{text}' is not a host", "write [USER@]HOST[:PORT]", "destination")
        return result

    def _refuse_one_file_for_two_stages(self) -> None:
        """Refuse stages that would overwrite each other's file; the machine cannot show this."""
        if "{stage}" in self.path or "hosts" not in self.options:
            return
        where: dict[SshAddress, list[str]] = {}
        for stage, addresses in self.hosts.items():
            for address in addresses:
                where.setdefault(address, []).append(stage)
        jar, wanted = self.render_context.jar, self.destination.stages
        every = [
            name
            for name, stage in jar.stages.items()
            if wanted is None
            or name in wanted
            or (stage.follows and any(name in wanted for name in jar.chain(stage.follows)))
        ]
        for address, stages in where.items():
            shared = every if stages == [""] else stages
            if len(shared) > 1:
                message = f"{address.name} would have one file for {', '.join(shared)}, which overwrite each other"
                self.fields.fault(
                    self.options["path"],
                    message,
                    "add {stage} to path, or limit the destination (stages:)",
                    "same-place",
                )
                return

    def hosts_of(self, stage: str) -> list[SshAddress]:
        """Return the machines of a stage: its own list, that of a stage it follows, or the one for all."""
        jar = self.render_context.jar
        names = [
            name for other_name in reversed(jar.chain(stage)) for name in (other_name, jar.stage(other_name).name)
        ]  # a stage that matches a pattern, then the pattern
        return next((self.hosts[name] for name in names if name in self.hosts), self.hosts.get("", []))

    def acts(self) -> list[Act]:
        known, key, config, acts = "", "", "", list[Act]()
        if "known_hosts" in self.options:
            words, acts = file_words(self, "known_hosts")
            known = f"known by {words}"
        if "identity_file" in self.options:
            key = f"with the key in {self.text('identity_file')}"
            acts.append(Act(READS, self.text("identity_file"), self.destination.location))
        if "ssh_config" in self.options:
            words, more = file_words(self, "ssh_config")
            config, acts = f"configured by {words}", [*acts, *more, *ssh_programs(self, "ssh_config")]
        logins = list(dict.fromkeys(address.login for hosts in self.hosts.values() for address in hosts))
        named = ", ".join(logins[:_NAMED])
        if len(logins) > _NAMED:
            named = f"{len(logins)} machines: {named}, … ({content_digest(' '.join(logins).encode())})"
        if self.reload:
            acts.append(Act(RUNS, f"there: {shlex.join(self.reload)}", self.destination.location))
        return [contact(self, f"{named} (SSH)", f"file {self.path}", known, key, config), *acts]

    def targets(self, view: StageView) -> list[Target]:
        hosts = self.hosts_of(view.stage)
        if not hosts:
            message = f"{self.destination.name} has no hosts for {view.stage}"
            raise InputError(
                message,
                hint=f"add hosts: {{{view.stage}: [HOST]}}",
                location=self.destination.location,
                code="destination",
            )
        services = view.services()
        if len(services) > 1 and "{service}" not in self.path:
            message = f"{self.destination.name} has {len(services)} services, but a path for one"
            raise InputError(
                message, hint="add {service} to path", location=self.destination.location, code="destination"
            )
        wanted = {service: self.wanted_of(view, service) for service in services}  # shared by all machines
        return [HostTarget(self, view, service, host, wanted[service]) for service in services for host in hosts]

    async def connect(self, target: HostTarget) -> Machine:
        """Return the connection to a target's machine, which several services on it share. Raises ExternalError."""
        self._users.setdefault(target.address, set()).add(target.key)
        if target.address not in self._machines:
            self._machines[target.address] = asyncio.ensure_future(self._connected(target.address))
        with target.faults():
            return await self._machines[target.address]

    async def _connected(self, address: SshAddress) -> Machine:
        """Connect to a machine: the SSH library is imported while the first ones answer. Raises MachineFault."""
        options: dict[str, object] = {"config": [str(self._file("ssh_config"))] if "ssh_config" in self.options else ()}
        if address.user:
            options["username"] = address.user
        if address.port:
            options["port"] = address.port
        is_direct = "ssh_config" not in self.options and not has_own_configuration()
        sock = await network_connection(address) if is_direct else None
        try:
            from coinjar.destinations.live import machine

            options |= self._read_once(machine.shared_options)
        except BaseException:
            if sock is not None:
                sock.close()
            raise
        return await machine.connected(address.host, options, sock)

    def _read_once(self, read: Callable[[Path | None, Path | None], dict[str, object]]) -> dict[str, object]:
        """Return the known hosts and the key, read once for all machines. Raises MachineFault."""
        if self._shared is None:
            known, key = (
                self._file(name) if name in self.options else None for name in ("known_hosts", "identity_file")
            )
            self._shared = read(known, key)
        return self._shared

    def _file(self, key: str) -> Path:
        path = self.render_context.root / expanded(self.text(key))
        if not is_outside(self.text(key)) and leads_outside(path, self.render_context.root):
            raise link_outside(path)  # SSH reads the file itself: a link to a person's own key is not followed
        return path

    async def disconnect(self, target: HostTarget) -> None:
        """Close the connection to a target's machine, once no other target uses it."""
        users = self._users.get(target.address, set())
        users.discard(target.key)
        future = self._machines.pop(target.address, None) if not users else None
        if future is not None and future.done() and not future.cancelled() and future.exception() is None:
            await future.result().end()


class HostTarget(Target):
    """A service's file on a machine."""

    whole = True
    reopens = True

    def __init__(
        self, host: HostDestination, view: StageView, service: str, address: SshAddress, wanted: dict[str, DesiredValue]
    ) -> None:
        self.made = host
        self.address = address
        self.path = host.fill_there(host.path, view.stage, service, host=address.name)
        self.file = EnvFileTarget(host.dialect, host.render_context, view.heading(service))
        self.reload = [host.fill_there(word, view.stage, service, host=address.name) for word in host.reload]
        self.needs_restart = bool(self.reload)
        label = f"{host.destination.name} ({service} at {address.name})"
        super().__init__(f"{service}@{address.name}", label, [service], wanted, host.destination.location)

    def unsupported_variables(self) -> list[CoinJarError]:
        return self.file.unsupported_variables(self.label, self.desired_values)

    async def identity(self) -> str:
        await self.made.connect(self)  # its key in known_hosts identifies it
        return ""

    @contextmanager
    def faults(self) -> Iterator[None]:
        """Raise the faults of the machine as errors of this target."""
        try:
            yield
        except MachineFault as fault:
            raise unreadable(self, fault.words, fault.hint, code=fault.code) from None

    async def read(self) -> dict[str, LiveValue]:
        machine = await self.made.connect(self)
        with self.faults():
            data = await machine.read(self.path)
        if data is None:
            return {}
        try:
            return self.file.held(data, f"{self.address.name}:{self.path}")
        except InputError as fault:
            raise unreadable(
                self,
                f"cannot parse {self.path}: {fault.message}",
                "check that it is the right file; move it away to have it written again",
            ) from None

    def steps(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> list[str]:
        del live
        owner = f", owner {self.made.owner}" if self.made.owner else ""
        names = ", ".join(change.name for change in changes)
        lines = [
            (
                f"{self.address.name}: write {self.path} (0600{owner}, {len(self.desired_values)} variables; {names} "
                "differ)"
            )
        ]
        return lines + ([f"{self.address.name}: with --restart {shlex.join(self.reload)}"] if self.reload else [])

    async def write(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> None:
        del changes, live  # the file is written whole
        self.before_write()
        machine = await self.made.connect(self)
        with self.faults():
            await machine.replace(self.path, self.file.data(self.desired_values), self.made.owner)

    def restart_words(self) -> str:
        return f"runs {shlex.join(self.reload)} there" if self.reload else ""

    async def effect(self) -> RestartState | None:
        return None if self.reload else NOW

    async def restart(self) -> None:
        machine = await self.made.connect(self)
        command = shlex.join(self.reload)
        with self.faults():
            status, output = await machine.run(command, self.made.restart_timeout)
        if status:
            message = last_lines(output, self.desired_values.values())
            words = f"{self.reload[0]} ended with {status}" + (f": {message}" if message else ", and printed nothing")
            raise unreadable(self, words, f"the file is written; run there by hand: {command}", code="reload")

    async def close(self) -> None:
        await self.made.disconnect(self)
