"""The source of a stage as it was at a revision of version control."""

from __future__ import annotations

import re

from coinjar.core.errors import UsageError
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar
from coinjar.core.names import SMALL_NAME
from coinjar.dialects.base import ReadItem, ReadRemark, ReadResult
from coinjar.jarfile.revision import RevisionKeyRing, load_revision
from coinjar.sources.base import SourceContext, SourceVariables
from coinjar.system.revisions import RevisionFiles, commit_named


def read_commit(rest: str, dialect: str, context: SourceContext) -> SourceVariables:
    """Read `commit:REVISION@STAGE`: what each service got on the stage at that revision. The stage can be omitted where
    the other side is one.

    Encrypted values are decrypted with the identity of today. Raises UsageError, InputError.
    """
    if dialect or context.folder is None or context.ring is None:
        hint = "run it in the folder of the jar, and write commit:REVISION@STAGE"
        raise UsageError("a revision is one of a jar", hint=hint, code="unknown-source")
    revision, at, stage = rest.rpartition("@")
    if not at or not re.fullmatch(SMALL_NAME, stage):  # HEAD@{1} is a revision
        revision, stage = rest, context.stage or ""
    if not stage:
        raise UsageError("which stage?", hint=f"write commit:{revision}@STAGE", code="which-stage")
    files = RevisionFiles(context.folder)
    found = files.at(commit_named(context.folder, revision))
    jar = load_revision(found, revision, RevisionKeyRing(context.folder, context.ring().identity, found))
    then = _name_then(context.jar, jar, stage)
    return SourceVariables(f"{then} at {revision}", "jar", "version control", _reading(Resolver(jar, then)))


def _name_then(now: Jar | None, then: Jar, stage: str) -> str:
    """Return the name that a stage had at the revision. Raises UsageError if it did not exist."""
    declared = now.stages.get(stage) if now is not None else None
    names = [stage, *(declared.formerly if declared else ())]
    known = next((name for name in names if name in then.stages), stage)
    then.stage(known)
    return known


def _reading(resolver: Resolver) -> ReadResult:
    items: list[ReadItem] = []
    remarks: list[ReadRemark] = []
    unread: set[str] = set()
    for service in resolver.jar.services:
        for name, variable in resolver.jar.variables.items():
            if not resolver.applies(variable, service):
                continue
            value = resolver.value(name, service)
            location = value.definition.location if value.definition else variable.location
            if value.fault is not None:
                unread.add(name)
                remarks.append(ReadRemark(location, f"ignored: {name}: {value.fault.message}", lost=True))
            elif value.text is not None or value.is_unset:
                items.append(ReadItem(name, value.text, location, service=service, secret=value.secret or None))
    return ReadResult(items, list(dict.fromkeys(remarks)), frozenset(unread))
