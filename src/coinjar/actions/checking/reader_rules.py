"""CJ025 to CJ027: who can decrypt the stages of a jar."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from coinjar.actions.checking.context import FileContext
from coinjar.core.definition import SealedDefinition
from coinjar.core.diagnostics import Diagnostic
from coinjar.core.errors import Location
from coinjar.core.names import SHARED
from coinjar.jarfile.layout import JarLayout
from coinjar.system.files import display_path

if TYPE_CHECKING:
    from coinjar.jarfile.readers import Readers


def _has_secrets(context: FileContext) -> bool:
    return JarLayout(context.opened.folder).sealed_folder.is_dir()


def _stages(context: FileContext) -> tuple[Readers, list[str]]:
    """Return the readers, and the stages with a key."""
    from coinjar.jarfile.keyring import scopes  # and with it everything encrypted
    from coinjar.jarfile.readers import load_readers

    folder = context.opened.folder
    return load_readers(folder), [name for name in [SHARED, *context.stages] if scopes(folder, name)]


def single_reader(context: FileContext) -> Iterator[Diagnostic]:
    """CJ025"""
    if not _has_secrets(context):
        return
    readers, stages = _stages(context)
    for stage in stages:
        people = readers.people(stage)
        if len(people) == 1:
            sealed = {
                name
                for scope in context.jar.plain.get(stage, {}).values()
                for name, definition in scope.items()
                if isinstance(definition, SealedDefinition)
            }
            lost = (
                f"{len(sealed)} secret{'s are' if len(sealed) != 1 else ' is'} lost"
                if sealed
                else "all future secrets are lost"
            )
            message = f"only {people[0].label} can decrypt all of {stage}: if that key is lost, {lost}"
            fix = (
                "add a colleague, or a recovery recipient (--offline): `coinjar readers add RECIPIENT --label LABEL "
                f"--stage {stage}`"
            )
            yield Diagnostic(message, fix, people[0].location, None, stage)


def no_recovery_reader(context: FileContext) -> Iterator[Diagnostic]:
    """CJ026"""
    if not _has_secrets(context):
        return
    readers, stages = _stages(context)
    lacking = [
        stage
        for stage in stages
        if len(readers.people(stage)) > 1 and not any(reader.offline for reader in readers.people(stage))
    ]
    if lacking:
        message = (
            f"no recovery reader can decrypt {', '.join(lacking)}: if all its readers lose their keys, the secrets "
            "are lost"
        )
        fix = "create an identity away from all machines, and add it with --offline (`coinjar help security recovery`)"
        location = Location(display_path(JarLayout(context.opened.folder).readers))
        yield Diagnostic(message, fix, location, None, lacking[0] if len(lacking) == 1 else None)


def not_approved(context: FileContext) -> Iterator[Diagnostic]:
    """CJ027"""
    if not _has_secrets(context):
        return
    readers, stages = _stages(context)
    if not stages:
        return
    from coinjar.actions.secrets.readers import NOT_VOUCHED, vouching  # and with it everything encrypted

    ring = context.opened.ring()
    for stage in stages:
        if vouching(context.jar, ring, readers, stage) == NOT_VOUCHED:
            location = next(
                (reader.location for reader in readers.of(stage)),
                Location(display_path(JarLayout(context.opened.folder).readers)),
            )
            message = (
                f"the readers of {stage} are not approved by anybody who can decrypt it: readers.yaml was changed by "
                "hand, or merged"
            )
            fix = (
                f"review them (`coinjar readers list`), correct them, then run `coinjar readers vouch --stage {stage}`"
            )
            yield Diagnostic(message, fix, location, None, stage)
