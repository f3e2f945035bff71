"""`type: platform`: any HTTP service with a description (platforms/NAME.yaml beside jar.yaml, or a shipped one)."""

from __future__ import annotations

import os
from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager
from importlib.resources import files
from pathlib import Path

from yaml.nodes import MappingNode

from coinjar.core.consent import Act
from coinjar.core.delivery import DesiredValue
from coinjar.core.dispositions import RejectedValue
from coinjar.core.errors import InputError
from coinjar.core.model import Destination
from coinjar.core.names import suggestion
from coinjar.destinations.live.base import LiveDestination, Target
from coinjar.destinations.live.declared_acts import contact, content_digest, setting_words, variable_of
from coinjar.destinations.live.platform_target import PlatformTarget
from coinjar.destinations.live.request_limits import limits_of
from coinjar.destinations.live.tokens import read_token
from coinjar.destinations.options import CREDENTIAL, Option
from coinjar.destinations.stage_view import RenderContext, StageView
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.yamltext import one_line
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import read_bytes
from coinjar.platforms.description import PlatformDescription
from coinjar.platforms.description_reader import read_description
from coinjar.platforms.limits import unsupported_variables
from coinjar.platforms.templating import request_placeholders
from coinjar.system.files import display_path


def known_platforms(folder: Path) -> list[str]:
    """Return the available descriptions: the jar's, and the shipped ones."""
    own = sorted(path.stem for path in JarLayout(folder).platform_files())
    shipped = sorted(
        file.name[:-5] for file in (files("coinjar.platforms") / "shipped").iterdir() if file.name.endswith(".yaml")
    )
    return list(dict.fromkeys([*own, *shipped]))


def description_data(folder: Path, name: str) -> tuple[bytes, str]:
    """Return the text of a description, and its file; the jar's own takes precedence over a shipped one.

    Raises InputError.
    """
    known = known_platforms(folder)
    if name not in known:
        hint = suggestion(
            name,
            known,
            f"the descriptions are {', '.join(known)}; `coinjar help descriptions` explains how to write one",
        )
        raise InputError(f"there is no platform description '{name}'", hint=hint, code="unknown-platform")
    path = JarLayout(folder).platform(name)
    if path.exists():
        return read_bytes(path), display_path(path)
    shipped = files("coinjar.platforms") / "shipped" / f"{name}.yaml"
    return shipped.read_bytes(), f"(shipped) {name}.yaml"


def load_description(folder: Path, name: str) -> PlatformDescription:
    """Return a platform's description. Raises InputError."""
    data, file = description_data(folder, name)
    return read_description(data, file, name)


class PlatformDestination(LiveDestination):
    """`platform` (the description), `token`, `stage_names` (the names of our stages there), and the description's own
    settings.
    """

    declared: Mapping[str, Option] = {
        "platform": Option(
            "The description of the platform: platforms/NAME.yaml, or one that Coin Jar includes.", needed=True
        ),
        "address": Option("The address, or {from_env: NAME}.", {"type": ["string", "object"]}, needed=True),
        "token": Option("The credential.", CREDENTIAL),
    }
    has_own_options = True

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        named = fields.text(destination.options.get("platform"), "platform")
        self.description = (
            load_description(render_context.folder, named)
            if named
            else PlatformDescription(name="", location=destination.location)
        )
        own = {name: Option(about) for name, about in self.description.settings.items() if name != "address"}
        self.declared = {**self.declared, **own}
        super().__init__(destination, render_context, fields)
        self.at_once = self.description.at_once
        self.token = read_token(self)
        self.unset: list[str] = []
        self.settings = {key: self._setting(key) for key in self.description.settings}
        for key in self.description.settings:
            if key not in self.options and named:
                fault = InputError(
                    f"the destination {destination.name} has no '{key}': {self.description.settings[key]}",
                    hint=f"add {key}: …",
                )
                fault.location = destination.location
                fields.faults.append(fault)
        stages = [
            name
            for name in render_context.jar.stages
            if "*" not in name and (destination.stages is None or name in destination.stages)
        ]
        if named and len(stages) > 1 and not self._is_apart_by_stage():
            keys = [key for key in self.settings if key in self._chosen_by()]
            fields.faults.append(
                InputError(
                    f"{destination.name} has one place for {' and '.join(stages)}, which would overwrite each other",
                    hint=f"add {{stage}} to {' or '.join(keys) or 'the address'}, or name one stage (stages:)",
                    location=destination.location,
                    code="destination",
                )
            )

    def _is_apart_by_stage(self) -> bool:
        """Return whether each stage has a place of its own: the platform distinguishes them, or a setting does."""
        listing = self.description.listing
        if self.description.carried or listing is None or "{stage}" in self.settings.get("address", ""):
            return True
        inner = self._chosen_by()
        from_environment = [name for name, node in self.options.items() if isinstance(node, MappingNode)]
        return "stage" in inner or any(
            name in from_environment or "{stage}" in self.settings.get(name, "") for name in inner
        )

    def _chosen_by(self) -> set[str]:
        """Return the placeholders of the request that lists: what chooses the place."""
        assert self.description.listing
        request = self.description.listing.request
        return set(request_placeholders([request.path, request.body, *request.headers.values()]))

    def _setting(self, key: str) -> str:
        """Return a setting's text, or the value of a variable of the caller's environment: an address may differ from
        person to person.
        """
        node = self.options.get(key)
        if not isinstance(node, MappingNode):
            return self.pattern(key)
        own = self.fields.fields(node, f"'{key}'", ("from_env",))
        name = self.fields.text(own.get("from_env"), "from_env")
        is_consented = all(self.render_context.gate.has_consent(act) for act in self.acts())
        text = os.environ.get(name) if is_consented else None
        if name and text is None:
            self.unset.append(name)
        return f"({name} is not set)" if text is None else text

    def acts(self) -> list[Act]:
        named = one_line(self.options.get("platform"))
        own = JarLayout(self.render_context.folder).platform(named)
        described = f"described by {named}.yaml ({content_digest(read_bytes(own))})" if own.exists() else f"as {named}"
        token = f"with {setting_words(self.options['token'], 'token')}" if "token" in self.options else ""
        settings = [
            f"with {key} from {name}"
            for key in self.description.settings
            if key != "address" and (name := variable_of(self.options.get(key)))
        ]
        address = setting_words(self.options.get("address"), "address")
        return [contact(self, address, token, *settings, described)]

    @property
    def takes_shared(self) -> bool:
        return self.description.whole

    @property
    def folds_case(self) -> bool:  # type: ignore[override]  # here it depends on the description
        """Whether names that differ only by case are the same there."""
        return self.description.folds_case

    def rejection(self, name: str, text: str) -> RejectedValue | None:
        reasons = unsupported_variables(self.description, {name: DesiredValue(name, text)})
        return next((RejectedValue(reason.what, reason.reason) for reason in reasons), None)

    def targets(self, view: StageView) -> list[Target]:
        services = view.services()
        if self.description.one_for == "stage":
            return [PlatformTarget(self, view, services, self.wanted_together(view))]
        targets = [PlatformTarget(self, view, [service], self.wanted_of(view, service)) for service in services]
        self._refuse_one_place_for_two(targets)
        return list(targets)

    def filled_places(self, view: StageView) -> list[tuple[object, Mapping[str, DesiredValue]]]:
        made = [target for target in self.targets(view) if isinstance(target, PlatformTarget)]
        return [(target.place, target.desired_values) for target in made]

    def _refuse_one_place_for_two(self, targets: Sequence[PlatformTarget]) -> None:
        """Refuse services that lead to one place, by whichever setting: each would remove what the other has."""
        first: dict[object, PlatformTarget] = {}
        for target in targets:
            if (other := first.setdefault(target.place, target)) is not target:
                keys = [key for key in self.settings if key != "address"]
                raise InputError(
                    f"{self.destination.name} has one place for {other.key} and {target.key} on {target.view.stage}, "
                    "which would overwrite each other",
                    hint=f"add {{service}} to {' or '.join(keys) or 'the address'}, or name one service (services:)",
                    location=self.destination.location,
                    code="destination",
                )

    @asynccontextmanager
    async def turn(self) -> AsyncIterator[None]:
        """Wait until another request may be sent: at most `at_once` at a time, and `per_second`, over all targets of
        the service, other destinations included.
        """
        described = self.description
        address = self.settings.get("address", "")
        async with limits_of(described.name, address, described.at_once, described.per_second).turn():
            yield
