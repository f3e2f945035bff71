"""A service's variables in a dialect."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from coinjar.actions.open_jar import Resolution
from coinjar.core.errors import UsageError
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar
from coinjar.dialects import carriers, get
from coinjar.dialects.base import Dialect, Entry, FileHeader, ParseContext, refuse, render

if TYPE_CHECKING:
    from coinjar.dialects.shell import ExecScriptDialect


def rendered(jar: Jar, resolution: Resolution, dialect: Dialect) -> bytes:
    """Return the file. Raises InputError naming every variable that the dialect cannot carry, and dialects that can."""
    entries = [Entry(name, resolved.revealed, resolved.variable) for name, resolved in resolution.exported()]
    dialect.parse_context = ParseContext(jar.stage_names(), jar.variables)
    return render(dialect, entries, FileHeader(jar.app, resolution.stage, resolution.service), carriers)


def rendered_sealed(jar: Jar, resolution: Resolution, dialect: ExecScriptDialect, recipients: Sequence[str]) -> bytes:
    """Return an exec-script whose values only these recipients can decrypt. Raises UsageError, InputError."""
    from coinjar.crypto.age import recipient_fault, without_comment, wrap

    for recipient in recipients:
        if why := recipient_fault(recipient):
            raise UsageError(f"this is not a recipient: {why}", hint="`coinjar identity show` prints one")
    entries = [Entry(name, resolved.revealed, resolved.variable) for name, resolved in resolution.exported()]
    refuse(dialect, entries, carriers)
    return dialect.sealed(
        entries,
        FileHeader(jar.app, resolution.stage, resolution.service),
        lambda data: wrap(data, [without_comment(recipient) for recipient in recipients]),
    )


def rendered_example(resolver: Resolver, service: str) -> bytes:
    """Return the committed example: what the service gets on this stage, from its declarations alone."""
    from coinjar.dialects.example import example_entries

    return render(
        get("example"),
        example_entries(resolver.jar, [service], resolver.absent),
        FileHeader(resolver.jar.app, resolver.stage, service),
    )


def rendered_stages(jar: Jar, resolutions: Sequence[Resolution], dialect: Dialect) -> bytes:
    """Return several stages in one file, in a dialect that supports it."""
    dialect.parse_context = ParseContext(jar.stage_names(), jar.variables)
    data = b""
    for resolution in resolutions:
        entries = [Entry(name, resolved.revealed, resolved.variable) for name, resolved in resolution.exported()]
        refuse(dialect, entries, carriers)
        data = dialect.update(data, "stdout", entries, FileHeader(jar.app, resolution.stage, resolution.service))
    return data
