"""`coinjar mentions`."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import JarOption, JsonOption, NamePatterns, counted, fits, open_here, print_json, warn_no_match
from coinjar.cli.opening import print_status
from coinjar.core.errors import CoinJarError, ErrorGroup

if TYPE_CHECKING:
    from coinjar.actions.mentions.search import MentionReport, UndeclaredVariable
    from coinjar.core.rules.base import Finding
    from coinjar.scanning.scan import LocatedMention

_PLACES = 3


def run(
    ctx: typer.Context,
    paths: Annotated[
        list[str] | None,
        typer.Argument(metavar="[PATH]...", help="Files and folders. Default: the code of jar.yaml, else this folder."),
    ] = None,
    name: NamePatterns = None,
    helper: Annotated[
        list[str] | None,
        typer.Option(
            "--helper",
            metavar="FUNCTION",
            help="A function that reads the variable named by its first argument; may be repeated.",
        ),
    ] = None,
    every_place: Annotated[bool, typer.Option("--every-place", help="Show every place, one per line.")] = False,
    suggest: Annotated[
        bool, typer.Option("--suggest", help="Print declarations for names that are used but not declared.")
    ] = False,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="With --suggest: write them into jar.yaml.")] = False,
    strict: Annotated[bool, typer.Option("--strict", help="Exit with 1 if there are findings.")] = False,
    no_cache: Annotated[bool, typer.Option("--no-cache", help="Search every file again, without the cache.")] = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Find where code, manifests, templates and pipelines use variables, and compare that with the jar.

    Skips what .gitignore names, vendored folders, and files that are not source. Also works without a jar: then it only
    lists.
    """
    from coinjar.actions.mentions import search
    from coinjar.cli.progress import progress
    from coinjar.core.code_uses import has_code

    try:
        opened = open_here(ctx, jar)
    except CoinJarError as fault:
        if fault.code != "no-jar" or jar or suggest:
            raise
        opened = None
    facts = opened.load() if opened else None
    if not paths and opened and facts and has_code(facts):
        paths = search.code_paths(facts, opened.folder.resolve().parent)
    report = search.find(opened, facts, paths or ["."], helper or [], progress=progress(), cached=not no_cache)
    findings, missing = search.findings(report) if opened else ([], [])
    if suggest:
        _suggest(opened, missing, write=yes)
        return
    if as_json:
        print_json(_json(report, findings, name))
    else:
        _show(report, findings, name, every_place=every_place)
    warn_no_match(name, _by_name(report, None))
    if faults := search.unreadable(report):
        raise ErrorGroup(faults)
    if strict and any(not finding.accepted for finding in findings):
        raise typer.Exit(1)


def _by_name(report: MentionReport, patterns: list[str] | None) -> dict[str, list[tuple[str, LocatedMention]]]:
    """Return each name's places, as file and mention."""
    from coinjar.system.files import display_path

    names: dict[str, list[tuple[str, LocatedMention]]] = {}
    for changed_file in report.scanned.files:
        file = display_path(Path(changed_file.path))
        for located in changed_file.mentions:
            if located.mention and fits(located.mention.name, patterns):
                names.setdefault(located.mention.name, []).append((file, located))
    return dict(sorted(names.items()))


def _unknown(report: MentionReport) -> list[tuple[str, LocatedMention]]:
    from coinjar.system.files import display_path

    return [
        (display_path(Path(file.path)), located)
        for file in report.scanned.files
        for located in file.mentions
        if located.mention is None
    ]


def _default(report: MentionReport, name: str, located: LocatedMention) -> str | None:
    """Return what the code falls back to; for a secret only that it does."""
    from coinjar.core.code_uses import HIDDEN

    default = located.mention.default if located.mention else None
    if not default:
        return default
    declared = report.jar.variables.get(name) if report.jar else None
    return HIDDEN if declared and declared.secret else default


def _json(report: MentionReport, findings: list[Finding], patterns: list[str] | None) -> dict[str, Any]:
    from coinjar.cli.check import json_finding
    from coinjar.system.files import display_path

    services = {
        (file.path, located): report.services_of(file, located)
        for file in report.scanned.files
        for located in file.mentions
    }
    by_spot = {located: whose for (_, located), whose in services.items()}
    return {
        "files": {
            "looked_at": report.scanned.scanned,
            "known": report.scanned.cached,
            "left_out": dict(report.scanned.left_out),
        },
        "unreadable": [
            {"file": display_path(Path(file.path)), "line": file.line, "column": file.column, "message": file.message}
            for file in report.scanned.unreadable
        ],
        "mentions": [
            {
                "name": name,
                "file": file,
                "line": located.line,
                "column": located.column,
                "how": located.mention.access,
                "way": located.mention.way,
                "default": _default(report, name, located),
                "probable": located.mention.probable or None,
                "kind": located.mention.kind or None,
                "services": list(by_spot[located]),
            }
            for name, places in _by_name(report, patterns).items()
            for file, located in places
            if located.mention
        ],
        "unknown": [
            {"file": file, "line": located.line, "column": located.column, "text": located.text}
            for file, located in _unknown(report)
        ],
        "findings": [json_finding(finding) for finding in findings],
    }


def _show(report: MentionReport, findings: list[Finding], patterns: list[str] | None, *, every_place: bool) -> None:
    from coinjar.cli.check import show_findings
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width
    from coinjar.core.display import visible

    names = _by_name(report, patterns)
    places = sum(map(len, names.values()))
    files = len({file for name in names.values() for file, _ in name})
    known = f" ({report.scanned.cached} cached)" if report.scanned.cached else ""
    show(
        styled(
            f"{counted(len(names), 'name')} used in {counted(places, 'place')}, {files} of "
            f"{counted(report.scanned.scanned, 'file')}{known}",
            "bold",
        )
    )
    rows = []
    for name, other_names in names.items():
        if every_place:
            rows += [
                [
                    StyledText(name, "bold"),
                    StyledText(_words(located)),
                    StyledText(_default(report, name, located) or "", "cyan"),
                    StyledText(_place(file, located)),
                ]
                for file, located in other_names
            ]
            continue
        shown = [_place(file, located) for file, located in other_names[:_PLACES]] + (
            [f"and {len(other_names) - _PLACES} more"] if len(other_names) > _PLACES else []
        )
        defaults = dict.fromkeys(text for _, located in other_names if (text := _default(report, name, located)))
        rows.append(
            [
                StyledText(name, "bold"),
                StyledText(_words(*(located for _, located in other_names))),
                StyledText(", ".join(defaults), "cyan"),
                StyledText(", ".join(shown)),
            ]
        )
    for row in (
        table(["variable", "used", "falls back to", "where"], rows, least=[12, 4, 8, 30], width=terminal_width())
        if rows
        else []
    ):
        show(row)
    unknown = _unknown(report)
    if unknown and patterns is None:
        show(f"\n{counted(len(unknown), 'name is', 'names are')} known only at run time:")
        for file, located in unknown:
            show(f"  {_place(file, located)}: {visible(located.text)}")
    if probable := _helpers(names):
        print_status(f"To make probable ones certain, use --helper, or in jar.yaml code: {{helpers: {probable}}}")
    if left := report.scanned.left_out:
        print_status("skipped: " + ", ".join(f"{count} {reason}" for reason, count in sorted(left.items())))
    if report.jar is not None and patterns is None:
        print()
        accepted = [finding for finding in findings if finding.accepted]
        show_findings(
            [finding for finding in findings if not finding.accepted],
            [finding for finding in findings if not finding.accepted],
            len(accepted),
        )


def _helpers(names: dict[str, list[tuple[str, LocatedMention]]]) -> str:
    """Return the helpers of names that are only probable, as a list, frequent ones first; "" if all are certain."""
    counts = Counter(located.mention.probable for places in names.values() for _, located in places if located.mention)
    del counts[""]
    return f"[{', '.join(repr(name) for name, _ in counts.most_common(_PLACES))}]" if counts else ""


def _place(file: str, located: LocatedMention) -> str:
    return f"{file}:{located.line}:{located.column}"


def _words(*mentions: LocatedMention) -> str:
    """Return how a name is used: `set` where nothing reads it; by what it is known, where all uses are probable."""
    found = [located.mention for located in mentions if located.mention]
    hows = {mention.access for mention in found}
    word = "set" if hows == {"set"} else "asked" if hows == {"presence"} else "read"
    by = dict.fromkeys(mention.probable for mention in found)
    return word if "" in by else f"{word}, probably: {', '.join(by)}"


def _suggest(opened: Any, missing: list[UndeclaredVariable], *, write: bool) -> None:
    from coinjar.actions.mentions.search import declare_missing, suggested

    if not missing:
        print_status("Every name that is used is declared.")
        return
    print(suggested(missing), end="")
    secrets = [undeclared.variable.name for undeclared in missing if undeclared.variable.secret]
    if secrets:
        print_status(f"Check {', '.join(secrets)}: treated as secret by the name, so the code's default is omitted.")
    if not write:
        print_status(f"{counted(len(missing), 'declaration')} for jar.yaml. Write them with --yes.")
        return
    declare_missing(opened, missing)
    print_status(
        f"{counted(len(missing), 'variable')} declared in jar.yaml. Next: write an 'about' for each, then run "
        "`coinjar check`."
    )
