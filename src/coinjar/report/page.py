"""The page of a report: one HTML file that needs no network."""

from __future__ import annotations

import base64
import hashlib
import json
from collections import Counter
from importlib.resources import files
from typing import Any

from coinjar.actions.reporting.contents import CellReason, ReportContents, ReportedPlace, ReportedVariable
from coinjar.core.grid_signs import AGREEMENT, LEGEND, SIGNS
from coinjar.report.drawing import Drawing, inline_svg
from coinjar.report.figures import figures_of

_IN_A_CELL, _IN_A_SECTION = 60, 400
"""Characters of a value that are shown in the grid, and in a variable's section: certificates are long."""


def page_of(contents: ReportContents) -> str:
    """Return the page. Every text in it is escaped, and no script but the page's own may run."""
    drawings = {drawing.name: drawing for drawing in figures_of(contents)}
    from jinja2 import Environment, PackageLoader, StrictUndefined, select_autoescape
    from markupsafe import Markup

    environment = Environment(
        loader=PackageLoader("coinjar.report", "page"),
        autoescape=select_autoescape(default=True, default_for_string=True),
        trim_blocks=True,
        lstrip_blocks=True,
        undefined=StrictUndefined,
    )
    script = _part("report.js")
    numbers = {name: number for number, name in enumerate(drawings)}

    def svg(drawing: Drawing) -> Markup:
        return Markup(inline_svg(drawing, numbers[drawing.name]))  # noqa: S704 - Matplotlib escapes every text

    return environment.get_template("report.html.jinja").render(
        contents=contents,
        drawings=drawings,
        numbers=numbers,
        svg=svg,
        style=Markup(_part("report.css")),  # noqa: S704 - a file of ours
        script=Markup(script),  # noqa: S704 - a file of ours
        script_digest=base64.b64encode(hashlib.sha256(script.encode()).digest()).decode(),
        data=Markup(_as_data(contents)),  # noqa: S704 - escaped there
        signs=SIGNS,
        legend=_legend(contents),
        agreement=AGREEMENT,
        short=_short,
        long=_long,
        errors=_open(contents, "error"),
        warnings=_open(contents, "warning"),
        ages=Counter(secret.state for secret in contents.secrets),
        risks=[item for item in contents.findings if item.rule in _READER_RULES and item.accepted is None],
        states=sorted({cell.state for variable in contents.variables for cell in variable.cells}),
        distance=_distance_words,
        pairs=sorted(contents.distances, key=lambda pair: (pair.distance is None, pair.distance)),
    )


_READER_RULES = ("CJ025", "CJ026", "CJ027")
"""The rules on who can decrypt: a single reader, no recovery reader, readers that are not approved."""


def _part(name: str) -> str:
    return (files("coinjar.report") / "page" / name).read_text()


def _open(contents: ReportContents, severity: str) -> int:
    return sum(item.severity == severity and item.accepted is None for item in contents.findings)


def _legend(contents: ReportContents) -> list[str]:
    states = {cell.state for variable in contents.variables for cell in variable.cells}
    return [words for state, words in LEGEND.items() if state in states]


def _short(text: str) -> str:
    return text if len(text) <= _IN_A_CELL else text[: _IN_A_CELL - 1] + "…"


def _long(text: str) -> str:
    return text if len(text) <= _IN_A_SECTION else f"{text[:_IN_A_SECTION]}… ({len(text):,} characters)"


def _distance_words(distance: float | None) -> str:
    return "nothing to compare" if distance is None else f"{distance * 100:.0f}%"


def _as_data(contents: ReportContents) -> str:
    """Return why each cell has its value, as JSON that cannot end a script element."""
    data = {
        "columns": contents.columns,
        "variables": {variable.name: _reasons(variable) for variable in contents.variables},
    }
    text = json.dumps(data, ensure_ascii=False, separators=(",", ":"))
    return text.replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026")


def _reasons(variable: ReportedVariable) -> list[Any]:
    """Return the different explanations of a variable, and for each column the number of its own."""
    found: dict[str, int] = {}
    numbers = []
    for cell in variable.cells:
        text = json.dumps([_reason(reason, variable.places) for reason in cell.reasons], ensure_ascii=False)
        numbers.append(found.setdefault(text, len(found)))
    return [[json.loads(text) for text in found], numbers]


def _reason(reason: CellReason, places: list[ReportedPlace]) -> list[Any]:
    """Return [numbers of places, the winner's or -1, services, the value if it is not what the winner says, remarks];
    what is empty at the end is left out.
    """
    winner = -1 if reason.winner is None else reason.winner
    shown = "" if winner >= 0 and places[winner].says == reason.shown else _long(reason.shown)
    result: list[Any] = [list(reason.places), winner, list(reason.services), shown, list(reason.remarks)]
    while len(result) > 2 and not result[-1]:
        result.pop()
    return result
