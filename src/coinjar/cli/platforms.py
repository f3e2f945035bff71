"""`coinjar platforms`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import JarOption, JsonOption, open_here, print_json
from coinjar.cli.opening import print_status
from coinjar.core.errors import CoinJarError, UsageError

if TYPE_CHECKING:
    from pathlib import Path

    from coinjar.actions.delivery.try_description import TryResult
    from coinjar.platforms.description import PlatformDescription


def run(
    ctx: typer.Context,
    name: Annotated[str | None, typer.Argument(metavar="[NAME]", help="Show this one. Default: list all.")] = None,
    examples: Annotated[
        bool, typer.Option("--examples", help="Try it against its own examples, without a network.")
    ] = False,
    online: Annotated[
        str | None,
        typer.Option("--online", metavar="STAGE", help="Identify and list its targets on STAGE; write nothing."),
    ] = None,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """List the platforms that are described, by the jar or by Coin Jar; show one, or try its description.

    Exit code 1 if an example does not hold. `coinjar help descriptions` explains how to describe another.
    """
    import asyncio

    from coinjar.actions.delivery.try_description import try_examples, try_online
    from coinjar.destinations.live.platform import description_data, known_platforms, load_description

    folder = _folder(ctx, jar)
    if name is None:
        if examples or online:
            raise UsageError("try which platform?", hint="name one: `coinjar platforms NAME --examples`")
        described = {known: load_description(folder, known) for known in known_platforms(folder)}
        _list(described, as_json=as_json)
        return
    description = load_description(folder, name)
    if examples and online:
        raise UsageError("--examples and --online exclude each other", hint="run it once with each")
    if online is not None:
        results = asyncio.run(try_online(open_here(ctx, jar), name, online))
    elif examples:
        results = [(name, asyncio.run(try_examples(description, description_data(folder, name)[0])))]
    else:
        print_json(_as_json(description)) if as_json else _show(description)
        return
    _show_results(results, as_json=as_json)


def _folder(ctx: typer.Context, jar: str | None) -> Path:
    """Return the folder of the jar; without one, a folder that has no descriptions of its own."""
    from pathlib import Path

    try:
        return open_here(ctx, jar).folder
    except CoinJarError:
        if jar:
            raise
        return Path("jar")


def _traits(description: PlatformDescription) -> list[str]:
    """Return what distinguishes a platform, in a few words each."""
    writing = description.writing
    way = next(
        words
        for words, is_used in (
            ("the whole set in one request", writing.whole),
            ("all changes in one request", writing.changes),
            ("lists of changes", writing.batch),
            ("one request per variable", True),
        )
        if is_used
    )
    traits = [
        ("one target per service" if description.one_for == "service" else "one target for all services")
        + (", whose variables name their stages" if description.carried else " and stage"),
        f"written as {way}",
        {
            "next-deploy": "in effect after a restart",
            "at-once": "in effect at once",
            "next-run": "in effect with the next run",
        }[description.in_effect],
    ]
    if description.listing and description.listing.hidden:
        traits.append("some values are not readable")
    if description.run:
        traits.append("runs pipelines")
    return traits


def _list(described: dict[str, PlatformDescription], *, as_json: bool) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    if as_json:
        print_json({"platforms": [_as_json(description) for description in described.values()]})
        return
    show(styled(f"{len(described)} platforms are described", "bold"))
    rows = [
        [
            StyledText(name, "bold"),
            StyledText(description.about),
            StyledText(", ".join(key for key in description.settings if key != "address"), "cyan"),
            StyledText("Coin Jar" if description.location.file.startswith("(shipped)") else "jar", "dim"),
        ]
        for name, description in described.items()
    ]
    for line in table(["platform", "about", "settings", "by"], rows, least=[12, 30, 10, 8], width=terminal_width()):
        show(line)
    print_status("`coinjar platforms NAME` shows one; `coinjar help descriptions` explains how to describe another.")


def _show(description: PlatformDescription) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    show(styled(f"{description.name}: {description.about}", "bold"))
    for trait in _traits(description):
        show(f"  {trait}")
    rows = [[StyledText(name, "bold"), StyledText(about)] for name, about in description.settings.items()]
    for line in table(["setting", "what it is"], rows, least=[10, 30], width=terminal_width()):
        show(line)
    if limits := _limits(description):
        show(styled("limits", "dim"))
        for limit in limits:
            show(f"  {limit}")


def _limits(description: PlatformDescription) -> list[str]:
    given: list[tuple[str, object]] = [
        ("names match", description.shape),
        ("names have at most characters:", description.longest_name),
        ("values have at most bytes:", description.largest),
        ("values have at most characters:", description.longest_value),
        ("values match", description.value_shape),
        ("at most variables:", description.most),
        ("at most bytes in all:", description.total),
        ("requests per second:", description.per_second),
        ("reserved:", ", ".join(description.reserved)),
        ("supplied:", ", ".join(description.supplied)),
    ]
    return [f"{words} {value}" for words, value in given if value]


def _as_json(description: PlatformDescription) -> dict[str, Any]:
    return {
        "name": description.name,
        "about": description.about,
        "file": description.location.file,
        "settings": dict(description.settings),
        "traits": _traits(description),
        "limits": _limits(description),
        "has_examples": description.examples is not None,
    }


def _show_results(results: list[tuple[str, TryResult]], *, as_json: bool) -> None:
    from coinjar.cli.delivery_output import show_errors
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    if as_json:
        print_json(
            {
                "targets": [
                    {
                        "target": label,
                        "parts": [{"part": part.part, "outcome": part.outcome or None} for part in result.parts],
                        "fault": result.fault.message if result.fault else None,
                    }
                    for label, result in results
                ]
            }
        )
    else:
        for label, result in results:
            done = sum(bool(part.outcome) for part in result.parts)
            head = f"{label}: {done} of {len(result.parts)} parts exercised"
            show(styled(head + (", then it failed" if result.fault else ""), "bold red" if result.fault else "bold"))
            rows = [
                [
                    StyledText("✓" if part.outcome else "·", "green" if part.outcome else "dim"),
                    StyledText(part.part, "bold"),
                    StyledText(part.outcome or "not exercised", "" if part.outcome else "dim"),
                ]
                for part in result.parts
            ]
            for line in table(["", "part", "outcome"], rows, least=[1, 8, 30], width=terminal_width()):
                show(line)
    show_errors([(label, result.fault) for label, result in results if result.fault])
    if faults := [result.fault for _, result in results if result.fault]:
        raise typer.Exit(1 if all(isinstance(fault, CoinJarError) and fault.exit_code == 3 for fault in faults) else 5)
