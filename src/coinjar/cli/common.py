"""Shared by the commands: options, opening the jar, and messages."""

from __future__ import annotations

import re
import sys
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.opening import opened_at, print_status
from coinjar.core.errors import CoinJarError, UsageError
from coinjar.core.names import matches, name_fault

if TYPE_CHECKING:
    from json import JSONEncoder

    from coinjar.actions.open_jar import OpenJar
    from coinjar.core.layers import Resolver
    from coinjar.core.model import Jar


def _complete(pick: Callable[[Jar], list[str]]) -> Callable[[typer.Context, str], list[str]]:
    """Complete the jar's names; nothing without a jar, or with a faulty one."""

    def names(ctx: typer.Context, incomplete: str) -> list[str]:
        from coinjar.jarfile.load import load_declarations

        try:
            jar = load_declarations(open_here(ctx, ctx.params.get("jar")).folder)
        except CoinJarError:
            return []
        return offered(pick(jar), incomplete)

    return names


def offered(names: Iterable[str], incomplete: str) -> list[str]:
    """Return the names to offer when a person presses Tab: shells evaluate what they are offered, so a name with
    another character than these is left out.
    """
    return [name for name in names if name.startswith(incomplete) and re.fullmatch(r"[A-Za-z0-9_.@:/-]+", name)]


def _stages(jar: Jar) -> list[str]:
    return [name for name in jar.stages if "*" not in name]


def _layers(jar: Jar) -> list[str]:
    return ["shared", *_stages(jar)]


stage_names = _complete(_stages)
layer_names = _complete(_layers)
service_names = _complete(lambda jar: list(jar.services))
destination_names = _complete(lambda jar: list(jar.destinations))
proof_names = _complete(lambda jar: list(jar.proofs))
variable_names = _complete(lambda jar: list(jar.variables))


def reader_labels(ctx: typer.Context, incomplete: str) -> list[str]:
    """Complete the label of a reader."""
    from coinjar.jarfile.readers import load_readers

    try:
        labels = load_readers(open_here(ctx, ctx.params.get("jar")).folder).readers
    except CoinJarError:
        return []
    return offered(labels, incomplete)


def render_names(ctx: typer.Context, incomplete: str) -> list[str]:
    """Complete a stage, then destinations."""
    given = ctx.params.get("where") or []
    return (destination_names if given or ctx.params.get("every_stage") else stage_names)(ctx, incomplete)


def deliver_names(ctx: typer.Context, incomplete: str) -> list[str]:
    """Complete a stage, then destinations."""
    return (destination_names if ctx.params.get("where") else layer_names)(ctx, incomplete)


def confirm_names(ctx: typer.Context, incomplete: str) -> list[str]:
    """Complete stages, and proofs after one."""
    return [*stage_names(ctx, incomplete), *(proof_names(ctx, incomplete) if ctx.params.get("where") else [])]


def complete_dialects(incomplete: str) -> list[str]:
    """Complete a dialect."""
    from coinjar.dialects import dialect_names

    return offered(dialect_names(), incomplete)


def standin_names(incomplete: str) -> list[str]:
    """Complete a stand-in."""
    from coinjar.standins import STANDINS

    return offered(STANDINS, incomplete)


def why_names(ctx: typer.Context, incomplete: str) -> list[str]:
    """Complete a stage, then a variable; only a variable after --in."""
    return (variable_names if ctx.params.get("where") or ctx.params.get("inside") else stage_names)(ctx, incomplete)


JarOption = Annotated[
    str | None, typer.Option("--jar", metavar="PATH", help="The jar's folder. Default: searched upward from here.")
]
StageArgument = Annotated[str, typer.Argument(metavar="STAGE", autocompletion=stage_names, help="The stage.")]
NameArgument = Annotated[str, typer.Argument(metavar="NAME", autocompletion=variable_names, help="The variable.")]
ServiceOption = Annotated[
    str | None, typer.Option("--service", "-s", metavar="SERVICE", autocompletion=service_names, help="The service.")
]
ServicesOption = Annotated[
    list[str] | None,
    typer.Option(
        "--service",
        "-s",
        metavar="SERVICE",
        autocompletion=service_names,
        help="Only this service; may be repeated. Default: all.",
    ),
]
YesOption = Annotated[bool, typer.Option("--yes", "-y", help="Do not ask. Default: ask on a terminal.")]
LabelOption = Annotated[
    str | None,
    typer.Option(
        "--label",
        metavar="LABEL",
        help="Your label as the jar's first reader. Default: asked for.",
    ),
]
WithOption = Annotated[
    list[str] | None,
    typer.Option("--with", metavar="NAME=VALUE", help="A one-off value above all layers; may be repeated."),
]
JsonOption = Annotated[bool, typer.Option("--json", help="Print JSON (`coinjar help json`).")]
SecretsOption = Annotated[bool, typer.Option("--show-secrets", help="Show secrets in clear. Default: masked.")]
NamePatterns = Annotated[
    list[str] | None,
    typer.Option(
        "--name",
        metavar="PATTERN",
        help="Only names that match this pattern, such as 'MAIL_*'; may be repeated. Default: all.",
    ),
]
DialectOption = Annotated[
    str | None,
    typer.Option("--as", metavar="DIALECT", autocompletion=complete_dialects, help="The dialect to write."),
]


def open_here(ctx: typer.Context, jar: str | None) -> OpenJar:
    """Return the jar that the command works on; a change of it that was interrupted is completed first, so that nobody
    reads half of it.
    """
    root = ctx.find_root()
    before = root.params.get("jar")
    source = root.get_parameter_source("jar")
    if jar and before and jar != before and source is not None and source.name == "COMMANDLINE":
        raise UsageError("--jar is given twice, but takes one value", hint="omit one")
    return opened_at(jar or before)


ByDefaultOption = Annotated[
    bool,
    typer.Option("--by-default", help="Also print to stderr which variables take their default."),
]


def print_by_default(resolver: Resolver, service: str) -> None:
    """Print to stderr which variables of a service take their default, because no layer sets them."""
    names = [
        variable.name
        for variable in resolver.jar.variables.values()
        if variable.default is not None
        and resolver.applies(variable, service)
        and resolver.value(variable.name, service).definition is variable.default
    ]
    print_status(f"coinjar: by default ({resolver.stage}, {service}): {', '.join(names) or 'none'}")


def json_encoder() -> JSONEncoder:
    """Return what writes data for machines: in ASCII where stdout cannot take all of Unicode."""
    from json import JSONEncoder

    is_ascii = not (sys.stdout.encoding or "").lower().startswith("utf")
    return JSONEncoder(indent=2, ensure_ascii=is_ascii)


def print_json(data: Any) -> None:
    """Print data for machines; in parts, as that of a large delivery or grid takes a gigabyte as one text."""
    from itertools import islice

    parts = json_encoder().iterencode(data)
    while some := list(islice(parts, 20_000)):
        print("".join(some), end="")
    print()


def known_stages(jar: Jar, given: list[str] | None, option: str) -> list[str]:
    """Return the stages that an option names. Raises UsageError for one that the jar does not have."""
    for stage in given or []:
        try:
            jar.stage(stage)
        except UsageError as fault:
            raise UsageError(f"{option}: {fault.message}", hint=fault.hint, code=fault.code) from None
    return list(dict.fromkeys(given or []))


def fits(name: str, patterns: Sequence[str] | None) -> bool:
    """Return whether a name matches one of the patterns, ignoring case."""
    return not patterns or matches(name.upper(), [pattern.upper() for pattern in patterns])


def warn_no_match(patterns: Sequence[str] | None, names: Iterable[str]) -> None:
    """Report patterns that match no name, with a suggestion."""
    known = list(names)
    for pattern in patterns or []:
        if not any(fits(name, [pattern]) for name in known):
            wider = f"{pattern}*" if any(fits(name, [f"{pattern}*"]) for name in known) else f"*{pattern}*"
            helps = not set("*?[") & set(pattern) and any(fits(name, [wider]) for name in known)
            print_status(f"coinjar: no name matches '{pattern}'" + (f"; did you mean '{wider}'?" if helps else ""))


def warn_unread(count: int, names: str) -> None:
    """Print that encrypted values were not searched for references to what will be removed."""
    if count:
        are, they = ("is", "it refers") if count == 1 else ("are", "they refer")
        print_status(
            f"{counted(count, 'value')} {are} encrypted for others: whether {they} to {names} is not known here"
        )


def ask_to_go_on(question: str, *, yes: bool) -> None:
    """Ask before a loss, unless `yes`. Without consent, end the command with 1 and no change."""
    if yes or (sys.stdin.isatty() and typer.confirm(question, err=True)):
        return
    print_status("Nothing was written." + ("" if sys.stdin.isatty() else " Add --yes to write it."))
    raise typer.Exit(1)


def named_variables(jar: Jar, given: Sequence[str], *, among: Iterable[str] | None = None) -> list[str]:
    """Return the variables that names and patterns mean; `among` limits what a pattern matches.

    A name without a pattern is returned as it is. Raises UsageError for a pattern that matches nothing.
    """
    from coinjar.core.name_patterns import is_pattern, matched

    known = list(jar.variables if among is None else among)
    result: dict[str, None] = {}
    for word in given:
        result |= dict.fromkeys(matched([word], known) if is_pattern(word) else [word])
    return list(result)


def confirm_patterns(given: Sequence[str], names: Sequence[str], what: str, *, dry_run: bool, yes: bool) -> None:
    """Show what patterns mean before a command acts on them, and ask; nothing is asked for whole names.

    `what` is the question's beginning, such as "Remove from dev". Ends the command with 1 after --dry-run.
    """
    from coinjar.core.name_patterns import is_pattern

    if not dry_run and not any(is_pattern(word) for word in given):
        return
    print_status(f"{what}: {counted(len(names), 'variable')}: {', '.join(names)}")
    if dry_run:
        raise typer.Exit(1)
    ask_to_go_on("Go on?", yes=yes)


def label_first_reader(opened: OpenJar, label: str | None, *, yes: bool = False) -> None:
    """Set the label of the jar's first reader: given, or typed by a person; with `yes` nobody is asked.

    Raises UsageError for a label if there are readers already.
    """
    from coinjar.jarfile.readers import load_readers

    if label is not None and (known := load_readers(opened.folder).readers) and label not in known:
        raise UsageError(
            "--label is for the jar's first reader, but the jar already has readers",
            hint=f"omit it; they are {', '.join(known)}",
        )
    if label is not None and (message := name_fault("reader", label)):
        raise UsageError(message, hint="write it in lower case, such as anna or anna-laptop", code="name")

    def asked(default: str) -> str:
        if label is not None or yes or not sys.stdin.isatty():
            return label or default
        return str(
            typer.prompt(
                "The first secret creates the jar's key. Which label do you want among its readers?",
                default=default,
                err=True,
            )
        )

    opened.name_reader = asked


def counted(number: int, name: str, many: str | None = None) -> str:
    """`1 value`, `3 values`."""
    return f"{number} {name if number == 1 else many or name + 's'}"
