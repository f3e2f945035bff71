"""Say who opens which stage's secrets: add and remove readers, change keys, seal what is still plain."""

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
    print_status,
    reader_labels,
)
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
    label: Annotated[str, typer.Option("--label", metavar="LABEL", help="Whose it is: a person, a machine.")],
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
    """Let a recipient open a stage, with shared and the stages it follows; with --service only `all` and that service's part.

    Shows first what it will open. You must be able to open the stages yourself.
    """
    from coinjar.actions.secrets.readers import add as add_reader
    from coinjar.actions.secrets.readers import plan_adding

    opened = open_here(ctx, jar)
    adding = plan_adding(opened, _recipient(recipient), label, stage, service=service, offline=offline)
    _show_adding(adding)
    ask_to_go_on("Let it in?", yes=yes)
    for note in add_reader(opened, adding):
        print_status(note)
    print_status(f"{label} is a reader now. Commit jar/readers.yaml and jar/coins.")


def _recipient(given: str) -> str:
    """The recipient itself, or the first line of a file that is named."""
    from pathlib import Path

    path = Path(given)
    if given.endswith(".pub"):
        try:
            return path.read_text().split("\n")[0].strip()
        except (OSError, UnicodeDecodeError):
            raise UsageError(
                f"cannot read the file {given}", hint="name an SSH .pub file, or give the recipient itself"
            ) from None
    return given


def _show_adding(adding: ReaderGrant) -> None:
    from coinjar.crypto.age import short

    reader = adding.reader
    what = f"all and {reader.service} of" if reader.service else "everything of"
    print_status(
        f"{reader.label} ({short(reader.recipient)}) will open {what} {', '.join(adding.stages)}: {counted(adding.values, 'value')} now, and all that come."
    )


def remove(
    ctx: typer.Context,
    label: Annotated[str, typer.Argument(metavar="LABEL", autocompletion=reader_labels, help="The reader.")],
    stage: Stages = None,
    everywhere: Annotated[
        bool, typer.Option("--everywhere", help="From every stage: for somebody who leaves.")
    ] = False,
    generate: Annotated[
        bool,
        typer.Option("--generate", help="Make anew what it could have opened, where jar.yaml says how (generate)."),
    ] = False,
    yes: YesOption = False,
    jar: JarOption = None,
) -> None:
    """Take a stage from a reader: a new key, every value of it sealed anew. Asks first; lists what the reader could have opened.

    What somebody could open, they may have kept: those values want to be made anew, and the old ones to be switched off where they are used.
    """
    from coinjar.actions.secrets.readers import remove as remove_reader
    from coinjar.actions.secrets.readers import stages_of_reader

    if everywhere == bool(stage):
        raise UsageError("remove from where?", hint="name --stage STAGE, or say --everywhere")
    opened = open_here(ctx, jar)
    stages = stages_of_reader(opened, label, None if everywhere else list(dict.fromkeys(stage or [])))
    more = " Values that can be generated are replaced, too." if generate else ""
    ask_to_go_on(f"{label} will no longer open {', '.join(stages)}: their keys are replaced.{more} Do it?", yes=yes)
    done = remove_reader(opened, label, stages, generate=generate)
    print_status(
        f"{label} opens {', '.join(done.could_open)} no more: new keys, all values sealed anew."
        + (f" It still opens {', '.join(done.still_opens)}." if done.still_opens else "")
    )
    if not any(done.could_open.values()):
        print_status("There was nothing that it could have opened.")
        return
    print_status(
        f"What {label} could have opened, and may have kept:" if not generate else f"What {label} could have opened:"
    )
    for layer, names in done.could_open.items():
        created = done.made_anew.get(layer, [])
        rest = [name for name in names if name not in created]
        if created:
            print_status(f"  {layer}: made anew: {', '.join(created)}")
        if rest:
            print_status(f"  {layer}: {'still to be made anew: ' if generate else ''}{', '.join(rest)}")
    if not generate:
        print_status(
            "Make them anew: `coinjar generate NAME --stage STAGE --replace`, or `coinjar put NAME --stage STAGE` (next time --generate does it)"
        )


def list_readers(ctx: typer.Context, as_json: JsonOption = False, jar: JarOption = None) -> None:
    """Show who opens what, and whether those who hold the keys vouch for it. Works without an identity."""
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
        show(styled("nobody opens anything yet", "bold"))
        print_status("The first secret makes a key, for whoever puts it: `coinjar put NAME --stage STAGE`")
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
    legend = ["● opens all of it"] + (
        ["◐ opens what all services get, and its own"] if any(row.reader.service for row in listing.rows) else []
    )
    show(styled("   ".join(legend), "dim"))
    if doubtful:
        print_status(
            f"‼ nobody vouches for the readers of {', '.join(doubtful)}: readers.yaml was changed by hand, or merged. If it is right: `coinjar readers vouch`"
        )
    if unknown:
        print_status(
            f"whether the readers of {', '.join(unknown)} are vouched for can only be seen by those who open them"
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
    """Change the keys of stages (default: of all): every value is sealed anew. Readers stay, and so do the names of Kubernetes Secrets."""
    from coinjar.actions.secrets.readers import rekey as change_keys
    from coinjar.actions.secrets.readers import stages_of

    opened = open_here(ctx, jar)
    for name, values in change_keys(opened, stages_of(opened, stage)).items():
        print_status(f"{name}: new keys, {counted(values, 'value')} sealed anew")


def seal(ctx: typer.Context, stage: Stages = None, label: LabelOption = None, jar: JarOption = None) -> None:
    """Move plain values of secret variables into sealed ones; and seal for its services alone what was sealed for all before.

    Placeholders stay. The old text stays in version control's history: what was committed wants to be made anew.
    """
    from coinjar.actions.secrets.encrypt_plain import seal as seal_values

    opened = open_here(ctx, jar)
    label_first_reader(opened, label)
    done = seal_values(opened, list(dict.fromkeys(stage)) if stage else None)
    for note in done.notes:
        print_status(note)
    for value in done.encrypted:
        print_status(
            f"{value.name}: sealed on {value.layer}, "
            + (f"out of {value.file}" if value.file else "for the services that get it")
        )
    for name, reason in done.skipped:
        print_status(f"{name}: {reason}")
    files = list(dict.fromkeys(value.file for value in done.encrypted if value.file))
    if files:
        print_status(f"The old text is still in version control's history, if {' or '.join(files)} was ever committed.")
        print_status(
            "Make those values anew where it counts: `coinjar generate NAME --stage STAGE --replace`, or `coinjar put NAME --stage STAGE`."
        )
    if not done.encrypted and not done.skipped:
        print_status("Nothing to seal.")


def vouch(ctx: typer.Context, stage: Stages = None, yes: YesOption = False, jar: JarOption = None) -> None:
    """Vouch for readers.yaml as it stands, after a merge or an edit by hand: the keys are wrapped for exactly these readers."""
    from coinjar.actions.secrets.readers import listing, stages_of
    from coinjar.actions.secrets.readers import vouch as vouch_for

    opened = open_here(ctx, jar)
    stages = stages_of(opened, stage)
    _show(listing(opened))
    ask_to_go_on("Are these all, and the right ones?", yes=yes)
    vouch_for(opened, stages)
    print_status(f"You vouch for the readers of {', '.join(stages)}.")


COMMANDS = {
    "add": (add, "Let a recipient open a stage."),
    "remove": (remove, "Take a stage from a reader: new keys, all sealed anew."),
    "list": (list_readers, "Show who opens what, and who is vouched for."),
    "rekey": (rekey, "Change keys; readers and values stay."),
    "seal": (seal, "Seal what is still plain."),
    "vouch": (vouch, "Vouch for readers.yaml after a merge or an edit."),
}
