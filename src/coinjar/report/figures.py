"""The figures of a report."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC
from typing import TYPE_CHECKING

from coinjar.actions.reporting.contents import ReportContents
from coinjar.actions.structure.list_parts import StageRow
from coinjar.core.display import visible
from coinjar.core.grid_signs import LEGEND
from coinjar.report.clusters import StageOrder, by_pair, ordered
from coinjar.report.drawing import ACCENT, BAD, FAINT, GOOD, INK, LINE, SERIES, WARN, Drawing, new_figure, style

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from numpy import ndarray

_MOST_NAMED = 60
"""Stages whose distances are written into the matrix's cells, each a rectangle; of more it is one picture."""
_MOST_APART = 15
_WIDTH = 9.5
_STRONGEST = 0.5
"""How opaque the greatest distance is: text on it stays readable."""


def figures_of(contents: ReportContents) -> list[Drawing]:
    """Return every figure that has something to show."""
    order = ordered(contents.columns, contents.distances)
    with style():
        drawn = [
            _stages(contents),
            _kinds(contents),
            _origins(contents),
            _matrix(contents, order),
            _apart(contents),
            _past(contents),
            _deliveries(contents),
        ]
    return [drawing for drawing in drawn if drawing is not None]


def _stages(contents: ReportContents) -> Drawing | None:
    """What follows what, from left to right."""
    rows = {stage.name: stage for stage in contents.stages}
    if not rows:
        return None
    below: dict[str, list[str]] = {"": []}
    for stage in contents.stages:
        below.setdefault(stage.follows if stage.follows in rows else "", []).append(stage.name)
    places: dict[str, tuple[int, float]] = {}
    leaves = 0

    def place(name: str, depth: int) -> float:
        nonlocal leaves
        heights = [place(other, depth + 1) for other in below.get(name, ())]
        if not heights:
            leaves += 1
            heights = [float(leaves - 1)]
        places[name] = depth, sum(heights) / len(heights)
        return places[name][1]

    place("", 0)
    deepest = max(depth for depth, _ in places.values())
    figure = new_figure(min(_WIDTH, 2.7 * (deepest + 1)), max(0.62 * leaves, 1.0))
    axes = figure.add_subplot()
    for name, (depth, height) in places.items():
        for other in below.get(name, ()):
            axes.plot([depth + 0.82, depth + 1], [height, places[other][1]], color=LINE, linewidth=1.4, zorder=1)
        drawn = rows.get(name)
        detail = _stage_words(drawn) if drawn else "every stage has it"
        side = SERIES[1] if drawn and drawn.guarded else SERIES[0]
        axes.text(depth + 0.03, height, _cut(name or "shared", 26), va="bottom", fontweight="bold")
        axes.text(depth + 0.03, height + 0.06, detail, va="top", color=FAINT, fontsize=8.5)
        axes.plot([depth, depth], [height - 0.36, height + 0.36], color=side, linewidth=3)
    axes.set_xlim(-0.05, deepest + 1)
    axes.set_ylim(leaves - 0.5, -0.5)
    axes.axis("off")
    follows = [f"{stage.name} follows {stage.follows}" for stage in contents.stages if stage.follows]
    says = f"{len(rows)} stages" + (f": {', '.join(follows)}" if follows else ", none follows another")
    return Drawing("stages", "Stages, and what follows what", says, figure)


def _stage_words(stage: StageRow) -> str:
    counts = f"sets {stage.values}" + (f", {stage.secrets} secret" if stage.secrets else "")
    return counts + (" · guarded" if stage.guarded else "")


def _kinds(contents: ReportContents) -> Drawing | None:
    counts = contents.kinds
    if not counts:
        return None
    names = list(counts)
    figure = new_figure(_WIDTH / 2, 0.9 + 0.26 * len(names))
    axes = figure.add_subplot()
    _bars(axes, names, [float(counts[name]) for name in names], [str(counts[name]) for name in names])
    most = f"{names[0]}, {counts[names[0]]}"
    return Drawing(
        "kinds", "Variables by kind", f"{len(contents.variables)} variables; the most are of the kind {most}", figure
    )


_ORIGINS = {
    "own": 0,
    "inherited": 5,
    "shared": 2,
    "default": 6,
    "varies": 3,
    "unset": 7,
    "missing": 4,
    "fault": 4,
    "sealed": 1,
}
"""The colour of each state that is drawn; those without a value are left out."""


def _origins(contents: ReportContents) -> Drawing | None:
    counts = contents.states()
    if not any(state in _ORIGINS for states in counts.values() for state in states):
        return None
    names = list(counts)
    figure = new_figure(_WIDTH / 2, 1.5 + 0.3 * len(names))
    axes = figure.add_subplot()
    ends = [0.0] * len(names)
    for state, colour in _ORIGINS.items():
        widths = [float(counts[name].get(state, 0)) for name in names]
        if not any(widths):
            continue
        words = LEGEND.get(state, "‼ cannot be computed")
        axes.barh(range(len(names)), widths, left=ends, color=SERIES[colour], height=0.62, label=words)
        ends = [end + width for end, width in zip(ends, widths, strict=True)]
    _named_rows(axes, names)
    axes.legend(loc="upper center", bbox_to_anchor=(0.45, -0.12), ncols=2, frameon=False, fontsize=8.5)
    missing = sum(states.get("missing", 0) + states.get("fault", 0) for states in counts.values())
    sealed = any("sealed" in states for states in counts.values())
    none = "no required value is missing" + (" among those that can be decrypted here" if sealed else "")
    says = f"{missing} values are missing or cannot be computed" if missing else none
    return Drawing("origins", "Where the values of each stage come from", says, figure)


def _bars(axes: Axes, names: Sequence[str], lengths: Sequence[float], words: Sequence[str]) -> None:
    axes.barh(range(len(names)), lengths, color=ACCENT, height=0.62)
    for number, (length, text) in enumerate(zip(lengths, words, strict=True)):
        axes.annotate(text, (length, number), (3, 0), textcoords="offset points", va="center", fontsize=9)
    axes.set_xlim(0, max(lengths) * 1.14)
    _named_rows(axes, names)
    axes.xaxis.set_visible(False)
    axes.spines["bottom"].set_visible(False)


def _named_rows(axes: Axes, names: Sequence[str]) -> None:
    axes.set_yticks(range(len(names)), [_cut(name, 34) for name in names])
    axes.invert_yaxis()
    axes.tick_params(length=0)
    axes.spines["left"].set_visible(False)


def _matrix(contents: ReportContents, order: StageOrder) -> Drawing | None:
    """The distances of all pairs, and the tree of what is near."""
    if order.merges is None:
        return None
    names, known = order.names, by_pair(contents.distances)
    side = min(max(0.5 * len(names), 2.6), 8.5)
    figure = new_figure(min(side * 1.55 + 1.6, 12), side + 0.7)
    grid = figure.add_gridspec(1, 2, width_ratios=(3, 1))
    axes, tree = figure.add_subplot(grid[0]), figure.add_subplot(grid[1])
    if len(names) <= _MOST_NAMED:
        _cells(axes, names, known)
    else:
        from numpy import array

        axes.imshow(
            array([[known.get((one, other), 0.0) for other in names] for one in names]),
            cmap="Blues",
            vmin=0,
            vmax=1,
            aspect="auto",
        )
    axes.set_xticks(range(len(names)), names, rotation=90 if len(names) > 6 else 0)
    axes.set_yticks(range(len(names)), names)
    axes.set_xlim(-0.5, len(names) - 0.5)
    axes.set_ylim(len(names) - 0.5, -0.5)
    axes.set_xlabel("% of variables that differ", color=FAINT, fontsize=8.5)
    axes.tick_params(length=0)
    for edge in axes.spines.values():
        edge.set_visible(False)
    _tree(tree, order.merges, names, axes.get_ylim())
    pairs = sorted((pair.distance, pair.left, pair.right) for pair in contents.distances if pair.distance is not None)
    says = "nothing can be compared"
    if pairs:
        (low, *near), (high, *far) = pairs[0], pairs[-1]
        says = f"{' and '.join(near)} are nearest, {_share(low)} apart"
        says += f"; {' and '.join(far)} are farthest, {_share(high)} apart" if len(pairs) > 1 else ""
    return Drawing("distances", "How far apart stages are", says, figure)


def _cells(axes: Axes, names: Sequence[str], known: object) -> None:
    from matplotlib.patches import Rectangle

    assert isinstance(known, dict)
    size = 9 if len(names) <= 12 else 6.5
    for row, one in enumerate(names):
        for column, other in enumerate(names):
            distance = 0.0 if one == other else known.get((one, other))
            shade = (distance or 0.0) * _STRONGEST
            axes.add_patch(
                Rectangle((column - 0.48, row - 0.46), 0.96, 0.92, facecolor=ACCENT, alpha=shade, linewidth=0)
            )
            words = "?" if distance is None else "" if one == other else f"{distance * 100:.0f}"
            axes.text(column, row, words, ha="center", va="center", fontsize=size)


def _tree(axes: Axes, merges: ndarray, names: Sequence[str], limits: tuple[float, float]) -> None:
    from scipy.cluster.hierarchy import dendrogram

    drawn = dendrogram(merges, no_plot=True)
    deepest = max(max(item) for item in drawn["dcoord"]) or 1.0
    for heights, depths in zip(drawn["icoord"], drawn["dcoord"], strict=True):
        axes.plot(depths, [(height - 5) / 10 for height in heights], color=INK, linewidth=1.2)
    axes.set_ylim(*limits)
    axes.set_xlim(0, deepest * 1.08)
    axes.yaxis.set_visible(False)
    axes.set_xlabel("distance", color=FAINT, fontsize=8.5)
    axes.tick_params(labelsize=8, length=2)
    for edge in ("left", "top", "right"):
        axes.spines[edge].set_visible(False)
    del names


def _share(distance: float) -> str:
    return f"{distance * 100:.0f}%"


def _apart(contents: ReportContents) -> Drawing | None:
    top = list(contents.apartness.items())[:_MOST_APART]
    if not top:
        return None
    figure = new_figure(_WIDTH * 0.62, 0.7 + 0.26 * len(top))
    axes = figure.add_subplot()
    pairs = len(contents.distances)
    _bars(axes, [name for name, _ in top], [weight for _, weight in top], [f"{weight:.3g}" for _, weight in top])
    rest = len(contents.apartness) - len(top)
    says = f"pairs of stages, of {pairs}, in which a variable differs; a secret counts a quarter"
    return Drawing(
        "apart", "Which variables make the distance", says + (f"; {rest} more differ" if rest else ""), figure
    )


def _past(contents: ReportContents) -> Drawing | None:
    pairs = list(dict.fromkeys(pair for past in contents.past for pair in past.distances))
    if not pairs or len(contents.past) < 2:
        return None
    figure = new_figure(_WIDTH, 3.4)
    axes = figure.add_subplot()
    ends: dict[tuple[str, str], tuple[float, float]] = {}
    for number, pair in enumerate(pairs):
        points = [(at, past.distances[pair] * 100) for at, past in enumerate(contents.past) if pair in past.distances]
        colour = SERIES[number % len(SERIES)]
        axes.plot(
            [at for at, _ in points], [y for _, y in points], color=colour, marker="o", markersize=4, linewidth=1.6
        )
        ends[pair] = points[-1]
    heights = _spread_out({pair: end[1] for pair, end in ends.items()}, max(axes.get_ylim()[1], 1) * _LABEL_HEIGHT)
    for number, (pair, (at, _)) in enumerate(ends.items()):
        words = f"{pair[0]} – {pair[1]}"
        place, offset = (at, heights[pair]), (7, 0)
        colour = SERIES[number % len(SERIES)]
        axes.annotate(words, place, offset, textcoords="offset points", color=colour, va="center", fontsize=9)
    step = max(1, len(contents.past) // 8)
    labels = [f"{past.when:%Y-%m-%d}\n{past.revision}" for past in contents.past]
    axes.set_xticks(range(0, len(labels), step), labels[::step], fontsize=8)
    axes.set_xlim(-0.2, (len(labels) - 1) * 1.22 + 0.2)
    axes.set_ylim(0, None)
    axes.set_ylabel("% of variables differ", color=FAINT, fontsize=9)
    axes.grid(axis="y", color=LINE, linewidth=0.6)
    first, last = contents.past[0], contents.past[-1]
    pair = next((pair for pair in pairs if pair in first.distances and pair in last.distances), pairs[0])
    before, after = first.distances.get(pair), last.distances.get(pair)
    says = f"{len(contents.past)} revisions"
    if before is not None and after is not None:
        says += f"; {pair[0]} and {pair[1]} were {_share(before)} apart first, and are {_share(after)} now"
    return Drawing("history", "The distance over time", says, figure)


_LABEL_HEIGHT = 0.062
"""Of a line's name, as a share of the axis."""


def _spread_out(heights: dict[tuple[str, str], float], least: float) -> dict[tuple[str, str], float]:
    """Return heights near the given ones, in the same order, so far apart that names do not overlap."""
    result: dict[tuple[str, str], float] = {}
    below = -least
    for pair, height in sorted(heights.items(), key=lambda item: item[1]):
        below = result[pair] = max(height, below + least)
    return result


_OUTCOMES = {"done": (GOOD, "o"), "failed": (BAD, "X"), "interrupted": (WARN, "^"), "running": (ACCENT, "D")}


def _deliveries(contents: ReportContents) -> Drawing | None:
    if not contents.deliveries:
        return None
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter

    rows = list(dict.fromkeys(f"{row.destination}, {row.stage}" for row in contents.deliveries))
    figure = new_figure(_WIDTH, 1.5 + 0.28 * len(rows))
    axes = figure.add_subplot()
    for state, (colour, marker) in _OUTCOMES.items():
        found = [row for row in contents.deliveries if row.state == state]
        if found:
            axes.scatter(
                [row.started.replace(tzinfo=UTC) for row in found],  # type: ignore[arg-type] # dates are points, too
                [rows.index(f"{row.destination}, {row.stage}") for row in found],
                color=colour,
                marker=marker,
                s=[24 + min(row.changes, 40) * 2 for row in found],
                label=state,
                zorder=2,
            )
    _named_rows(axes, [visible(row) for row in rows])
    axes.grid(axis="x", color=LINE, linewidth=0.6)
    if len({row.state for row in contents.deliveries}) > 1:
        axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.14), ncols=4, frameon=False, fontsize=8.5)
    axes.tick_params(axis="x", labelsize=8)
    locator = AutoDateLocator()  # type: ignore[no-untyped-call] # Matplotlib's dates have no types
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator))  # type: ignore[no-untyped-call] # as above
    failed = sum(row.state != "done" for row in contents.deliveries)
    outcome = f"{failed} of them not done" if failed else "all done"
    says = f"{len(contents.deliveries)} deliveries, {outcome} (UTC); a larger mark changed more"
    return Drawing("deliveries", "Deliveries over time", says, figure)


def _cut(text: str, most: int) -> str:
    text = visible(text)
    return text if len(text) <= most else text[: most - 1] + "…"
