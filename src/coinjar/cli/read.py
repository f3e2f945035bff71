"""`coinjar read`."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import (
    DialectOption,
    JarOption,
    JsonOption,
    NamePatterns,
    SecretsOption,
    ServiceOption,
    counted,
    fits,
    open_here,
    print_json,
    stage_names,
    warn_no_match,
)
from coinjar.cli.opening import print_status
from coinjar.core.errors import CoinJarError, UsageError

if TYPE_CHECKING:
    from coinjar.actions.open_jar import OpenJar
    from coinjar.core.display import Masker
    from coinjar.core.inference import Inference
    from coinjar.dialects.base import FileHeader, ReadItem
    from coinjar.sources.base import SourceContext, SourceVariables


def run(
    ctx: typer.Context,
    source: Annotated[
        str, typer.Argument(metavar="SOURCE", help="file:PATH, image:NAME, dest:NAME@STAGE or another source.")
    ],
    service: ServiceOption = None,
    stage: Annotated[
        str | None,
        typer.Option("--stage", metavar="STAGE", autocompletion=stage_names, help="Of a source with several stages."),
    ] = None,
    name: NamePatterns = None,
    dialect: DialectOption = None,
    show_secrets: SecretsOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Print what a source contains, with the kinds that its values look like, and secrets masked. Needs no jar.

    With --as, as text in a dialect, with secrets in clear: only to a file or a pipe, or with --show-secrets.
    """
    from coinjar.core.display import Masker, visible
    from coinjar.dialects.base import FileHeader
    from coinjar.sources import read_source

    context = _context(_open_or_none(ctx, jar), stage)
    found = read_source(source, context)
    items = [
        item
        for item in found.reading.items
        if fits(item.name, name) and service in (None, item.service or service) and stage in (None, item.stage or stage)
    ]
    warn_no_match(name, [item.name for item in found.reading.items])
    _require_known("service", service, found.services())
    _require_known("stage", stage, found.stages())
    if dialect:
        heading = FileHeader(found.label, stage or "every stage", service or "every service")
        _write(items, dialect, context, heading, show_secrets=show_secrets)
    elif as_json:
        masker = Masker(show_secrets=show_secrets)
        variables = [_as_json(item, _kind(item, context), masker) for item in items]
        print_json({"source": found.label, "read_as": found.dialect, "variables": variables})
    else:
        _show(found, items, context, Masker(show_secrets=show_secrets))
    for remark in found.reading.remarks:
        print_status(f"{remark.location}: {visible(remark.message)}")


def _open_or_none(ctx: typer.Context, jar: str | None) -> OpenJar | None:
    try:
        return open_here(ctx, jar)
    except CoinJarError as fault:
        if fault.code != "no-jar" or jar:
            raise
        return None


def _context(opened: OpenJar | None, stage: str | None) -> SourceContext:
    from coinjar.sources.base import SourceContext

    return opened.source_context(opened.load([]), stage) if opened else SourceContext(stage=stage)


def _require_known(what: str, given: str | None, known: list[str]) -> None:
    """Refuse a service or stage that a source, which has some, does not have."""
    if given is not None and given not in known and known:
        raise UsageError(f"it has no {what} '{given}'", hint=f"it has {', '.join(known)}", code=f"unknown-{what}")


def _kind(item: ReadItem, context: SourceContext) -> Inference:
    """Return the kind and whether it is secret: as declared, else as it looks."""
    from coinjar.core.inference import Inference, infer

    jar = context.jar
    declared = jar.variables.get(item.name) if jar is not None else None
    if jar is not None and declared is not None:
        return Inference(declared.kind, item.name in jar.secret_names, True, "declared")
    inference = infer(item.name, item.text or "")
    return inference._replace(secret=True, is_certain=True) if item.secret else inference


def _show(found: SourceVariables, items: list[ReadItem], context: SourceContext, masker: Masker) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    show(styled(f"{found.label}: {counted(len(items), 'variable')}", "bold"))
    show(f"read as {found.dialect}: {found.why}")
    rows = []
    for item in items:
        inference = _kind(item, context)
        where = ", ".join(word for word in (item.stage, item.service) if word)
        kind = ("secret" if inference.secret else inference.kind) + ("" if inference.is_certain else "?")
        text = "(unset)" if item.text is None else masker.show(item.text, secret=inference.secret)
        rows.append([StyledText(item.name, "bold"), StyledText(where), StyledText(kind, "cyan"), StyledText(text)])
    titles = ["variable", "of", "kind", "value"]
    for line in table(titles, rows, least=[16, 4, 8, 20], width=terminal_width()) if rows else ():
        show(line)


def _as_json(item: ReadItem, inference: Inference, masker: Masker) -> dict[str, Any]:
    hidden = inference.secret and not masker.show_secrets
    shown: dict[str, Any] = {
        "name": item.name,
        "stage": item.stage,
        "service": item.service,
        "kind": inference.kind,
        "secret": inference.secret,
        "certain": inference.is_certain,
        "value": None if hidden or item.text is None else str(item.text),
        "has_value": item.text is not None,
    }
    return shown | ({"masked": masker.mask(item.text)} if hidden and item.text is not None else {})


def _write(
    items: list[ReadItem], name: str, context: SourceContext, heading: FileHeader, *, show_secrets: bool
) -> None:
    """Print the values in a dialect. Raises UsageError for several values of a name, and for secrets on a terminal."""
    from coinjar.dialects import carriers, get
    from coinjar.dialects.base import Entry, render

    last = {(item.name, item.service, item.stage): item for item in items}  # as every reader takes a duplicate
    values: dict[str, ReadItem] = {}
    for item in last.values():
        other = values.setdefault(item.name, item)
        if other.text != item.text:
            hint = "choose one with --service or --stage"
            raise UsageError(f"{item.name} has several values in it", hint=hint, code="which-service")
    if sys.stdout.isatty() and not show_secrets and any(_kind(item, context).secret for item in items):
        raise UsageError(
            "it contains secrets, and stdout is a terminal", hint="add --show-secrets, or write it to a file"
        )
    written = get(name)
    written.parse_context = context.parse_context()
    entries = [Entry(item.name, item.text) for item in values.values()]
    data = render(written, entries, heading, carriers)
    sys.stdout.flush()
    sys.stdout.buffer.write(data)
    sys.stdout.buffer.flush()
