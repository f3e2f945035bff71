"""Pipeline documents: scripts, read as a shell does, and expressions that are replaced before a shell runs.

No service's format is assumed: a pipeline has jobs, steps or stages, scripts under their common names, and expressions
in `${{ }}` or `[= =]`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.documents.tree import TreeNode
from coinjar.mentions import powershell, shell
from coinjar.mentions.base import MISPLACED, READ, SET, ComputedName, Mention
from coinjar.mentions.dollars import references
from coinjar.mentions.expressions import EXPRESSIONS, inside, masked, members
from coinjar.mentions.powershell import looks_like_powershell
from coinjar.mentions.yaml_nodes import NAME, YamlText, walk

_SCRIPTS = frozenset({"run", "script", "do", "command", "commands", "before_script", "after_script", "bash", "sh"})
_SCRIPTS |= frozenset({"install", "before_install", "after_success", "after_failure", "before_deploy", "inlineScript"})
_SCRIPTS |= frozenset({"build_script", "test_script", "deploy_script", "inline_script", "powershell", "pwsh", "ps"})
_SECTIONS = frozenset({"before_build", "build_script", "after_build", "before_test", "test_script", "after_test"})
_SECTIONS |= frozenset({"before_script", "before_install", "deploy_script", "on_success", "on_failure", "on_finish"})
"""Parts of a pipeline with one job: each a list of commands."""
_SCRIPTS |= _SECTIONS | {"init"}
_OTHER_SHELLS = ("powershell", "pwsh", "ps")
_BELOW_ENVIRONMENTS = frozenset({"global", "matrix", "jobs"})
"""Lists of an environment: for all jobs, and for one each."""
_OF_AN_ITEM = frozenset({"name", "value", "group", "template", "readonly", "secure"})
"""Keys of a list's item that describe a variable instead of being one."""
_OF_A_PLACE = frozenset({"url", "on_stop", "action", "auto_stop_in", "deployment_tier"})
"""Keys of an environment with a name: the place to which a job delivers, not variables that it sees."""
_TEXT = re.compile(r"""(?:^|(?<=\s))([A-Za-z_]\w*)=""")
_ENVIRONMENTS = frozenset({"env", "environment", "variables"})
_CONDITIONS = frozenset({"if", "when", "condition"})


def is_pipeline(root: TreeNode) -> bool:
    """Return whether a document is a pipeline: it has jobs, steps or stages, and a script somewhere."""
    named = any(root.child(key) is not None for key in ("jobs", "steps", "stages", "pipeline"))
    scripted = any(
        member.name == "script"
        or member.name in _SECTIONS
        or (member.value.kind == "map" and member.value.child("script") is not None)
        for member in root.members
    )
    return scripted or (named and any(visited.path and visited.path[-1] in _SCRIPTS for visited in walk(root)))


def mentions(text: YamlText, root: TreeNode) -> Iterator[Mention | ComputedName]:
    """Yield the mentions of a pipeline."""
    has_expressions = EXPRESSIONS.search(text.data) is not None
    other_shells = {id(script) for _, node in walk(root) for script in _in_another_shell(node)}
    for path, node in walk(root):
        last = path[-1] if path else ""
        if last in _ENVIRONMENTS or (last in _BELOW_ENVIRONMENTS and path[-2:-1] and path[-2] in _ENVIRONMENTS):
            yield from _environment(text, node)
        if node.kind == "scalar":
            start, end = text.inside(node)
            for match in EXPRESSIONS.finditer(text.data, start, end):
                yield from inside(text.data, match)
            if last in _CONDITIONS and not EXPRESSIONS.search(text.data, start, end):
                yield from members(text.data, start, end)
            if last not in _SCRIPTS and (not _below_environment(path) or "variables" in path):
                yield from _elsewhere(text.data, start, end, misplaced=has_expressions)
        if last in _SCRIPTS and not (node.kind == "scalar" and _within_list(root, path, node)):
            yield from _script(text, node, is_other=last in _OTHER_SHELLS or id(node) in other_shells)


def _script(text: YamlText, node: TreeNode, *, is_other: bool) -> Iterator[Mention | ComputedName]:
    """Yield the mentions of a script: one text, or a list of lines."""
    lines = [node] if node.kind == "scalar" else [child for child in node.elements if child.kind == "scalar"]
    parts = [text.inside(child) for child in lines]
    if is_other or any(looks_like_powershell(text.data, *part) for part in parts):
        for part in parts:
            yield from powershell.find_in(masked(text.data), *part)
    else:
        script = shell.find_in(masked(text.data), parts)
        yield from script.mentions
        yield from script.unknown


def _within_list(root: TreeNode, path: tuple[str, ...], node: TreeNode) -> bool:
    """Return whether a script's line is part of a list, which is read as a whole."""
    return any(
        visited.path == path and visited.node.kind == "seq" and any(child is node for child in visited.node.elements)
        for visited in walk(root)
    )


def _in_another_shell(node: TreeNode) -> Iterator[TreeNode]:
    """Yield the script of a step that names PowerShell as its shell."""
    named, script = node.child("shell"), node.child("run")
    if script is not None and named is not None and named.kind == "scalar" and named.text.startswith(_OTHER_SHELLS):
        yield script


def _below_environment(path: tuple[str, ...]) -> bool:
    return any(step in _ENVIRONMENTS for step in path)


def _environment(text: YamlText, node: TreeNode) -> Iterator[Mention]:
    """Yield what a map, a list of names and values, or texts `NAME=value` set."""
    others = _OF_AN_ITEM | _BELOW_ENVIRONMENTS | (_OF_A_PLACE if node.child("name") is not None else set())
    yield from (
        text.mention(member.key, SET)
        for member in node.members
        if re.fullmatch(r"[A-Za-z_]\w*", member.name) and member.name not in others
    )
    for child in [node, *node.elements]:
        named = child.child("name") if child.kind == "map" and child is not node else None
        if named is not None and child.child("value") is not None:
            yield text.mention(named, SET)
        if child.kind == "scalar":
            start = text.inside(child)[0]
            for match in _TEXT.finditer(child.text):
                at = start + len(child.text[: match.start(1)].encode())
                yield Mention(match[1], at, at + len(match[1]), SET)


def _elsewhere(data: bytes, start: int, end: int, *, misplaced: bool) -> Iterator[Mention]:
    """Yield `$NAME` outside scripts: some services expand it themselves; one that has expressions does not."""
    for mention in references(masked(data), start, end):
        if NAME.fullmatch(mention.name):
            yield mention._replace(way=MISPLACED) if misplaced else mention._replace(access=READ)
