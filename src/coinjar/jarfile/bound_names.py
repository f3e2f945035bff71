"""Encrypted values after a rename of what they are bound to, or refer to."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from coinjar.core.definition import SealedEntry
from coinjar.core.errors import CoinJarError, DecryptionError, Location
from coinjar.core.model import Jar
from coinjar.core.name_change import APPLICATION, COMMANDS, SERVICE, STAGE, NameChange, service_references
from coinjar.core.reference_renames import in_references, spliced
from coinjar.core.references import Template, parse_template
from coinjar.crypto.sealing import Unsealer, UnsealError, associated
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import load_declarations
from coinjar.jarfile.readers import load_readers


def with_present_names(content: Template, jar: Jar) -> Template:
    """Return a text with references in which earlier names of variables and services are replaced: it was encrypted
    before a rename, by somebody who could not be asked.
    """
    variables = {old: variable.name for variable in jar.variables.values() for old in variable.formerly}
    services = {old: str(service.name) for service in jar.services.values() for old in service.formerly}
    source = in_references(content.source, variables)
    places = [(*place, new) for old, new in services.items() for place in service_references(source, old)]
    return parse_template(spliced(source, places))


def not_of_this_name(
    folder: Path, jar: Jar, stage: str, entry: SealedEntry, unsealer: Unsealer, location: Location
) -> DecryptionError:
    """Return why a value cannot be decrypted with its own key: it is bound to an earlier name, or it was changed.

    A value under an earlier name is not read: whoever can write `formerly:` must not choose which secret a stage gets.
    A reader approves the rename by running it.
    """
    for change in _earlier(folder, jar, stage, entry.scope):
        back = change.reversed()
        where = back.app(jar.app), back.stage(stage), back.service(entry.scope), entry.name
        try:
            unsealer.open(entry.sealed, associated(*where))
        except UnsealError:
            continue
        return DecryptionError(
            f"the value of {entry.name} on {stage} still belongs to the {change.what} '{change.old}', its earlier name",
            hint=f"somebody who can decrypt {stage} completes the rename: {rename_command(change)}",
            location=location,
            code="renamed",
        )
    return DecryptionError(
        f"the sealed value of {entry.name} cannot be decrypted: it was changed, or belongs to another name, service, "
        "stage or application",
        hint="restore the line and the key file from one commit, or set the value again; if jar.yaml was renamed by "
        f"hand, complete that: `coinjar stages rename OLD {stage}` (or services, or app)",
        location=location,
        code="tampered",
    )


def hand_rename_hint(folder: Path, stage: str) -> str:
    """Return the beginning of a hint if keys of undeclared stages look like a rename by hand; "" if none do."""
    try:
        names = _undeclared_stages(folder, load_declarations(folder))
    except CoinJarError:
        return ""
    commands = " or ".join(rename_command(NameChange(STAGE, old, stage)) for old in names)
    return f"if it was renamed by hand, complete that: {commands}; otherwise " if names else ""


def rename_command(change: NameChange) -> str:
    """Return the command that makes a change, or completes it."""
    return f"`coinjar {COMMANDS[change.what]} rename {change.old} {change.new}`"


def _earlier(folder: Path, jar: Jar, stage: str, scope: str) -> Iterator[NameChange]:
    """Yield what may have been renamed: by `formerly:`, else by names that the jar's files still have."""
    declared = jar.stages.get(stage)
    for old in [*(declared.formerly if declared else ()), *_undeclared_stages(folder, jar)]:
        yield NameChange(STAGE, old, stage)
    service = jar.services.get(scope)
    for old in service.formerly if service else ():
        yield NameChange(SERVICE, old, scope)
    for old in jar.formerly:
        yield NameChange(APPLICATION, old, jar.app)


def _undeclared_stages(folder: Path, jar: Jar) -> list[str]:
    """Return stages that readers.yaml or the names of key files have, and jar.yaml has not."""
    try:
        readers = load_readers(folder)
    except CoinJarError:
        return []
    names = {*readers.approvals, *(stage for reader in readers.readers.values() for stage in reader.opens)}
    names |= {path.stem.partition(".")[0] for path in JarLayout(folder).keys_folder.glob("*.age")}
    return sorted(names - {*jar.stages, "shared"})
