"""`coinjar report`."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated

import typer

from coinjar.cli.common import JarOption, JsonOption, counted, open_here, print_json, print_status
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from coinjar.actions.open_jar import OpenJar
    from coinjar.actions.reporting.contents import ReportContents

_FORMATS = ("html", "markdown")


def run(
    ctx: typer.Context,
    out: Annotated[
        str | None, typer.Option("--out", metavar="FILE", help="Write to this file. Default: stdout.")
    ] = None,
    form: Annotated[
        str | None,
        typer.Option(
            "--format",
            metavar="FORMAT",
            help="html, one page for a browser (default); markdown, the reference of names.",
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
    jar: JarOption = None,
) -> None:
    """Show the whole configuration: values by stage, how far apart stages are, findings, secrets' ages, readers,
    deliveries.

    Secrets are masked. The page is one file without a network. What was not looked at is listed first.
    """
    _require_sense(out, form, plots, as_json=as_json, verify=verify, live=live)
    opened = open_here(ctx, jar)
    if form == "markdown":
        _reference(opened, out, verify=verify)
        return
    if not as_json:
        import coinjar.report.figures  # noqa: F401 - a missing library is told before the work is done
    contents = _collected(opened, live=live, revisions=revisions)
    if as_json:
        from coinjar.report.data import data_of

        print_json(data_of(contents))
    if plots is not None:
        _write_figures(contents, plots)
    if not as_json and (out is not None or plots is None):
        _write_page(contents, out)
    for what in contents.not_looked_at:
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


def _reference(opened: OpenJar, out: str | None, *, verify: bool) -> None:
    from pathlib import Path

    from coinjar.jarfile.load import load_declarations
    from coinjar.report.markdown import reference_of
    from coinjar.system.files import read_file, replace_file

    declared = load_declarations(opened.folder)
    text = reference_of(declared)
    if out is None:
        sys.stdout.write(text)
        return
    path = Path(out)
    is_current = path.exists() and read_file(path) == text.encode()
    if verify and not is_current:
        state = "out of date" if path.exists() else "not there"
        print_status(f"{out} is {state}: `coinjar report --format markdown --out {out}` writes it")
        raise typer.Exit(1)
    if not is_current:
        replace_file(path, text.encode())
    print_status(f"{out}: {counted(len(declared.variables), 'variable')}, {'up to date' if is_current else 'written'}")


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
