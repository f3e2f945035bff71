"""Pipeline documents: scripts, read as a shell does, and expressions that are replaced before a shell runs.

No service's format is assumed: a pipeline has jobs, steps or stages, scripts under their common names, and expressions
in `${{ }}` or `[= =]`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.documents.tree import TreeNode
from coinjar.mentions import shell
from coinjar.mentions.base import MISPLACED, READ, SET, ComputedName, Mention
from coinjar.mentions.dollars import references
from coinjar.mentions.expressions import EXPRESSIONS, inside, masked, members
from coinjar.mentions.yaml_nodes import NAME, YamlText, walk

_SCRIPTS = frozenset({"run", "script", "do", "command", "commands", "before_script", "after_script", "bash", "sh"})
_ENVIRONMENTS = frozenset({"env", "environment", "variables"})
_CONDITIONS = frozenset({"if", "when", "condition"})


def is_pipeline(root: TreeNode) -> bool:
    """Return whether a document is a pipeline: it has jobs, steps or stages, and a script somewhere."""
    named = any(root.child(key) is not None for key in ("jobs", "steps", "stages", "pipeline"))
    scripted = any(member.value.kind == "map" and member.value.child("script") is not None for member in root.members)
    return scripted or (named and any(visited.path and visited.path[-1] in _SCRIPTS for visited in walk(root)))


def mentions(text: YamlText, root: TreeNode) -> Iterator[Mention | ComputedName]:
    """Yield the mentions of a pipeline."""
    has_expressions = EXPRESSIONS.search(text.data) is not None
    for path, node in walk(root):
        last = path[-1] if path else ""
        if last in _ENVIRONMENTS:
            yield from _environment(text, node)
        if node.kind == "scalar":
            start, end = text.inside(node)
            for match in EXPRESSIONS.finditer(text.data, start, end):
                yield from inside(text.data, match)
            if last in _CONDITIONS and not EXPRESSIONS.search(text.data, start, end):
                yield from members(text.data, start, end)
            if last not in _SCRIPTS and (not _below_environment(path) or "variables" in path):
                yield from _elsewhere(text.data, start, end, misplaced=has_expressions)
        if last in _SCRIPTS and (
            node.kind == "scalar" or (node.kind == "seq" and all(child.kind == "scalar" for child in node.elements))
        ):
            parts = [text.inside(child) for child in ([node] if node.kind == "scalar" else node.elements)]
            if not (node.kind == "scalar" and _within_list(root, path, node)):
                script = shell.find_in(masked(text.data), parts)
                yield from script.mentions
                yield from script.unknown


def _within_list(root: TreeNode, path: tuple[str, ...], node: TreeNode) -> bool:
    """Return whether a script's line is part of a list, which is read as a whole."""
    return any(
        visited.path == path and visited.node.kind == "seq" and any(child is node for child in visited.node.elements)
        for visited in walk(root)
    )


def _below_environment(path: tuple[str, ...]) -> bool:
    return any(step in _ENVIRONMENTS for step in path)


def _environment(text: YamlText, node: TreeNode) -> Iterator[Mention]:
    yield from (text.mention(member.key, SET) for member in node.members if re.fullmatch(r"[A-Za-z_]\w*", member.name))
    for child in node.elements:
        named = child.child("name") if child.kind == "map" else None
        if named is not None and child.child("value") is not None:
            yield text.mention(named, SET)


def _elsewhere(data: bytes, start: int, end: int, *, misplaced: bool) -> Iterator[Mention]:
    """Yield `$NAME` outside scripts: some services expand it themselves; one that has expressions does not."""
    for mention in references(masked(data), start, end):
        if NAME.fullmatch(mention.name):
            yield mention._replace(way=MISPLACED) if misplaced else mention._replace(access=READ)
