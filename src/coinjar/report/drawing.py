"""What all figures share: colours that follow the page's theme, fonts, and how a figure becomes SVG or PNG."""

from __future__ import annotations

import io
import re
import textwrap
from collections.abc import Mapping
from contextlib import AbstractContextManager
from typing import Any, Final, NamedTuple

import matplotlib as mpl

mpl.use("svg")  # no screen is needed

from matplotlib.figure import Figure

INK, FAINT, LINE, ACCENT = "#1b2430", "#5b6673", "#c9d0d8", "#1f5fa8"
GOOD, WARN, BAD = "#2f7d4f", "#9a6700", "#b3261e"
SERIES: Final = ("#1f5fa8", "#9a6700", "#2f7d4f", "#7b3fa0", "#b3261e", "#0b7285", "#5b6673", "#a0446d")
"""Colours of lines and bars, by number: dark enough on white; the page has brighter ones for a dark screen."""
_VARIABLES: Final[Mapping[str, str]] = {
    INK: "--ink",
    FAINT: "--faint",
    LINE: "--line",
    **{colour: f"--series-{number}" for number, colour in enumerate(SERIES)},
}
_STYLE: Final[dict[Any, Any]] = {  # keys are literals to Matplotlib
    "svg.fonttype": "none",  # texts stay texts: small, searchable, in the page's font
    "text.parse_math": False,  # a dollar sign is one
    "svg.hashsalt": "coinjar",  # the same bytes each time
    "font.family": "sans-serif",
    "font.size": 10,
    "text.color": INK,
    "axes.labelcolor": INK,
    "axes.edgecolor": LINE,
    "xtick.color": FAINT,
    "ytick.color": INK,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "figure.facecolor": "none",
    "axes.facecolor": "none",
    "savefig.facecolor": "none",
}
_CHARACTERS_PER_INCH = 11
"""Of a title."""
_HEAD = re.compile(r"\A.*?(?=<svg)", re.DOTALL)


class Drawing(NamedTuple):
    """A figure, its name as a file, its title, and what it shows in words."""

    name: str
    title: str
    says: str
    figure: Figure


def style() -> AbstractContextManager[None]:
    """Return the context in which figures are made and written."""
    return mpl.rc_context(_STYLE)


def new_figure(width: float, height: float) -> Figure:
    """Return an empty figure; sizes in inches."""
    return Figure(figsize=(width, height), layout="constrained")


def inline_svg(drawing: Drawing, number: int) -> str:
    """Return a drawing as SVG inside a page: in the colours of its theme, no wider than it was drawn, with its name."""
    text = _HEAD.sub("", _as_svg(drawing.figure))
    for colour, variable in _VARIABLES.items():
        text = text.replace(colour, f"var({variable})")
    text = re.sub(r"<metadata>.*?</metadata>", "", text, flags=re.DOTALL)
    text = re.sub(r"font: ([\d.]+)px '[^']*'(?:, '[^']*')*(?:, [\w-]+)*", r"font-size: \1px", text)
    text = re.sub(r"\b(id=\"|url\(#|href=\"#)", rf"\g<1>f{number}-", text)
    width = re.search(r'width="([\d.]+)pt"', text)
    pixels = f"{float(width[1]) * 4 / 3:.0f}px" if width else "none"
    most = f'style="max-width: {pixels}; min-width: min({pixels}, 30rem)" ' if width else ""
    text = re.sub(r' (?:width|height)="[\d.]+pt"', "", text, count=2)
    return text.replace("<svg ", f'<svg role="img" aria-labelledby="figure-{number}" {most}', 1)


def _as_svg(figure: Figure) -> str:
    buffer = io.StringIO()
    with style():
        figure.savefig(buffer, format="svg", metadata={"Date": None, "Creator": None})
    return buffer.getvalue()


def files_of(drawing: Drawing) -> dict[str, bytes]:
    """Return a drawing as files by name: PNG and SVG, on white, with its title and what it shows."""
    drawing.figure.set_facecolor("white")
    words = textwrap.wrap(f"{drawing.title}: {drawing.says}", int(drawing.figure.get_figwidth() * _CHARACTERS_PER_INCH))
    drawing.figure.suptitle("\n".join(words), x=0.01, ha="left", fontsize=10, color=INK)
    result = {}
    for form in ("png", "svg"):
        buffer = io.BytesIO()
        with style():
            metadata = {"Date": None, "Creator": None} if form == "svg" else {"Software": None}
            drawing.figure.savefig(buffer, format=form, dpi=144, metadata=metadata, facecolor="white")
        result[f"{drawing.name}.{form}"] = buffer.getvalue()
    return result
