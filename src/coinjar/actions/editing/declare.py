"""Declare variables, change their declarations, and accept findings: jar.yaml without an editor."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from coinjar.actions.checking.check import CheckSelection, check
from coinjar.actions.open_jar import OpenJar
from coinjar.actions.structure.planned_files import PlannedFiles
from coinjar.core.errors import UsageError
from coinjar.core.kinds import KINDS
from coinjar.core.names import name_fault, suggestion
from coinjar.core.rules.base import Finding
from coinjar.documents.edit import END, Edit, apply
from coinjar.documents.tree import build_tree, data_of
from coinjar.documents.writer import Plain
from coinjar.jarfile.declarations import read_declarations
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import load_declarations, read_bytes
from coinjar.jarfile.variables import VARIABLE_KEYS
from coinjar.system.files import display_path


class DeclarationPlan(NamedTuple):
    """Planned declarations: which are new, which change, and which are declared so already."""

    files: PlannedFiles
    new: list[str]
    changed: list[str]
    same: list[str]


def plan_declarations(
    opened: OpenJar, names: Sequence[str], keys: Mapping[str, Plain], removed: Sequence[str]
) -> DeclarationPlan:
    """Plan to set these keys of the variables' declarations, and to remove others; new names are declared.

    Raises UsageError for an invalid name or key, InputError for a declaration that would be invalid.
    """
    jar = load_declarations(opened.folder)
    kind = keys.get("kind")
    if isinstance(kind, str) and kind not in KINDS:
        hint = suggestion(kind, KINDS, f"the kinds are {', '.join(KINDS)}")
        raise UsageError(f"there is no kind '{kind}'", hint=hint, code="unknown-kind")
    for key in removed:
        if key not in VARIABLE_KEYS:
            hint = suggestion(key, VARIABLE_KEYS, "`coinjar help formats` lists them")
            raise UsageError(f"a variable has no key '{key}'", hint=hint, code="unknown-key")
    edits: list[Edit] = []
    for name in names:
        if message := name_fault("variable", name):
            raise UsageError(message, hint="choose another name", code="name")
        owner = jar.current_owner(name)
        if owner is not None:
            hint = f"`coinjar rename --finish {name}`, or declare {owner.name}"
            raise UsageError(f"{name} is a former name of {owner.name}", hint=hint, code="name")
        if name not in jar.variables:
            edits.append(Edit(("variables", name), dict(keys)))
        else:
            edits += [Edit(("variables", name, key), value) for key, value in keys.items()]
            edits += [Edit(("variables", name, key), None, keeps=2) for key in removed]
    path = JarLayout(opened.folder).declarations
    files = PlannedFiles()
    text = apply(read_bytes(path), display_path(path), edits) if edits else read_bytes(path)
    read_declarations(text, display_path(path))
    files.set(path, text)
    before, after = _declared(read_bytes(path)), _declared(text)
    groups: dict[str, list[str]] = {"new": [], "changed": [], "same": []}
    for name in names:
        groups["new" if name not in before else "changed" if before[name] != after[name] else "same"].append(name)
    return DeclarationPlan(files, **groups)


def _declared(data: bytes) -> dict[str, object]:
    """Return the variables' declarations as they are written."""
    root = build_tree(data.decode().removeprefix("\ufeff"))
    tree = data_of(root)
    variables = tree.get("variables") if isinstance(tree, dict) else None
    return dict(variables) if isinstance(variables, dict) else {}


class Acceptance(NamedTuple):
    """A finding to accept: its rule, and what it is limited to."""

    rule: str
    variable: str | None
    stage: str | None
    service: str | None

    def takes(self, finding: Finding) -> bool:
        """Return whether it would accept a finding."""
        diagnostic = finding.diagnostic
        return (
            self.variable in (None, diagnostic.variable)
            and self.stage in (None, diagnostic.stage)
            and self.service in (None, diagnostic.service)
        )


def accept(opened: OpenJar, acceptance: Acceptance, reason: str) -> list[Finding]:
    """Accept findings of a rule with a reason; return those that `check` reports now.

    Raises UsageError for a rule, variable, stage or service that does not exist, and if there is no such finding.
    """
    rule, variable, stage, service = acceptance
    jar = opened.load()
    if variable is not None:
        jar.variable(variable)
    limits = CheckSelection((rule,), (stage,) if stage else (), (service,) if service else ())
    found = [finding for finding in check(opened, limits).findings if acceptance.takes(finding)]
    if not found:
        raise UsageError(
            f"`check` reports no such finding of {rule}",
            hint=f"`coinjar check --rule {rule}` shows what it reports",
            code="no-finding",
        )
    if all(finding.accepted for finding in found):
        raise UsageError("it is accepted already", hint="its reason is in jar.yaml (accepted)", code="accepted")
    if not reason.strip():
        raise UsageError("a reason is needed", hint="write in a few words why it is acceptable", code="reason")
    entry: dict[str, Plain] = {"rule": rule}
    entry |= {key: text for key, text in (("variable", variable), ("stage", stage), ("service", service)) if text}
    path = JarLayout(opened.folder).declarations
    files = PlannedFiles()
    edit = Edit(("accepted", END), {**entry, "reason": reason})
    files.set(path, apply(read_bytes(path), display_path(path), [edit]))
    files.write(opened, "accept")
    return [finding for finding in found if not finding.accepted]
