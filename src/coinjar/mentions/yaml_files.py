"""YAML and JSON files: Compose files, Kubernetes manifests, pipelines; in others placeholders, and maps that are called
an environment, such as values of manifests' templates: both are probable.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.documents.tree import TreeNode
from coinjar.mentions import compose, kubernetes, pipeline
from coinjar.mentions.base import SET, ComputedName, Mention, TextMentions, in_order
from coinjar.mentions.placeholders import placeholders
from coinjar.mentions.yaml_nodes import NAME, YamlText, walk


def find(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a file with any number of documents."""
    del helpers
    text = YamlText(data)
    found: list[Mention | ComputedName] = []
    others = False
    for root in text.trees():
        if compose.is_compose(root):
            found += compose.mentions(text, root)
        elif kubernetes.is_manifest(root):
            found += kubernetes.mentions(text, root)
        elif pipeline.is_pipeline(root):
            found += pipeline.mentions(text, root)
        else:
            found += _environments(text, root)
            others = True
    if others:
        found += placeholders(data)
    mentions = in_order(
        [computed for computed in found if isinstance(computed, Mention)],
        [computed for computed in found if isinstance(computed, ComputedName)],
    )
    return mentions._replace(unread=text.unread)


_ENVIRONMENT = re.compile(r"(?i)(?:extra|container|common|pod)?_?env(?:ironment)?(?:_?(?:vars?|variables))?|variables")


def _environments(text: YamlText, root: TreeNode) -> Iterator[Mention]:
    """Yield what maps and lists called an environment set."""
    for path, node in walk(root):
        if not path or not _ENVIRONMENT.fullmatch(path[-1]):
            continue
        keys = [member.key for member in node.members if member.value.kind == "scalar" and NAME.fullmatch(member.name)]
        names = [child.child("name") for child in node.elements if child.kind == "map"]
        keys += [name for name in names if name is not None and name.kind == "scalar" and NAME.fullmatch(name.text)]
        yield from (text.mention(key, SET)._replace(probable=path[-1]) for key in keys)
