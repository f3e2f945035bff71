"""The list of what a jar can do on this machine, and the question about it."""

from __future__ import annotations

import sys
from collections.abc import Collection, Sequence
from typing import TextIO

import typer

from coinjar.cli.tables import styled
from coinjar.core.consent import VERBS, Act
from coinjar.core.display import visible


def print_acts(acts: Sequence[Act], consented: Collection[str], to: TextIO | None = None) -> None:
    """Print the acts, new ones marked, by what they do."""
    stream = to or sys.stdout

    def paint(text: str, style: str) -> str:
        return styled(text, style) if stream is sys.stdout else text

    if not acts:
        print("This jar does nothing on your machine that needs your consent.", file=stream)
        return
    new = sum(act.line not in consented for act in acts)
    head = f"This jar can do {len(acts)} thing{'s'[len(acts) == 1 :]} on your machine, {new} new:"
    print(paint(head, "bold"), file=stream)
    width = max(map(len, VERBS))
    for act in acts:
        mark = paint("new", "yellow") if act.line not in consented else "   "
        where = f"   {visible(act.location.file)}:{act.location.line}" if act.location else ""
        shown = f"  {mark}  {act.verb:{width}}  {visible(act.object)}"
        print(shown + paint(where, "cyan"), file=stream)


def ask_consent(acts: Sequence[Act]) -> bool:
    """Show new acts on a terminal, and ask."""
    print_acts(acts, (), sys.stderr)
    return typer.confirm("Do you consent to this for this jar?", err=True)
