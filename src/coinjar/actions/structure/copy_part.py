"""Copy a stage or a service: its declaration, its values, secrets encrypted again, and where jar.yaml names it.

A destination with one place for all stages (or services) is not given the copy: both would overwrite each other.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from coinjar.actions.open_jar import OpenJar
from coinjar.actions.structure.add_part import require_new
from coinjar.actions.structure.planned_files import PlannedFiles
from coinjar.core.errors import DecryptionError, UsageError
from coinjar.core.model import Jar
from coinjar.core.name_change import COMMANDS, SERVICE, STAGE
from coinjar.documents.duplication import element_again, member_again
from coinjar.documents.edit import END, Edit, apply
from coinjar.documents.removal import Path, Splice, node_at
from coinjar.documents.tree import TreeNode, build_tree
from coinjar.documents.yamltext import compose, one_line
from coinjar.jarfile.declarations import read_declarations
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import read_bytes
from coinjar.jarfile.name_places import ELEMENT, FIRST, KEY, SCALAR, SECOND, NamePlace, names_in
from coinjar.system.files import display_path

if TYPE_CHECKING:
    from coinjar.actions.secrets.transaction import SealedTransaction


class PartCopy(NamedTuple):
    """A planned copy: its files, the number of values and of encrypted ones, who can decrypt the copy, destinations
    that do not get it, and the transaction of its encrypted values.
    """

    what: str
    old: str
    new: str
    files: PlannedFiles
    values: int
    secrets: int
    readers: list[str]
    left_out: list[str]
    sealing: SealedTransaction | None


def plan_copy(opened: OpenJar, what: str, old: str, new: str, *, secrets: bool) -> PartCopy:
    """Plan a copy of a stage or a service; without `secrets`, encrypted values are not copied.

    Raises UsageError for a name that does not exist or cannot be used, InputError, DecryptionError for a value that is
    encrypted for others.
    """
    jar = opened.load()
    layout = JarLayout(opened.folder)
    files = PlannedFiles()
    (jar.stage if what == STAGE else jar.service)(old)
    left_out: list[str] = []
    after = jar
    if what == STAGE and any(stage.is_pattern and stage.covers(new) for stage in jar.stages.values()):
        if new in jar.plain or "*" in new:
            raise UsageError(f"there is already a stage '{new}'", hint="choose another name", code="exists")
    else:
        require_new(jar, what, new)
        text, left_out = _declarations(jar, layout, what, old, new)
        after = read_declarations(text, display_path(layout.declarations))
        files.set(layout.declarations, text)
    values = _copy_plain(files, layout, what, old, new)
    sealing = None
    if secrets:
        try:
            sealing = _sealed(opened, jar, after, what, old, new)
        except DecryptionError as fault:
            fault.hint += "; --without-secrets copies the rest"
            raise
    count = 0
    if sealing is not None:
        for path, data in sealing.contents().items():
            files.set(path, data)
        count = sealing.planned_values()
    readers = [reader.label for reader in sealing.readers.of(new)] if sealing is not None and what == STAGE else []
    return PartCopy(what, old, new, files, values + count, count, readers, left_out, sealing)


def apply_copy(opened: OpenJar, copy: PartCopy) -> None:
    """Write a planned copy. Raises InputError with nothing changed, ExternalError."""
    copy.files.write(opened, f"{COMMANDS[copy.what]} copy")
    if copy.sealing is not None:
        copy.sealing.approval.record_consents()


# -- jar.yaml


def _declarations(jar: Jar, layout: JarLayout, what: str, old: str, new: str) -> tuple[bytes, list[str]]:
    """Return jar.yaml with the copy, and the destinations that do not get it."""
    path = layout.declarations
    data = read_bytes(path)
    source = data.decode()
    mark = "\ufeff" if source.startswith("\ufeff") else ""
    source = source[len(mark) :]
    root = build_tree(source)
    assert root is not None, "the jar was loaded"
    splices: list[Splice] = []
    edits: list[Edit] = []
    left_out: dict[str, None] = {}
    proofs: dict[str, list[Splice]] = {}
    for place in names_in(root, what, old):
        section = place.path[0]
        if section == "destinations" and not _is_apart(jar, str(place.path[1]), what):
            left_out[str(place.path[1])] = None
        elif section == "proofs" and what == SERVICE:
            proofs.setdefault(str(place.path[1]), []).append(_new_name(source, place, old, new))
        elif section == "destinations" and ("places" in place.path or place.path[2] in _OF_ONE):
            continue
        elif place.part == ELEMENT:
            edits.append(Edit((*place.path[:-1], END), new))
        elif section == "accepted":
            index = int(place.path[1])
            splices.append(
                element_again(source, node_at(root, place.path[:1]), index, [_new_name(source, place, old, new)])
            )
        elif place.part in (KEY, FIRST, SECOND):
            splices.append(_member(source, root, place, old, new))
    for proof, inner in proofs.items():
        section_node = node_at(root, ("proofs",))
        splices.append(member_again(source, section_node, proof, _free(f"{proof}-{new}", section_node), inner))
    for splice in sorted(splices, reverse=True):
        source = source[: splice.start] + splice.text + source[splice.end :]
    text = (mark + source).encode()
    compose(text, display_path(path))
    edits.append(Edit((f"{what}s", new, "formerly"), None, keeps=2))  # the copy had no other name
    edits = [edit for edit in edits if edit.value is not None or _has(build_tree(source), edit.path)]
    return apply(text, display_path(path), edits) if edits else text, list(left_out)


_OF_ONE = frozenset({"stage_names", "service_names", "account", "workloads"})
"""Options of destinations that say what one stage or service is there: a copy is something else."""


def _is_apart(jar: Jar, destination: str, what: str) -> bool:
    """Return whether each stage or service has a place of its own at a destination."""
    declared = jar.destinations[destination]
    options = " ".join(one_line(node) for node in declared.options.values())
    return f"{{{what}}}" in options or declared.type in _APART.get(what, ())


_APART = {STAGE: ("cluster",), SERVICE: ("document", "manifests", "cluster")}
"""Types that keep stages or services apart by other means than a placeholder."""


def _member(source: str, root: TreeNode, place: NamePlace, old: str, new: str) -> Splice:
    parent = node_at(root, place.path[:-1])
    name = str(place.path[-1])
    before, slash, behind = name.partition("/")
    key = {KEY: new, FIRST: new + slash + behind, SECOND: f"{before}/{behind.replace(old, new, 1)}"}[place.part]
    return member_again(source, parent, name, key)


def _new_name(source: str, place: NamePlace, old: str, new: str) -> Splice:
    assert place.part == SCALAR, "a proof or an accepted finding names one"
    start = source.index(old, place.node.start, place.node.end)
    return Splice(start, start + len(old), new)


def _has(root: TreeNode | None, path: Path) -> bool:
    node = root
    for step in path:
        node = node.plain.child(step) if node is not None else None
    return node is not None


def _free(name: str, section: TreeNode) -> str:
    while section.member(name) is not None:
        name += "-2"
    return name


# -- values


def _copy_plain(files: PlannedFiles, layout: JarLayout, what: str, old: str, new: str) -> int:
    """Plan the plain values of the copy; return how many there are."""
    count = 0
    for path in [layout.plain(old)] if what == STAGE else layout.plain_files():
        data = files.read(path)
        text = data.decode() if data is not None else ""
        mark = "\ufeff" if text.startswith("\ufeff") else ""
        root = build_tree(text[len(mark) :])
        scopes = [member for member in root.members if what == STAGE or member.name == old] if root is not None else []
        count += sum(len(member.value.members) for member in scopes)
        if what == STAGE:
            text = text.replace(f"# Values of {old}.", f"# Values of {new}.", 1) or f"# Values of {new}.\n"
            files.set(layout.plain(new), text.encode())
        elif scopes and root is not None:
            body = text[len(mark) :]
            splice = member_again(body, root, old, new)
            files.set(path, (mark + body[: splice.start] + splice.text + body[splice.end :]).encode())
    return count


def _sealed(opened: OpenJar, jar: Jar, after: Jar, what: str, old: str, new: str) -> SealedTransaction | None:
    """Return the transaction that encrypts the copied values; None if there are none."""
    layers = [old] if what == STAGE else list(jar.plain)
    if not any(JarLayout(opened.folder).sealed(layer).exists() for layer in layers):
        return None
    from coinjar.actions.secrets.transaction import SealedTransaction

    sealing = SealedTransaction(opened, after._replace(plain=jar.plain))
    former = {name: variable.name for variable in jar.variables.values() for name in variable.formerly}
    for layer in layers:
        entries = [
            entry
            for entry in sealing.opened(layer, None if what == STAGE else [old])
            if what == STAGE or entry.entry.scope == old
        ]
        if not entries:
            continue
        sealing.verify(layer, sealing.scopes(layer) if what == STAGE else [old])
        if what == STAGE:
            sealing.begin(new, is_reported=False)
            known = {reader.label for reader in sealing.readers.of(new)}
            for reader in sealing.before.of(old):
                if reader.label not in known:
                    sealing.grant(reader.label, [new])
        for entry in sorted(entries, key=lambda item: item.entry.scope != "all"):
            scope = entry.entry.scope if what == STAGE else new
            name = former.get(entry.entry.name, entry.entry.name)
            value = entry.value._replace(other=None)  # the copy is not being rotated
            sealing.put_value(new if what == STAGE else layer, scope, name, value)
    return sealing
