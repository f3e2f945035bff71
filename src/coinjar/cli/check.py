"""`coinjar check`."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import JsonOption, ServicesOption, counted, print_json, stage_names
from coinjar.cli.opening import print_status
from coinjar.cli.several import JarsOption, each, label_of, open_each
from coinjar.core.display import visible
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from coinjar.actions.checking.check import CheckReport
    from coinjar.actions.open_jar import OpenJar
    from coinjar.core.rules.base import Finding

FORMATS = ("text", "json", "sarif", "junit")
_TOGETHER, _MANY = "CJ036", 4
"""More unused variables than this are reported on one line: an old file that was adopted can add dozens."""


def run(
    ctx: typer.Context,
    form: Annotated[
        str,
        typer.Option("--format", metavar="FORMAT", help="The output format: text, json, sarif (2.1.0) or junit (XML)."),
    ] = "text",
    rule: Annotated[
        list[str] | None,
        typer.Option("--rule", metavar="CODE", help="Only this rule; may be repeated. Default: all."),
    ] = None,
    stage: Annotated[
        list[str] | None,
        typer.Option(
            "--stage",
            metavar="STAGE",
            autocompletion=stage_names,
            help="Only findings of this stage, and of no single one; may be repeated. Default: all.",
        ),
    ] = None,
    service: ServicesOption = None,
    strict: Annotated[bool, typer.Option("--strict", help="Exit with 1 on warnings too.")] = False,
    accepted: Annotated[bool, typer.Option("--accepted", help="Also show accepted findings.")] = False,
    with_history: Annotated[
        bool, typer.Option("--history", help="Also search every commit of version control for the jar's secrets.")
    ] = False,
    summary: Annotated[bool, typer.Option("--summary", help="Print one line: how many errors and warnings.")] = False,
    as_json: JsonOption = False,
    jar: JarsOption = None,
) -> None:
    """Find missing, wrong and surprising values (`coinjar help rules`). Exit code 1 on errors."""
    from coinjar.actions.checking.check import CheckSelection, check
    from coinjar.cli.progress import progress

    if form not in FORMATS:
        raise UsageError(f"there is no format '{form}'", hint=f"the formats are {', '.join(FORMATS)}")
    if summary and (as_json or form != "text" or accepted):
        raise UsageError("--summary is one line of text", hint="omit --format, --json and --accepted")
    selection = CheckSelection(tuple(rule or ()), tuple(stage or ()), tuple(service or ()))
    jars = open_each(ctx, jar)

    def checked(opened: OpenJar) -> CheckReport:
        return check(opened, selection, with_history=with_history, progress=progress())

    def show_one(opened: OpenJar) -> int:
        done = checked(opened)
        show_findings(
            [] if summary else done.findings if accepted else done.open_findings,
            done.open_findings,
            len(done.findings) - len(done.open_findings),
            limits=[*selection.rules, *selection.stages, *selection.services],
        )
        _tell_rest(done)
        return int(_has_errors(done, strict=strict))

    if not as_json and form == "text":
        code = show_one(jars[0]) if len(jars) == 1 else each(jars, show_one)
    else:
        reports = [checked(opened) for opened in jars]
        _print_reports(jars, reports, "json" if as_json else form, strict=strict)
        for done in reports:
            _tell_rest(done)
        code = int(any(_has_errors(done, strict=strict) for done in reports))
    if code:
        raise typer.Exit(code)


def _has_errors(done: CheckReport, *, strict: bool) -> bool:
    return any(finding.rule.severity == "error" or strict for finding in done.open_findings)


def _print_reports(jars: list[OpenJar], reports: list[CheckReport], form: str, *, strict: bool) -> None:
    """Print the findings of all jars in one document."""
    findings = [finding for done in reports for finding in done.findings]
    if form == "sarif":
        from coinjar.cli.sarif import as_sarif

        print_json(as_sarif(findings, reports[0].rules))
    elif form == "junit":
        from coinjar.cli.junit import as_junit

        print(as_junit(findings, reports[0].rules, strict=strict))
    elif len(jars) == 1:
        print_json({"findings": [json_finding(finding) for finding in findings]})
    else:
        rows = [
            {"jar": label_of(opened), "findings": [json_finding(finding) for finding in done.findings]}
            for opened, done in zip(jars, reports, strict=True)
        ]
        print_json({"jars": rows})


def _tell_rest(done: CheckReport) -> None:
    """Print what was not checked, and what is accepted without need."""
    if done.unconsented:
        print_status(
            f"coinjar: {counted(done.unconsented, 'value comes', 'values come')} from commands or files that were "
            "not read: `coinjar consent` shows them and asks"
        )
    if elsewhere := done.not_fetched - done.unconsented:
        print_status(
            f"coinjar: {counted(elsewhere, 'value is', 'values are')} in a store or another jar, which `check` does "
            "not read: `coinjar grid` shows them"
        )
    if done.closed:
        print_status(
            f"coinjar: {counted(done.closed, 'secret was', 'secrets were')} not checked: this identity cannot "
            "decrypt them, or there is none"
        )
    for acceptance in done.unused:
        print_status(f"{acceptance.location}: this accepted {acceptance.rule} matches no finding any more: remove it")


def json_finding(finding: Finding) -> dict[str, Any]:
    """Return a finding as JSON data."""
    diagnostic = finding.diagnostic
    return {
        "rule": finding.rule.code,
        "severity": finding.rule.severity,
        "title": finding.rule.title,
        "message": diagnostic.message,
        "fix": diagnostic.hint,
        "file": diagnostic.location.file,
        "line": diagnostic.location.line,
        "column": diagnostic.location.column,
        "variable": diagnostic.variable,
        "stage": diagnostic.stage,
        "service": diagnostic.service,
        "accepted": finding.accepted.reason if finding.accepted else None,
    }


def show_findings(
    findings: list[Finding], open_ones: list[Finding], accepted: int, *, limits: Sequence[str] = ()
) -> None:
    """Print findings, their counts first, errors last, where the eye is; `limits` are the only rules, stages and
    services that were asked for.
    """
    from coinjar.cli.tables import colours, show, styled, terminal_height, terminal_width, wrapped_words

    errors = sum(finding.rule.severity == "error" for finding in open_ones)
    counts = (
        f"{counted(errors, 'error')}, {counted(len(open_ones) - errors, 'warning')}" if open_ones else "nothing found"
    )
    counts += f" ({accepted} accepted)" if accepted else ""
    counts += f", looking only at {', '.join(limits)}" if limits else ""
    show(styled(counts, "bold"))
    room = max(terminal_width(), 40) if sys.stdout.isatty() else None
    lines: list[str] = []
    unused = [finding for finding in findings if finding.rule.code == _TOGETHER and not finding.accepted]
    together = unused if len(unused) >= _MANY else []
    others = [each for each in findings if each.rule.code != _TOGETHER or each.accepted] if together else findings
    lines_of = _plain_lines if room is None and not colours() else lambda finding: _lines(finding, room)
    for finding in [finding for finding in others if finding.rule.severity != "error"]:
        lines += lines_of(finding)
    if together:
        place, names = (
            together[0].diagnostic.location.file,
            ", ".join(str(finding.diagnostic.variable) for finding in together),
        )
        lines.append(
            f"{styled(place, 'cyan')}: {styled('warning', 'yellow')} {_TOGETHER}: {len(together)} variables are "
            "declared, but never used"
        )
        lines += [
            styled(line, "dim")
            for line in wrapped_words(f"    {names}: remove them, or accept them with a reason", "    ", room)
        ]
    for finding in [finding for finding in others if finding.rule.severity == "error"]:
        lines += lines_of(finding)
    if lines:
        show("\n".join(lines))
    if len(lines) > terminal_height() - 3:
        show(styled(counts, "bold"))  # the first line has scrolled away


def _plain_lines(finding: Finding) -> tuple[str, str]:
    """Return the lines of a finding: what is wrong where, and what to do. In a file there may be thousands of them."""
    diagnostic, accepted = finding.diagnostic, finding.accepted
    word = "accepted" if accepted else finding.rule.severity
    return (
        f"{diagnostic.location}: {word} {finding.rule.code}: {visible(diagnostic.message)}",
        f"    {visible(accepted.reason if accepted else diagnostic.hint)}",
    )


def _lines(finding: Finding, room: int | None) -> list[str]:
    """Return the lines of a finding for a terminal."""
    from coinjar.cli.tables import styled, wrapped_words

    style = "red" if finding.rule.severity == "error" else "yellow"
    word = "accepted" if finding.accepted else finding.rule.severity
    place = str(finding.diagnostic.location)
    what, fix_words = _plain_lines(finding)
    first, *rest = wrapped_words(what, "      ", room)
    lines = [first.replace(place, styled(place, "cyan"), 1).replace(f" {word} ", f" {styled(word, style)} ", 1), *rest]
    return lines + [styled(line, "dim") for line in wrapped_words(fix_words, "    ", room)]
