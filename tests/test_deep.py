"""Clusters of references far beyond what anybody writes end in an error, whatever is asked."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from tests.conftest import Coinjar

SHAPES: dict[str, Callable[[int, int], list[int]]] = {
    "chain": lambda number, count: [number + 1] if number + 1 < count else [],
    "circle": lambda number, count: [(number + 1) % count],
    "net": lambda number, count: [other for other in (number + 1, number + 2, number + 7) if other < count],
    "knot": lambda number, count: [(number + step) % count for step in (1, 2, 3)],
}


@pytest.mark.parametrize("count", [59, 200, 1200])
@pytest.mark.parametrize("shape", SHAPES)
def test_a_cluster_of_references(shape: str, count: int, jar: Callable[..., Coinjar]) -> None:
    lines = "".join(
        (
            f"  V{number}: {{default: {{text: "
            f"'x{''.join(f'${{V{other}}}' for other in SHAPES[shape](number, count))}'}}}}\n"
        )
        for number in range(count)
    )
    cj = jar(f"services: {{web: {{}}}}\nstages: {{dev: {{}}}}\nvariables:\n{lines}")
    works = shape == "chain" and count < 60
    for _ in range(2):
        done = cj("value", "dev", "V0", code=None)
        assert done.code == (0 if works else 3), done
        shown = cj("why", "dev", "V0", code=None)
        assert shown.code in (0, 3)
        assert "V0" in shown.out + shown.err
    assert cj("render", "dev", "--service", "web", "--as", "json", code=None).code == (0 if works else 3)
