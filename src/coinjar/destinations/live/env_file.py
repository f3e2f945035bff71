"""Shared by hosts and containers: a file of ours in a dialect, made from the desired values, and read back."""

from __future__ import annotations

from collections.abc import Mapping

from coinjar.core.delivery import DesiredValue, LiveValue
from coinjar.core.errors import CoinJarError, InputError
from coinjar.core.secret import reveal
from coinjar.destinations.base import DestinationOptions
from coinjar.destinations.stage_view import RenderContext
from coinjar.dialects import get
from coinjar.dialects.base import Dialect, Entry, FileHeader


class EnvFileTarget:
    """A service's file."""

    def __init__(self, dialect: Dialect, render_context: RenderContext, heading: FileHeader) -> None:
        self.dialect = dialect
        self.render_context = render_context
        self.heading = heading

    def unsupported_variables(self, label: str, desired_values: Mapping[str, DesiredValue]) -> list[CoinJarError]:
        """Yield what the dialect cannot carry."""
        errors: list[CoinJarError] = []
        for desired in desired_values.values():
            if why := self.dialect.unsupported_reason(desired.name, desired.text):
                variable = self.render_context.jar.variables.get(desired.name)
                message = f"{label}: {self.dialect.name} cannot carry {desired.name}: {why}"
                hint = "choose another dialect (as:), or exclude it (without:)"
                errors.append(
                    InputError(
                        message, hint=hint, location=variable.location if variable else None, code="cannot-carry"
                    )
                )
        return errors

    def data(self, desired_values: Mapping[str, DesiredValue]) -> bytes:
        """Return the file. Call `unsupported_variables` first."""
        known = self.render_context.jar.variables
        return self.dialect.write(
            [
                Entry(desired.name, reveal(desired.text), known.get(desired.name), desired.secret)
                for desired in desired_values.values()
            ],
            self.heading,
        )

    def held(self, data: bytes, shown: str) -> dict[str, LiveValue]:
        """Return what an existing file contains. Raises InputError if it cannot be read."""
        items = self.dialect.read(data, shown).items
        return {
            item.name: LiveValue(item.name, item.text or "", self.render_context.is_secret(item.name, item.text or ""))
            for item in items
        }


def read_dialect(instance: DestinationOptions, default: str) -> Dialect:
    """Return the option `as`: a dialect that can be read back."""
    name = instance.text("as", default)
    try:
        dialect = get(name)
    except CoinJarError as fault:
        instance.fields.fault(instance.options["as"], fault.message, fault.hint, fault.code)
        return get(default)
    if not dialect.reads or dialect.many_stages:
        instance.fields.fault(
            instance.options["as"],
            f"{name} cannot be read back here",
            f"use {default}, posix, literal or dotenv",
            "destination",
        )
    return dialect
