"""`coinjar report`."""

from __future__ import annotations

import sys
from functools import partial
from typing import TYPE_CHECKING, Annotated

import typer

from coinjar.cli.common import JsonOption, counted, print_json
from coinjar.cli.opening import print_status
from coinjar.cli.several import JarsOption, each, label_of, open_each
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from collections.abc import Callable

    from coinjar.actions.open_jar import OpenJar
    from coinjar.actions.reporting.contents import ReportContents

_FORMATS = ("html", "markdown")


def run(
    ctx: typer.Context,
    out: Annotated[
        str | None,
        typer.Option("--out", metavar="FILE", help="Write to this file; {app} is the application. Default: stdout."),
    ] = None,
    form: Annotated[
        str | None,
        typer.Option(
            "--format",
            metavar="FORMAT",
            help="html, one page for a browser (default); markdown, the reference of variables.",
        ),
    ] = None,
    plots: Annotated[
        str | None, typer.Option("--plots", metavar="DIR", help="Write the figures into it, as PNG and SVG.")
    ] = None,
    live: Annotated[
        bool, typer.Option("--live", help="Also read running systems, and show where they differ.")
    ] = False,
    revisions: Annotated[
        int,
        typer.Option(
            "--revisions", metavar="N", min=0, help="How many revisions of version control to compare stages at."
        ),
    ] = 12,
    verify: Annotated[
        bool, typer.Option("--verify", help="Write nothing: exit 1 if the reference in --out is out of date.")
    ] = False,
    as_json: JsonOption = False,
    jar: JarsOption = None,
) -> None:
    """Show the whole configuration: values by stage, how far apart stages are, findings, secrets' ages, readers,
    deliveries.

    Secrets are masked. The page is one file without a network. What was not looked at is listed first.
    """
    _require_sense(out, form, plots, as_json=as_json, verify=verify, live=live)
    jars = open_each(ctx, jar)
    _require_places(jars, out, plots, as_json=as_json)
    look = partial(_collected, live=live, revisions=revisions)
    if as_json:
        _print_data(jars, look, plots)
        return

    def write_one(opened: OpenJar) -> int:
        if form == "markdown":
            return _reference(opened, out, verify=verify)
        import coinjar.report.figures  # noqa: F401 - a missing library is told before the work is done

        contents = look(opened)
        if plots is not None:
            _write_figures(contents, plots.replace("{app}", contents.app))
        if out is not None or plots is None:
            _write_page(contents, out and out.replace("{app}", contents.app))
        for what in contents.not_looked_at:
            print_status(f"not looked at: {what}")
        return 0

    code = write_one(jars[0]) if len(jars) == 1 else each(jars, write_one)
    if code:
        raise typer.Exit(code)


def _require_places(jars: list[OpenJar], out: str | None, plots: str | None, *, as_json: bool) -> None:
    """Raise UsageError if several jars would be written to one place."""
    named = [place for place in (out, plots) if place is not None]
    if len(jars) > 1 and (any("{app}" not in place for place in named) or not (named or as_json)):
        raise UsageError("several jars need a place each", hint="write --out 'reports/{app}.html', and so for --plots")


def _print_data(jars: list[OpenJar], look: Callable[[OpenJar], ReportContents], plots: str | None) -> None:
    from coinjar.report.data import data_of

    found = [look(opened) for opened in jars]
    named = [{"jar": label_of(opened), **data_of(one)} for opened, one in zip(jars, found, strict=True)]
    print_json(data_of(found[0]) if len(jars) == 1 else {"jars": named})
    if plots is not None:
        for contents in found:
            _write_figures(contents, plots.replace("{app}", contents.app))
    for what in dict.fromkeys(what for contents in found for what in contents.not_looked_at):
        print_status(f"not looked at: {what}")


def _require_sense(
    out: str | None, form: str | None, plots: str | None, *, as_json: bool, verify: bool, live: bool
) -> None:
    """Raise UsageError for options that do not go together."""
    if form is not None and form not in _FORMATS:
        raise UsageError(f"there is no format '{form}'", hint=f"the formats are {' and '.join(_FORMATS)}")
    if as_json and (form or out):
        raise UsageError("--json is printed, in a form of its own", hint="omit --format and --out")
    if form == "markdown" and (plots is not None or live):
        raise UsageError("the reference has no figures, and no running systems", hint="omit --plots and --live")
    if verify and (form != "markdown" or out is None):
        hint = "add --format markdown --out FILE; a page has today's date in it"
        raise UsageError("--verify compares the reference with a file", hint=hint)
    if out is None and plots is None and not as_json and form != "markdown" and sys.stdout.isatty():
        raise UsageError("the page is for a browser", hint="write it to a file: `coinjar report --out report.html`")


def _collected(opened: OpenJar, *, live: bool, revisions: int) -> ReportContents:
    from datetime import UTC, datetime

    from coinjar.actions.reporting.collect import ReportOptions, collect
    from coinjar.cli.progress import progress

    return collect(opened, ReportOptions(live, revisions), datetime.now(UTC).date(), progress())


def _reference(opened: OpenJar, out: str | None, *, verify: bool) -> int:
    """Write the reference, or compare it with the file; return the exit code."""
    from pathlib import Path

    from coinjar.jarfile.load import load_declarations
    from coinjar.report.markdown import reference_of
    from coinjar.system.files import read_file, replace_file

    declared = load_declarations(opened.folder)
    text = reference_of(declared)
    if out is None:
        sys.stdout.write(text)
        return 0
    out = out.replace("{app}", declared.app)
    path = Path(out)
    is_current = path.exists() and read_file(path) == text.encode()
    if verify and not is_current:
        state = "out of date" if path.exists() else "not there"
        print_status(f"{out} is {state}: `coinjar report --format markdown --out {out}` writes it")
        return 1
    if not is_current:
        replace_file(path, text.encode())
    print_status(f"{out}: {counted(len(declared.variables), 'variable')}, {'up to date' if is_current else 'written'}")
    return 0


def _write_page(contents: ReportContents, out: str | None) -> None:
    from pathlib import Path

    from coinjar.report.page import page_of
    from coinjar.system.files import replace_file

    data = page_of(contents).encode()
    if out is None:
        sys.stdout.buffer.write(data)
        return
    replace_file(Path(out), data)
    what = f"{counted(len(contents.variables), 'variable')} on {counted(len(contents.columns), 'stage')}"
    print_status(f"{out}: {what}, {len(data) / 1000:,.0f} kB. Open it in a browser.")


def _write_figures(contents: ReportContents, plots: str) -> None:
    from pathlib import Path

    from coinjar.report.drawing import files_of
    from coinjar.report.figures import figures_of
    from coinjar.system.files import replace_file

    drawings = figures_of(contents)
    for drawing in drawings:
        for name, data in files_of(drawing).items():
            replace_file(Path(plots, name), data)
    print_status(f"{plots}: {counted(len(drawings), 'figure')}, as PNG and SVG")
