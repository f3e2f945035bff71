"""A destination's token: from the caller's environment, or the jar's secrets. It is never written to a file."""

from __future__ import annotations

import os

from coinjar.core.errors import InputError, Location
from coinjar.core.layers import Resolver
from coinjar.core.names import suggestion
from coinjar.core.record import Record
from coinjar.core.secret import Secret, reveal
from coinjar.destinations.base import DestinationOptions


class TokenSource(Record):
    """`{from_env: NAME}` or `{secret: NAME}`."""

    form: str
    name: str
    location: Location

    def text(self, resolver: Resolver) -> Secret:
        """Return the token. Raises InputError, DecryptionError."""
        if self.form == "from_env":
            text = os.environ.get(self.name)
            if not text:
                raise InputError(
                    f"the environment has no {self.name}",
                    hint=f"set {self.name} where coinjar runs",
                    location=self.location,
                    code="no-token",
                )
            return Secret(text)
        variable = resolver.jar.variables[self.name]
        services = resolver.services_of(variable)
        resolved = resolver.value(self.name, services[0]) if services else None
        if resolved is not None and resolved.fault:
            raise resolved.fault
        if resolved is None or not resolved.text:
            hint = f"`coinjar put {self.name} --stage {resolver.stage}`"
            raise InputError(
                f"the token {self.name} has no value on {resolver.stage}",
                hint=hint,
                location=self.location,
                code="no-token",
            )
        return Secret(reveal(resolved.text))


def read_token(instance: DestinationOptions, key: str = "token") -> TokenSource | None:
    """Return the option `token` of a destination; its faults are collected with the others."""
    node = instance.options.get(key)
    if node is None:
        return None
    from coinjar.documents.yamltext import location

    own = instance.fields.fields(node, f"'{key}'", ("from_env", "secret"))
    if len(own) != 1:
        instance.fields.fault(
            node,
            f"'{key}' requires one of from_env and secret",
            "write {from_env: NAME}, or {secret: NAME} for one of the jar's secrets",
            "destination",
        )
        return None
    form, inner = next(iter(own.items()))
    name = instance.fields.text(inner, form)
    variables = instance.render_context.jar.variables
    if form == "secret" and (name not in variables or not variables[name].secret):
        instance.fields.fault(
            inner,
            f"{name} is not a declared secret",
            suggestion(name, variables, "declare it with secret: true"),
            "unknown-variable",
        )
        return None
    return TokenSource(form, name, location(inner, instance.fields.file))
