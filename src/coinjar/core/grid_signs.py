"""The signs of a grid's cells, and what they mean: the same in the terminal and in a report."""

from __future__ import annotations

SIGNS = {
    "own": "●",
    "inherited": "↑",
    "shared": "○",
    "default": "·",
    "mine": "◆",
    "missing": "‼",
    "fault": "‼",
    "sealed": "□",
    "varies": "*",
    "unset": "×",
    "none": "–",
    "not here": "",
}
"""By state (core/grid.py)."""
LEGEND = {
    "own": "● set here",
    "inherited": "↑ inherited from the stage it follows",
    "shared": "○ shared",
    "default": "· default",
    "mine": "◆ your own",
    "missing": "‼ missing",
    "sealed": "□ encrypted for others",
    "varies": "* differs by service",
    "unset": "× unset",
    "none": "– no value",
}
AGREEMENT = {"same": "=", "different": "≠", "single": "", "unknown": "?"}
"""By agreement of a row."""
