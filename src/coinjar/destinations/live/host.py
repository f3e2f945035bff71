"""`type: host`: an env file on machines over SSH, many at once: written beside its target, then renamed; mode 0600; a
reload command.
"""

from __future__ import annotations

import asyncio
import re
import shlex
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from yaml.nodes import MappingNode

from coinjar.core.consent import READS, RUNS, Act
from coinjar.core.delivery import DeliveryChange, DesiredValue, LiveValue
from coinjar.core.errors import CoinJarError, ExternalError, InputError
from coinjar.core.model import Destination
from coinjar.destinations.live.base import NOW, LiveDestination, RestartState, Target, last_lines, unreadable
from coinjar.destinations.live.declared_acts import contact, content_digest, file_words, ssh_programs
from coinjar.destinations.live.env_file import EnvFileTarget, read_dialect
from coinjar.destinations.live.fast_ssh_import import import_asyncssh
from coinjar.destinations.options import NAMES, Option
from coinjar.destinations.stage_view import RenderContext, StageView
from coinjar.documents.field_reader import FieldReader
from coinjar.system.files import expanded, is_outside, leads_outside, link_outside

import_asyncssh()

import asyncssh  # noqa: E402 - only after it was imported quickly

_UNFINISHED = ".coinjar-unfinished"
_NAMED = 4
"""Machines that a consent names; of more, their number and a digest of all."""
_PATIENCE = 30
"""Timeout of a connection, in seconds."""
_CHOWN_PATIENCE = 30
"""Timeout of changing a file's owner, in seconds."""


class SshAddress(NamedTuple):
    """`[USER@]HOST[:PORT]`."""

    user: str
    host: str
    port: int

    @property
    def name(self) -> str:
        return self.host if self.port in (0, 22) else f"{self.host}:{self.port}"

    @property
    def login(self) -> str:
        return f"{self.user}@{self.name}" if self.user else self.name


def parse_address(text: str) -> SshAddress | None:
    """Return the parts; None if it is not an address. An IPv6 address with a port is in brackets."""
    match = re.fullmatch(r"(?:([^@\s]+)@)?(?:\[([0-9a-fA-F:]+)\]|([^@:\s]+))(?::(\d{1,5}))?", text)
    return SshAddress(match[1] or "", match[2] or match[3], int(match[4] or 0)) if match else None


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
        self._users: dict[str, set[str]] = {}
        self._shared: dict[str, object] | None = None
        self._connections: dict[str, asyncio.Future[asyncssh.SSHClientConnection]] = {}
        if self.owner and not re.fullmatch(r"\d+:\d+|[a-z_][\w-]*(:[a-z_][\w-]*)?", self.owner):
            fields.fault(self.options["owner"], "'owner' is user, or user:group", "write root:ticketing", "destination")

    def _hosts(self) -> dict[str, list[SshAddress]]:
        node = self.options.get("hosts")
        if node is None:
            return {}
        lists = (
            [(key, value) for key, _, value in self.fields.members(node, "'hosts'")]
            if isinstance(node, MappingNode)
            else [("", node)]
        )
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

    async def connect(self, target: HostTarget) -> asyncssh.SSHClientConnection:
        """Return the connection to a target's machine, which several services on it share. Raises ExternalError."""
        name = f"{target.address.user}@{target.address.host}:{target.address.port}"
        self._users.setdefault(name, set()).add(target.key)
        if name not in self._connections:
            self._connections[name] = asyncio.ensure_future(self._connect(target))
        return await self._connections[name]

    async def _connect(self, target: HostTarget) -> asyncssh.SSHClientConnection:
        address = target.address
        options: dict[str, object] = {"config": [str(self._file("ssh_config"))] if "ssh_config" in self.options else ()}
        if address.user:
            options["username"] = address.user
        if address.port:
            options["port"] = address.port
        try:
            options |= self._read_once()
            return await asyncssh.connect(
                address.host, connect_timeout=_PATIENCE, login_timeout=_PATIENCE, keepalive_interval=15, **options
            )
        except asyncssh.HostKeyNotVerifiable:
            hint = (
                "compare its key with the machine's own, then add it to known_hosts; if it changed, find out why first"
            )
            raise unreadable(target, "its host key is not the known one", hint, code="host-key") from None
        except asyncssh.PermissionDenied:
            raise unreadable(
                target, "it refused the login", "check the user, and that the key is in authorized_keys", code="ssh"
            ) from None
        except ValueError as fault:  # a key, a configuration or a known_hosts file that cannot be read
            raise unreadable(
                target,
                f"cannot use the SSH key or configuration: {fault}",
                "check identity_file, ssh_config and known_hosts",
                code="ssh",
            ) from None
        except (OSError, asyncssh.Error, TimeoutError) as fault:
            raise unreadable(
                target, f"cannot connect ({_told(fault)})", "check that it is running, and the address", code="ssh"
            ) from None

    def _read_once(self) -> dict[str, object]:
        """Return the known hosts and the key, read once for all machines."""
        if self._shared is None:
            self._shared = {}
            if "known_hosts" in self.options:
                self._shared["known_hosts"] = asyncssh.read_known_hosts(str(self._file("known_hosts")))
            if "identity_file" in self.options:
                self._shared["client_keys"] = asyncssh.load_keypairs(str(self._file("identity_file")))
        return self._shared

    def _file(self, key: str) -> Path:
        path = self.render_context.root / expanded(self.text(key))
        if not is_outside(self.text(key)) and leads_outside(path, self.render_context.root):
            raise link_outside(path)  # SSH reads the file itself: a link to a person's own key is not followed
        return path

    async def disconnect(self, target: HostTarget) -> None:
        """Close the connection to a target's machine, once no other target uses it."""
        name = f"{target.address.user}@{target.address.host}:{target.address.port}"
        self._users.get(name, set()).discard(target.key)
        future = self._connections.pop(name, None) if not self._users.get(name) else None
        if future is not None and future.done() and not future.cancelled() and future.exception() is None:
            future.result().close()
            await future.result().wait_closed()


def _told(fault: BaseException) -> str:
    return str(getattr(fault, "strerror", None) or getattr(fault, "reason", None) or type(fault).__name__)


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
        self._sftp: asyncssh.SFTPClient | None = None

    def unsupported_variables(self) -> list[CoinJarError]:
        return self.file.unsupported_variables(self.label, self.desired_values)

    async def identity(self) -> str:
        await self.made.connect(self)  # its key in known_hosts identifies it
        return ""

    async def _files(self) -> asyncssh.SFTPClient:
        if self._sftp is None:
            connection = await self.made.connect(self)
            try:
                self._sftp = await connection.start_sftp_client()
            except (OSError, asyncssh.Error) as fault:
                raise self._failed("it does not support file transfer (SFTP)", fault) from None
        return self._sftp

    def _failed(self, words: str, fault: BaseException) -> ExternalError:
        return unreadable(
            self, f"{words}: {_told(fault)}", "check the path, its permissions and the free space there", code="ssh"
        )

    async def read(self) -> dict[str, LiveValue]:
        files = await self._files()
        try:
            async with files.open(self.path, "rb") as file:
                data: bytes = await file.read()
        except asyncssh.SFTPNoSuchFile:
            return {}
        except (OSError, asyncssh.Error) as fault:
            raise self._failed(f"cannot read {self.path}", fault) from None
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
        files = await self._files()
        unfinished = f"{self.path}{_UNFINISHED}"
        try:
            folder = self.path.rpartition("/")[0]
            if folder and not await files.exists(folder):
                await files.makedirs(folder, exist_ok=True)
            if await files.exists(unfinished):
                await files.remove(unfinished)
            async with files.open(unfinished, "xb", asyncssh.SFTPAttrs(permissions=0o600)) as file:
                await file.write(self.file.data(self.desired_values))
            await files.chmod(unfinished, 0o600)
            if self.made.owner:
                await self._give_away(unfinished)
            await files.posix_rename(unfinished, self.path)
        except (OSError, asyncssh.Error) as fault:
            raise self._failed(f"cannot write {self.path}", fault) from None

    async def _give_away(self, path: str) -> None:
        user, _, group = self.made.owner.partition(":")
        if user.isdigit() and group.isdigit():
            await (await self._files()).chown(path, int(user), int(group))
            return
        connection = await self.made.connect(self)
        done = await connection.run(
            f"chown -- {shlex.quote(self.made.owner)} {shlex.quote(path)}", check=False, timeout=_CHOWN_PATIENCE
        )
        if done.exit_status:
            hint = "only root can change owners; check that the user exists"
            raise unreadable(self, f"cannot change its owner to {self.made.owner}", hint, code="ssh")

    def restart_words(self) -> str:
        return f"runs {shlex.join(self.reload)} there" if self.reload else ""

    async def effect(self) -> RestartState | None:
        return None if self.reload else NOW

    async def restart(self) -> None:
        connection = await self.made.connect(self)
        try:
            command = shlex.join(self.reload)
            done = await connection.run(
                command, check=False, timeout=self.made.restart_timeout, encoding=None, stderr=asyncssh.STDOUT
            )
        except (OSError, asyncssh.Error, TimeoutError) as fault:
            raise self._failed(f"cannot run {self.reload[0]}", fault) from None
        if done.returncode:
            output = done.stdout if isinstance(done.stdout, bytes) else str(done.stdout or "").encode()
            message = last_lines(output, self.desired_values.values())
            words = f"{self.reload[0]} ended with {done.returncode}" + (
                f": {message}" if message else ", and printed nothing"
            )
            raise unreadable(self, words, f"the file is written; run there by hand: {command}", code="reload")

    async def close(self) -> None:
        if self._sftp is not None:
            self._sftp.exit()
            self._sftp = None
        await self.made.disconnect(self)
