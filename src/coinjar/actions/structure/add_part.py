"""Add a stage or a service to a jar."""

from __future__ import annotations

from coinjar.actions.open_jar import OpenJar
from coinjar.actions.structure.planned_files import PlannedFiles
from coinjar.core.errors import UsageError
from coinjar.core.model import Jar
from coinjar.core.name_change import SERVICE, STAGE
from coinjar.core.names import name_fault
from coinjar.documents.edit import Edit, apply
from coinjar.documents.writer import Plain, UnquotedScalar
from coinjar.jarfile.declarations import read_declarations
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import load_declarations, read_bytes
from coinjar.system.files import display_path


def plan_stage(opened: OpenJar, name: str, *, follows: str | None, about: str, guarded: bool) -> PlannedFiles:
    """Plan a new stage without values. Raises UsageError, InputError."""
    jar = load_declarations(opened.folder)
    require_new(jar, STAGE, name)
    if follows is not None:
        jar.stage(follows)
    declaration: dict[str, Plain] = {"follows": follows} if follows else {}
    if guarded:
        declaration["guarded"] = UnquotedScalar("true")
    if about:
        declaration["about"] = about
    files = _declared(opened, ("stages", name), declaration)
    path = JarLayout(opened.folder).plain(name)
    if "*" not in name and files.read(path) is None:
        files.set(path, f"# Values of {name}.\n".encode())
    return files


def plan_service(opened: OpenJar, name: str, *, about: str, code: list[str]) -> PlannedFiles:
    """Plan a new service. Raises UsageError, InputError."""
    require_new(load_declarations(opened.folder), SERVICE, name)
    declaration: dict[str, Plain] = {"about": about} if about else {}
    if code:
        declaration["code"] = [*code]
    return _declared(opened, ("services", name), declaration)


def require_new(jar: Jar, what: str, name: str) -> None:
    """Raise UsageError for a name that cannot be a new stage's or service's (`what`)."""
    if message := name_fault(what, name):
        raise UsageError(f"'{name}': {message}", hint="choose another name", code="name")
    declared = jar.stages if what == STAGE else jar.services
    if name in declared:
        raise UsageError(f"there is already a {what} '{name}'", hint="choose another name", code="exists")
    owner = next((part.name for part in declared.values() if name in part.formerly), None)
    if owner is not None:
        hint = f"choose another name, or remove {name} from `formerly` of {owner}: its deliveries are recorded under it"
        raise UsageError(f"{owner} was formerly {name}", hint=hint, code="exists")
    if what == SERVICE and name in jar.sets:
        raise UsageError(f"'{name}' is already a set of services", hint="choose another name", code="exists")


def _declared(opened: OpenJar, path: tuple[str, ...], declaration: dict[str, Plain]) -> PlannedFiles:
    files = PlannedFiles()
    declarations = JarLayout(opened.folder).declarations
    shown = display_path(declarations)
    text = apply(read_bytes(declarations), shown, [Edit(path, declaration)])
    read_declarations(text, shown)
    files.set(declarations, text)
    return files
