"""Several jars for one command that only reads, as in a repository of many applications."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Annotated

import typer

from coinjar.cli.common import open_here
from coinjar.core.errors import CoinJarError, UsageError

if TYPE_CHECKING:
    from coinjar.actions.open_jar import OpenJar

JarsOption = Annotated[
    list[str] | None,
    typer.Option(
        "--jar", metavar="PATH", help="A jar's folder; may be repeated, also 'apps/*'. Default: searched upward."
    ),
]


def open_each(ctx: typer.Context, given: list[str] | None) -> list[OpenJar]:
    """Return the jars that paths and patterns mean, each once, in order; the nearest one for none.

    Raises UsageError for a pattern that means no jar, InputError for a path without one.
    """
    if not given:
        return [open_here(ctx, None)]
    paths = dict.fromkeys(path for word in given for path in _meant(word))
    found = [open_here(ctx, path) for path in paths]
    return list({opened.folder.resolve(): opened for opened in found}.values())


def _meant(word: str) -> list[str]:
    from glob import glob, has_magic

    if not has_magic(word):
        return [word]
    from pathlib import Path

    from coinjar.jarfile.locate import find_jar

    result = []
    for path in sorted(glob(word)):  # noqa: PTH207 - the pattern may be absolute
        try:
            result.append(str(find_jar(Path(path), path)))
        except CoinJarError:
            continue  # another folder, which the pattern also means
    if not result:
        raise UsageError(
            f"no folder that '{word}' means has a jar", hint="write a pattern such as 'apps/*'", code="no-jar"
        )
    return result


def label_of(opened: OpenJar) -> str:
    """Return a jar's folder, for people."""
    from coinjar.system.files import display_path

    return display_path(opened.folder)


def each(jars: Sequence[OpenJar], work: Callable[[OpenJar], int]) -> int:
    """Do the work for each jar under its name; return the greatest exit code. A failure does not stop the others."""
    code = 0
    for opened in jars:
        _show_name(opened)
        try:
            code = max(code, work(opened))
        except CoinJarError as fault:
            from coinjar.cli.main import print_error

            print_error(fault)
            code = max(code, fault.exit_code)
    return code


def _show_name(opened: OpenJar) -> None:
    from coinjar.cli.tables import show, styled

    show(styled(label_of(opened), "bold"))
