"""Manage who can decrypt each stage's secrets: add and remove readers, change keys, encrypt plain secrets."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    LabelOption,
    ServiceOption,
    YesOption,
    ask_to_go_on,
    counted,
    label_first_reader,
    layer_names,
    open_here,
    print_json,
    reader_labels,
)
from coinjar.cli.opening import print_status
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from coinjar.actions.secrets.readers import ReaderGrant, ReaderList

Stages = Annotated[
    list[str] | None,
    typer.Option("--stage", metavar="STAGE", autocompletion=layer_names, help="The stage, or shared; may be repeated."),
]


def add(
    ctx: typer.Context,
    recipient: Annotated[
        str, typer.Argument(metavar="RECIPIENT", help="age1…, or 'ssh-ed25519 …'; or the path of an SSH .pub file.")
    ],
    label: Annotated[str, typer.Option("--label", metavar="LABEL", help="The label: a person or a machine.")],
    stage: Annotated[
        list[str],
        typer.Option(
            "--stage", metavar="STAGE", autocompletion=layer_names, help="The stage, or shared; may be repeated."
        ),
    ],
    service: ServiceOption = None,
    offline: Annotated[
        bool, typer.Option("--offline", help="A recovery recipient, whose identity is kept away from all machines.")
    ] = False,
    yes: YesOption = False,
    jar: JarOption = None,
) -> None:
    """Add a recipient to a stage, with shared and the stages it follows; with --service only to that service's part.

    Shows first what it will be able to decrypt. You must be able to decrypt the stages yourself.
    """
    from coinjar.actions.secrets.readers import add as add_reader
    from coinjar.actions.secrets.readers import plan_adding

    opened = open_here(ctx, jar)
    adding = plan_adding(opened, _recipient(recipient), label, stage, service=service, offline=offline)
    _show_adding(adding)
    ask_to_go_on("Add it?", yes=yes)
    for note in add_reader(opened, adding):
        print_status(note)
    print_status(f"{label} was added. Commit jar/readers.yaml and jar/coins.")


def _recipient(given: str) -> str:
    """Return the recipient itself, or the first line of a named file."""
    from pathlib import Path

    path = Path(given)
    if given.endswith(".pub"):
        try:
            return path.read_text().split("\n")[0].strip()
        except (OSError, UnicodeDecodeError):
            raise UsageError(
                f"cannot read the file {given}", hint="name an SSH .pub file, or the recipient itself"
            ) from None
    return given


def _show_adding(adding: ReaderGrant) -> None:
    from coinjar.crypto.age import short

    reader = adding.reader
    what = f"all values of {reader.service} on" if reader.service else "all values of"
    print_status(
        f"{reader.label} ({short(reader.recipient)}) can decrypt {what} {', '.join(adding.stages)}: "
        f"{counted(adding.values, 'value')} now, and future ones."
    )


def remove(
    ctx: typer.Context,
    label: Annotated[str, typer.Argument(metavar="LABEL", autocompletion=reader_labels, help="The reader.")],
    stage: Stages = None,
    everywhere: Annotated[bool, typer.Option("--everywhere", help="Remove it from every stage.")] = False,
    generate: Annotated[
        bool,
        typer.Option(
            "--generate",
            help="Also replace the values it could decrypt, if jar.yaml has a generator. Default: list them.",
        ),
    ] = False,
    yes: YesOption = False,
    jar: JarOption = None,
) -> None:
    """Remove a reader from a stage: the key is replaced, every value encrypted again.

    Asks first; lists what the reader could decrypt.

    The reader may have kept those values: replace them, and revoke the old ones where they are used.
    """
    from coinjar.actions.secrets.readers import remove as remove_reader
    from coinjar.actions.secrets.readers import stages_of_reader

    if everywhere == bool(stage):
        raise UsageError("remove from where?", hint="name --stage STAGE, or use --everywhere")
    opened = open_here(ctx, jar)
    stages = stages_of_reader(opened, label, None if everywhere else list(dict.fromkeys(stage or [])))
    more = " Values that can be generated are replaced, too." if generate else ""
    ask_to_go_on(f"Remove {label} from {', '.join(stages)} and replace their keys?{more}", yes=yes)
    done = remove_reader(opened, label, stages, generate=generate)
    print_status(
        f"removed {label} from {', '.join(done.could_open)}: keys replaced, values encrypted again."
        + (f" It is still a reader of {', '.join(done.still_opens)}." if done.still_opens else "")
    )
    if not any(done.could_open.values()):
        print_status("There were no values that it could decrypt.")
        return
    print_status(
        f"Values that {label} could decrypt, and may have kept:"
        if not generate
        else f"Values that {label} could decrypt:"
    )
    for layer, names in done.could_open.items():
        created = done.generated.get(layer, [])
        rest = [name for name in names if name not in created]
        if created:
            print_status(f"  {layer}: replaced: {', '.join(created)}")
        if rest:
            print_status(f"  {layer}: {'still to be replaced: ' if generate else ''}{', '.join(rest)}")
    if not generate:
        print_status(
            "Replace them: `coinjar generate NAME --stage STAGE --replace`, or `coinjar put NAME --stage STAGE` "
            "(--generate does it next time)"
        )


def list_readers(ctx: typer.Context, as_json: JsonOption = False, jar: JarOption = None) -> None:
    """List the readers of each stage, and whether the list is approved. Works without an identity."""
    from coinjar.actions.secrets.readers import listing

    found = listing(open_here(ctx, jar))
    if as_json:
        print_json(_as_json(found))
    else:
        _show(found)


def _show(listing: ReaderList) -> None:
    from coinjar.actions.secrets.readers import NOT_VOUCHED, UNKNOWN
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width
    from coinjar.crypto.age import short

    if not listing.rows:
        show(styled("there are no readers yet", "bold"))
        print_status("The first secret creates a key, for whoever sets it: `coinjar put NAME --stage STAGE`")
        return
    doubtful = [stage for stage, state in listing.stages.items() if state == NOT_VOUCHED]
    unknown = [stage for stage, state in listing.stages.items() if state == UNKNOWN]
    show(styled(f"{counted(len(listing.rows), 'reader')} of {counted(len(listing.stages), 'stage')}", "bold"))
    rows = []
    for row in listing.rows:
        reader = row.reader
        cells = []
        for stage in listing.stages:
            sign = "" if stage not in row.opens else "●" if reader.service is None else "◐"
            cells.append(
                StyledText(f"{sign} ‼" if sign and stage in doubtful else sign, "red" if stage in doubtful else "green")
            )
        note = "offline" if reader.offline else reader.service or ""
        rows.append(
            [
                StyledText(reader.label, "bold"),
                StyledText(short(reader.recipient), "cyan"),
                StyledText(note, "dim"),
                *cells,
            ]
        )
    for line in table(
        ["reader", "recipient", "", *listing.stages],
        rows,
        least=[20, 18, 12, *[len(stage) for stage in listing.stages]],
        width=terminal_width(),
    ):
        show(line)
    legend = ["● all values"] + (
        ["◐ values of all services, and of its own"] if any(row.reader.service for row in listing.rows) else []
    )
    show(styled("   ".join(legend), "dim"))
    if doubtful:
        print_status(
            f"‼ the readers of {', '.join(doubtful)} are not approved: readers.yaml was changed by hand, or merged. "
            "If it is right, run `coinjar readers vouch`"
        )
    if unknown:
        print_status(
            f"whether the readers of {', '.join(unknown)} are approved is visible only to those who can decrypt them"
        )


def _as_json(listing: ReaderList) -> dict[str, Any]:
    return {
        "readers": [
            {
                "label": row.reader.label,
                "recipient": row.reader.recipient,
                "service": row.reader.service,
                "offline": row.reader.offline,
                "opens": [{"stage": stage, "compartments": parts} for stage, parts in row.opens.items()],
            }
            for row in listing.rows
        ],
        "stages": [{"stage": stage, "state": state} for stage, state in listing.stages.items()],
    }


def rekey(ctx: typer.Context, stage: Stages = None, jar: JarOption = None) -> None:
    """Replace the keys of stages (default: of all) and encrypt every value again.

    Readers stay, and so do the names of Kubernetes Secrets.
    """
    from coinjar.actions.secrets.readers import rekey as change_keys
    from coinjar.actions.secrets.readers import stages_of

    opened = open_here(ctx, jar)
    for name, values in change_keys(opened, stages_of(opened, stage)).items():
        print_status(f"{name}: keys replaced, {counted(values, 'value')} encrypted again")


def seal(ctx: typer.Context, stage: Stages = None, label: LabelOption = None, jar: JarOption = None) -> None:
    """Encrypt plain values of secret variables, and re-encrypt values that more services than declared can decrypt.

    Placeholders stay. The old text stays in the history of version control: replace what was committed.
    """
    from coinjar.actions.secrets.encrypt_plain import seal as seal_values

    opened = open_here(ctx, jar)
    label_first_reader(opened, label)
    done = seal_values(opened, list(dict.fromkeys(stage)) if stage else None)
    for note in done.notes:
        print_status(note)
    for value in done.encrypted:
        print_status(
            f"{value.name}: encrypted on {value.layer}, "
            + (f"removed from {value.file}" if value.file else "for the services that get it")
        )
    for name, reason in done.skipped:
        print_status(f"{name}: {reason}")
    files = list(dict.fromkeys(value.file for value in done.encrypted if value.file))
    if files:
        print_status(
            f"The history of version control still contains the old text, if {' or '.join(files)} was ever committed."
        )
        print_status(
            "Replace those values where that matters: `coinjar generate NAME --stage STAGE --replace`, or `coinjar "
            "put NAME --stage STAGE`."
        )
    if not done.encrypted and not done.skipped:
        print_status("Nothing to encrypt.")


def vouch(ctx: typer.Context, stage: Stages = None, yes: YesOption = False, jar: JarOption = None) -> None:
    """Approve the list in readers.yaml, after a merge or an edit by hand: the keys are wrapped for exactly these
    readers.
    """
    from coinjar.actions.secrets.readers import listing, stages_of
    from coinjar.actions.secrets.readers import vouch as vouch_for

    opened = open_here(ctx, jar)
    stages = stages_of(opened, stage)
    _show(listing(opened))
    ask_to_go_on("Are these all readers, and the right ones?", yes=yes)
    for note in vouch_for(opened, stages):
        print_status(note)
    print_status(f"approved the readers of {', '.join(stages)}.")


COMMANDS = {
    "add": (add, "Add a recipient to a stage."),
    "remove": (remove, "Remove a reader: keys replaced, values encrypted again."),
    "list": (list_readers, "List the readers of each stage."),
    "rekey": (rekey, "Replace keys; readers and values stay."),
    "seal": (seal, "Encrypt secrets that are stored in plain text."),
    "vouch": (vouch, "Approve readers.yaml after a merge or an edit."),
}
