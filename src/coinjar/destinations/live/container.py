"""`type: container`: an env file for a podman container, and whether the running container has it.

A container's environment is fixed when it is created: one that was created with `--env-file` of our file is created
again with the same command.
"""

from __future__ import annotations

import asyncio
import json
import shlex
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from coinjar.core.consent import RUNS, Act
from coinjar.core.delivery import DeliveryChange, LiveValue
from coinjar.core.errors import CoinJarError, InputError
from coinjar.core.model import Destination
from coinjar.destinations.base import DestinationOptions
from coinjar.destinations.live.base import LiveDestination, RestartState, Target, last_lines, unreadable
from coinjar.destinations.live.env_file import EnvFileTarget, read_dialect
from coinjar.destinations.options import NAMES, Option
from coinjar.destinations.stage_view import RenderContext, StageView
from coinjar.documents.field_reader import FieldReader
from coinjar.jarfile.external_values import program_words
from coinjar.jarfile.load import read_bytes
from coinjar.system.child_environment import child_environment
from coinjar.system.files import display_path, replace_file

_PATIENCE = 120
"""Timeout of an engine's command, in seconds."""


async def ask_engine(target: Target, argv: Sequence[str], patience: float = _PATIENCE) -> str:
    """Return the output of an engine's command.

    Raises ExternalError with the last lines of a failed command, secrets masked.
    """
    try:
        process = await asyncio.create_subprocess_exec(
            *argv,
            stdin=asyncio.subprocess.DEVNULL,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.PIPE,
            env=child_environment(),
        )
        out, err = await asyncio.wait_for(process.communicate(), patience)
    except OSError as fault:
        words = f"cannot run {argv[0]}: {(fault.strerror or '').lower()}"
        raise unreadable(target, words, "install it, or name another under engine:", code="engine") from None
    except TimeoutError:
        process.kill()
        raise unreadable(
            target, f"{argv[0]} did not answer in {patience:.0f} s", "check the engine", code="engine"
        ) from None
    if process.returncode:
        message = last_lines(out + err, target.desired_values.values())
        raise unreadable(
            target,
            f"{argv[0]} ended with {process.returncode}" + (f": {message}" if message else ""),
            "run it by hand",
            code="engine",
        )
    return out.decode(errors="replace")


class ContainerDestination(LiveDestination):
    """`container`, `env_file`, `as` (default literal), `engine` (default podman, with options), `restart` (a command
    that creates it again).
    """

    declared: Mapping[str, Option] = {
        "container": Option("The container's name; {stage} and {service} are replaced.", needed=True),
        "env_file": Option("The env file that the container is created with, or that it reads.", needed=True),
        "as": Option("The dialect of the env file; default: literal."),
        "engine": Option("The command of the container engine; default: [podman].", NAMES),
        "restart": Option("The command that creates the container again.", NAMES),
    }

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.container = self.pattern("container")
        self.env_file = self.path_pattern("env_file")
        self.dialect = read_dialect(self, "literal")
        self.engine = [text for text, _ in fields.texts(self.options.get("engine"), "engine")] or ["podman"]
        self.command = self.command_of("restart", ("stage", "service"))

    def acts(self) -> list[Act]:
        where, root = self.destination.location, self.render_context.root
        programs = [program_words(root, argv) for argv in (self.engine, self.command) if argv]
        return [*(Act(RUNS, program, where) for program in programs), *DestinationOptions.acts(self)]

    def targets(self, view: StageView) -> list[Target]:
        services = view.services()
        for key, text in (("container", self.container), ("env_file", self.env_file)):
            if len(services) > 1 and "{service}" not in text:
                message = f"{self.destination.name} has {len(services)} services, but a {key} for one"
                raise InputError(
                    message, hint=f"put {{service}} into {key}", location=self.destination.location, code="destination"
                )
        return [ContainerTarget(self, view, service) for service in services]


class ContainerTarget(Target):
    """A service's container."""

    whole = True

    def __init__(self, container: ContainerDestination, view: StageView, service: str) -> None:
        self.made = container
        self.name = container.fill_there(container.container, view.stage, service)
        self.path = container.resolve_path(
            container.env_file,
            container.stage_names.get(view.stage, view.stage),
            container.service_names.get(service, service),
        )
        self.file = EnvFileTarget(container.dialect, container.render_context, view.heading(service))
        self.command = [container.fill_there(name, view.stage, service) for name in container.command]
        super().__init__(
            service,
            f"{container.destination.name} ({self.name})",
            [service],
            container.wanted_of(view, service),
            container.destination.location,
        )

    def unsupported_variables(self) -> list[CoinJarError]:
        return self.file.unsupported_variables(self.label, self.desired_values)

    async def identity(self) -> str:
        message = await ask_engine(self, [*self.made.engine, "info", "--format", "{{.Host.Hostname}}"])
        return f"{self.name} on {message.strip()}"

    async def read(self) -> dict[str, LiveValue]:
        return self.file.held(read_bytes(self.path), display_path(self.path)) if self.path.exists() else {}

    def steps(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> list[str]:
        del live
        names = ", ".join(change.name for change in changes)
        return [f"write {display_path(self.path)} (0600, {len(self.desired_values)} variables; {names} differ)"]

    async def write(self, changes: Sequence[DeliveryChange], live: Mapping[str, LiveValue]) -> None:
        del changes, live  # the file is written whole
        self.before_write()
        replace_file(self.path, self.file.data(self.desired_values), mode=0o600, private=True)

    async def inspect(self) -> dict[str, Any] | None:
        """Return the container as its engine knows it; None if there is none."""
        if (
            self.name
            not in (await ask_engine(self, [*self.made.engine, "ps", "--all", "--format", "{{.Names}}"])).split()
        ):
            return None
        data: list[dict[str, Any]] = json.loads(
            await ask_engine(self, [*self.made.engine, "container", "inspect", self.name])
        )
        return data[0]

    async def effect(self) -> RestartState | None:
        there = await self.inspect()
        if there is None or not there["State"]["Running"]:
            return RestartState(in_effect=False, names=None, words="the container is not running")
        environment = dict(item.partition("=")[::2] for item in there["Config"]["Env"] or [])
        desired_values = self.desired_values
        if (
            not any(name in environment for name in desired_values)
            and desired_values
            and not self._made_with_file(there)
        ):
            old = self.path.exists() and _started(there) < self.path.stat().st_mtime
            return RestartState(
                not old, None if old else frozenset(), "it was started before the last change" if old else ""
            )
        definitions = await self.read()
        names = frozenset(name for name, live_value in definitions.items() if environment.get(name) != live_value.text)
        last = self.made.render_context.jar.variables
        gone = frozenset(
            name for name in environment if name in last and name not in definitions and self._made_with_file(there)
        )
        return RestartState(
            not names | gone, names | gone, "it was created before the last change" if names | gone else ""
        )

    def _made_with_file(self, there: dict[str, Any]) -> bool:
        command = [str(item) for item in there["Config"].get("CreateCommand") or []]
        paths = [
            text
            for name, following in zip(command, [*command[1:], ""], strict=True)
            for text in (_env_file(name, following),)
            if text
        ]
        return any(str(self.path.resolve()) == str((self.made.render_context.root / text).resolve()) for text in paths)

    def restart_words(self) -> str:
        return f"runs {shlex.join(self.command)}" if self.command else f"creates or starts {self.name} again"

    async def restart(self) -> None:
        if self.command:
            await ask_engine(self, self.command, self.made.restart_timeout)
            return
        there = await self.inspect()
        if there is None:
            hint = (
                f"create it once: {self.made.engine[0]} run --name {self.name} --env-file {display_path(self.path)} "
                "…, or set a command under restart:"
            )
            raise unreadable(self, "there is no such container", hint, code="engine")
        if not self._made_with_file(there):
            await ask_engine(self, [*self.made.engine, "restart", "--time", "5", self.name], self.made.restart_timeout)
            return
        command = [str(item) for item in there["Config"]["CreateCommand"]]
        at = next((number for number, name in enumerate(command) if name in ("run", "create")), None)
        if at is None:
            raise unreadable(
                self,
                "it is unknown how it was created",
                "set a command that creates it again under restart:",
                code="engine",
            )
        rest = [name for name in command[at + 1 :] if name not in ("--replace", "-d", "--detach", "--rm=false")]
        await ask_engine(self, [*self.made.engine, "stop", "--time", "5", "--ignore", self.name])
        await ask_engine(self, [*self.made.engine, "run", "--replace", "--detach", *rest], self.made.restart_timeout)


def _env_file(name: str, following: str) -> str:
    if name == "--env-file":
        return following
    return name.partition("=")[2] if name.startswith("--env-file=") else ""


def _started(there: dict[str, Any]) -> float:
    """Return when it started, in seconds since 1970; the engine gives nanoseconds, which Python does not parse."""
    text = there["State"]["StartedAt"]
    head, _, rest = text.partition(".")
    digits = "".join(item for item in rest if item.isdigit() or item in "+-Z:")
    zone = digits.lstrip("0123456789") or "Z"
    return datetime.fromisoformat(head + zone.replace("Z", "+00:00")).timestamp()
