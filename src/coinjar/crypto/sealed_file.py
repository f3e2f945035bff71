"""The text of a file of sealed values: one line per value, laid out so that branches which change different values
merge.

A line is scope, name, key and sealed text. `# NAME` is above the lines of each name, an empty line below them; a
removed value leaves its heading. So two branches' changes of different names never touch, and where both add a name in
the same place, keeping both lines is right (`merge=union` in jar/.gitattributes does that).
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Mapping
from itertools import accumulate

from coinjar.core.definition import SealedEntry
from coinjar.core.errors import CoinJarError, InputError, Location, raise_all
from coinjar.core.names import ANY_NAME, SMALL_NAME

HEADING = "# coins 1: sealed values (scope, name, key, sealed text); docs/formats.md of Coin Jar has the rest"
LARGEST = 64 << 20
"""Maximum size of a file, in bytes."""
_LINE = re.compile(rf"({SMALL_NAME}) ({ANY_NAME}) ([0-9a-f]{{8}}) ([A-Za-z0-9+/]+={{0,2}})")
_HEADING = re.compile(rf"# {ANY_NAME}")
_MARKER = ("<<<<<<<", "=======", ">>>>>>>", "|||||||")


def parse(data: bytes, file: str) -> list[SealedEntry]:
    """Return the lines of a file, in order. Raises InputError for every invalid line, all at once."""
    if len(data) > LARGEST:
        raise InputError(
            f"the file has over {LARGEST >> 20} MiB",
            hint="is it the right file?",
            location=Location(file),
            code="coins",
        )
    coins: list[SealedEntry] = []
    faults: list[CoinJarError] = []
    lines = data.decode("utf-8", "replace").split("\n")
    if lines[0] and not lines[0].startswith("# coins 1"):
        hint = "its first line must be '# coins 1': restore the file from version control"
        raise InputError(
            "this is not a file of sealed values that this version reads",
            hint=hint,
            location=Location(file, 1, 1),
            code="coins",
        )
    for number, line in enumerate(lines, 1):
        if not line or line[0] == "#" or line == "\r":
            continue
        text = line.removesuffix("\r")
        if match := _LINE.fullmatch(text):
            scope, name, key, sealed = match.groups()
            if len(sealed) % 4 == 0:
                coins.append(SealedEntry(scope, name, key, sealed, number))
                continue
        location = Location(file, number, 1)
        if text.startswith(_MARKER):
            hint = "keep the lines of both sides, one where scope and name are the same, and remove the markers"
            faults.append(InputError("there is an unfinished merge here", hint=hint, location=location, code="coins"))
        else:
            hint = "restore the line from version control, or set the value again"
            faults.append(
                InputError(
                    "this line is not a sealed value: it is truncated, or was changed",
                    hint=hint,
                    location=location,
                    code="coins",
                )
            )
    raise_all(faults)
    return coins


def changed(
    data: bytes, file: str, changes: Mapping[tuple[str, str], SealedEntry | None], *, tidy: bool = False
) -> bytes:
    """Return the file with some values set (or, for None, removed); every other line keeps its bytes.

    `tidy` removes the headings of names without values: only where all lines change anyway.
    """
    lines = data.decode().split("\n") if data else [HEADING, "", ""]
    at = {number - 1: coin for coin in parse(data, file) for number in [coin.line]} if data else {}
    kept: list[str] = []
    done: set[tuple[str, str]] = set()
    for number, line in enumerate(lines):
        coin = at.get(number)
        if coin is None or coin.slot not in changes:
            kept.append(line)
            continue
        new = changes[coin.slot]
        if new is not None and coin.slot not in done:
            kept.append(_written(new))
        done.add(coin.slot)
    news: dict[str, list[SealedEntry]] = {}
    for slot in sorted(changes):
        new = changes[slot]
        if new is not None and slot not in done:
            news.setdefault(new.name, []).append(new)
    kept = _with(kept, news)
    return "\n".join(_without_idle_headings(kept) if tidy else kept).encode()


def with_entries(data: bytes, entries: Mapping[int, SealedEntry]) -> bytes:
    """Return the file with some lines replaced, by number from 1; every other line keeps its bytes."""
    lines = data.decode().split("\n")
    for number, entry in entries.items():
        ending = "\r" if lines[number - 1].endswith("\r") else ""
        lines[number - 1] = _written(entry) + ending
    return "\n".join(lines).encode()


def _written(coin: SealedEntry) -> str:
    return f"{coin.scope} {coin.name} {coin.key} {coin.sealed}"


def _with(lines: list[str], news: Mapping[str, list[SealedEntry]]) -> list[str]:
    """Return the lines with new values below their headings; a new heading is inserted before the first greater one."""
    headings = [(line[2:], at) for at, line in enumerate(lines) if at and _HEADING.fullmatch(line)]
    places = dict(reversed(headings))
    greatest = list(accumulate((name for name, _ in headings), max))  # after a merge they may be out of order
    end = len(lines) - 1 if lines[-1] == "" else len(lines)
    added: dict[int, list[str]] = {}
    for name in sorted(news):
        if name in places:
            for coin in news[name]:
                at = places[name] + 1
                while (
                    at < len(lines)
                    and (match := _LINE.fullmatch(lines[at]))
                    and match[2] == name
                    and match[1] < coin.scope
                ):
                    at += 1
                added.setdefault(at, []).append(_written(coin))
        else:
            after = bisect_right(greatest, name)
            at = headings[after][1] if after < len(headings) else end
            added.setdefault(at, []).extend([f"# {name}", *map(_written, news[name]), ""])
    parts: list[str] = []
    start = 0
    for at in sorted(added):
        parts += [*lines[start:at], *added[at]]
        start = at
    return parts + lines[start:]


def _without_idle_headings(lines: list[str]) -> list[str]:
    used = {line.split(" ")[1] for line in lines if _LINE.fullmatch(line)}
    kept: list[str] = []
    for number, line in enumerate(lines):
        idle = number and _HEADING.fullmatch(line) and line[2:] not in used
        after_idle = (
            line == ""
            and number
            and lines[number - 1].startswith("# ")
            and lines[number - 1][2:] not in used
            and number > 1
        )
        if not (idle or after_idle):
            kept.append(line)
    return kept
