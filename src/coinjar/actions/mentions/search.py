"""Search code for mentions of variables, and compare them with a jar."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from coinjar.actions.open_jar import OpenJar
from coinjar.core.code_uses import SET, CodeLiteral, CodeUse
from coinjar.core.diagnostics import Diagnostic
from coinjar.core.errors import CoinJarError, InputError, Location, raise_all
from coinjar.core.inference import infer
from coinjar.core.model import Jar, Variable
from coinjar.core.names import VariableName
from coinjar.core.progress import Progress
from coinjar.core.rules.base import CheckContext, Finding
from coinjar.destinations import file_class_of, is_live
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.local_folder import locked, require_own_local
from coinjar.mentions.base import MISPLACED
from coinjar.mentions.languages import LANGUAGES
from coinjar.scanning.file_walk import FileWalk
from coinjar.scanning.scan import FileMentions, LocatedMention, ScanRequest, ScanResult, scan
from coinjar.sources.base import SET_BY_EVERYBODY
from coinjar.system.files import display_path, leads_outside, link_outside, read_file

if TYPE_CHECKING:
    from coinjar.documents.writer import Plain

CODE_RULES = tuple(f"CJ0{number}" for number in range(35, 44))
_DOCUMENTS = (".yaml", ".yml", ".json")
_PROGRAMS = tuple(
    end
    for language in LANGUAGES
    if language.module not in ("shell", "containerfile", "yaml_files", "template")
    for end in language.ends
)
_WRITTEN_OUT = ("port", "host", "url")
_SHORTEST = 4


class MentionReport(NamedTuple):
    """The mentions, with the folder that paths of services are relative to (None without a jar)."""

    scanned: ScanResult
    jar: Jar | None
    base: Path

    def services_of(self, file: FileMentions, located: LocatedMention | None = None) -> tuple[str, ...]:
        """Return the services whose code a mention is in: from its document, else by the path."""
        if self.jar is None:
            return ()
        own = located.mention.service if located and located.mention else None
        if own in self.jar.services:
            return (str(own),)
        return services_below(self.jar, Path(file.path), self.base)


def services_below(jar: Jar, path: Path, base: Path) -> tuple[str, ...]:
    """Return the services whose code a file is, by its path."""
    relative = os.path.relpath(path, base)
    return tuple(
        name for name, service in jar.services.items() if any(_is_below(relative, code) for code in service.code)
    )


def _is_below(path: str, code: str) -> bool:
    code = os.path.normpath(code)
    return code in (".", path) or path.startswith(code + "/")


def code_paths(jar: Jar, base: Path) -> list[str]:
    """Return the code paths of jar.yaml. Raises InputError for a missing path."""
    named = dict.fromkeys(jar.code.paths if jar.code else (), jar.location) | {
        path: service.location for service in jar.services.values() for path in service.code
    }
    missing = [(path, where) for path, where in named.items() if not (base / path).exists()]
    raise_all(
        [
            InputError(
                f"there is no {path}, which is listed under code",
                hint="correct the path",
                location=where,
                code="unreadable",
            )
            for path, where in missing
        ]
    )
    raise_all([link_outside(base / path) for path in named if leads_outside(base / path, base)])
    return [str(base / path) for path in named]


def find(
    opened: OpenJar | None,
    jar: Jar | None,
    paths: Sequence[str],
    helpers: Sequence[str] = (),
    *,
    progress: Progress | None = None,
    cached: bool = True,
) -> MentionReport:
    """Search the paths for mentions. Raises InputError for a missing path."""
    base = opened.folder.resolve().parent if opened else Path.cwd()
    code = jar.code if jar else None
    suffixes = _template_endings(jar) if jar else ()
    scan_request = ScanRequest(frozenset(helpers) | frozenset(code.helpers if code else ()), suffixes)
    walk = FileWalk(suffixes, code.without if code else (), [opened.folder] if opened else [], base)
    for path in paths:
        if not Path(path).exists():
            raise InputError(
                "there is no such file or folder",
                hint="name files or folders to search",
                location=Location(path),
                code="unreadable",
            )
    return MentionReport(
        scan(walk, paths, scan_request, cache=_cache(opened) if cached else None, progress=progress), jar, base
    )


def _template_endings(jar: Jar) -> tuple[str, ...]:
    """Return the endings of the project's own templates, from its destinations."""
    result = [
        getattr(destination.options.get(file_class_of(destination).suffix_option), "value", "")
        for destination in jar.destinations.values()
        if not is_live(destination)
    ]
    return tuple(sorted({item for item in result if isinstance(item, str) and item}))


def _cache(opened: OpenJar | None) -> Path:
    if opened:
        require_own_local(opened.folder)
        return JarLayout(opened.folder).mentions
    home = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    return Path(home, "coinjar", "mentions.json")


def uses(report: MentionReport) -> Iterator[CodeUse]:
    """Return every mention as input for the rules."""
    for changed_file in report.scanned.files:
        file = display_path(Path(changed_file.path))
        for located in changed_file.mentions:
            if located.mention:
                where = Location(file, located.line, located.column)
                is_code = file.endswith(_PROGRAMS)
                mention = located.mention
                yield CodeUse(
                    mention.name,
                    where,
                    mention.access,
                    report.services_of(changed_file, located),
                    mention.default,
                    mention.way == MISPLACED,
                    is_code,
                    mention.probable,
                    mention.kind,
                )


class CodeContext(CheckContext):
    """The input of the rules on mentions: what a report found in the code."""

    def __init__(self, jar: Jar, report: MentionReport) -> None:
        super().__init__(jar)
        self.uses = list(uses(report))
        self.not_ours = frozenset(SET_BY_EVERYBODY)
        self.literals = list(literals(self, report))
        self.unreadable = unread_files(report)


def unread_files(report: MentionReport) -> list[Diagnostic]:
    """Return a diagnostic for each file whose mentions are not known."""
    return [Diagnostic(error.message, error.hint, error.location) for error in unreadable(report) if error.location]


def unreadable(report: MentionReport) -> list[CoinJarError]:
    """Return why the mentions of some files are not known, as errors with their locations."""
    hint = "correct it, or exclude it (code: {without: [...]} in jar.yaml)"
    return [
        InputError(
            f"its mentions are not known: {file.message}",
            hint=hint,
            location=Location(display_path(Path(file.path)), file.line, file.column),
            code="unread",
        )
        for file in report.scanned.unreadable
    ]


def literals(context: CheckContext, report: MentionReport) -> Iterator[CodeLiteral]:
    """Yield values of ports and addresses in a file that also mentions their variable, on another line."""
    texts: dict[str, set[str]] = {}
    for each in context.set_texts:
        if each.variable.kind in _WRITTEN_OUT and not each.variable.secret and len(each.text) >= _SHORTEST:
            texts.setdefault(each.variable.name, set()).add(each.text)
    for file in report.scanned.files:
        names = {located.mention.name for located in file.mentions if located.mention} & set(texts)
        if not names:
            continue
        lines = read_file(Path(file.path)).decode(errors="replace").split("\n")
        if file.path.endswith(_DOCUMENTS) and any(line.startswith(("apiVersion:", '{"apiVersion"')) for line in lines):
            continue  # a manifest cannot refer to the variable there
        mentioned = {located.line for located in file.mentions}
        for name in sorted(names):
            shapes = re.compile(
                "|".join(
                    rf"(?<![\w.-]){re.escape(text)}(?![\w-]|\.\w)"
                    for text in sorted(texts[name], key=len, reverse=True)
                )
            )
            for number, line in enumerate(lines, 1):
                if (
                    number not in mentioned
                    and not line.lstrip().startswith(("#", "//", "*"))
                    and (at := shapes.search(line))
                ):
                    yield CodeLiteral(name, at[0], Location(display_path(Path(file.path)), number, at.start() + 1))


class UndeclaredVariable(NamedTuple):
    """A declaration for a name that is used but not declared, inferred from the code."""

    variable: Variable
    default: str | None
    places: list[Location]


def missing(context: CheckContext) -> list[UndeclaredVariable]:
    """Return declarations for names that are used but not declared: kind and default from the fallbacks, services from
    the paths.
    """
    from coinjar.core.rules.mentioned import not_declared

    names = list(dict.fromkeys(str(diagnostic.subject) for diagnostic in not_declared(context)))
    undeclared = []
    for name in names:
        other_names = [use for use in context.uses if use.name == name and use.access != SET]
        default = next((use.default for use in other_names if use.default), None)
        guessed = infer(name, default or "")
        said = next((use.kind for use in other_names if use.kind), "")
        services = {service for use in other_names for service in use.services}
        limited = services and all(use.services for use in other_names) and services != set(context.jar.services)
        variable = Variable(
            name=VariableName(name),
            location=context.jar.location,
            kind=said or guessed.kind,
            secret=guessed.secret,
            services=frozenset(services) if limited else None,
        )
        undeclared.append(
            UndeclaredVariable(variable, None if guessed.secret else default, [use.location for use in other_names])
        )
    return undeclared


def findings(report: MentionReport) -> tuple[list[Finding], list[UndeclaredVariable]]:
    """Return the findings of the rules on mentions, and declarations for missing ones.

    Without a jar there is nothing to compare.
    """
    from coinjar.core.rules import RULES, run

    assert report.jar is not None
    context = CodeContext(report.jar, report)
    names = list(run(context, [rule for rule in RULES if rule.code in CODE_RULES]))
    return sorted(names, key=lambda finding: (finding.diagnostic.location, finding.rule.code)), missing(context)


def suggested(names: Sequence[UndeclaredVariable]) -> str:
    """Return the declarations as text for jar.yaml, each below a comment with its uses."""
    from coinjar.documents.writer import ScalarWriter

    lines = ["variables:\n"]
    for undeclared in names:
        lines.append(f"  # {', '.join(map(str, undeclared.places[:3]))}{' …' if len(undeclared.places) > 3 else ''}\n")
        lines.append(f"  {undeclared.variable.name}: {ScalarWriter().flow(_declaration(undeclared))}\n")
    return "".join(lines)


def _declaration(undeclared: UndeclaredVariable) -> dict[str, Plain]:
    from coinjar.actions.editing.values import declaration

    fields = declaration(undeclared.variable)
    if undeclared.default is not None:
        fields["default"] = undeclared.default
    return fields


def declare_missing(opened: OpenJar, names: Sequence[UndeclaredVariable]) -> None:
    """Declare them in jar.yaml."""
    from coinjar.actions.editing.value_changes import edit_file
    from coinjar.documents.edit import Edit

    with locked(opened.folder):
        edit_file(
            JarLayout(opened.folder).declarations,
            [Edit(("variables", undeclared.variable.name), _declaration(undeclared)) for undeclared in names],
        )
