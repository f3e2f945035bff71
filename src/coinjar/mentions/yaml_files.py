"""YAML and JSON files: Compose files, Kubernetes manifests, pipelines; other files contain no mentions."""

from __future__ import annotations

from coinjar.mentions import compose, kubernetes, pipeline
from coinjar.mentions.base import ComputedName, Mention, TextMentions, in_order
from coinjar.mentions.yaml_nodes import YamlText


def find(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a file with any number of documents."""
    del helpers
    text = YamlText(data)
    found: list[Mention | ComputedName] = []
    for root in text.trees():
        if compose.is_compose(root):
            found += compose.mentions(text, root)
        elif kubernetes.is_manifest(root):
            found += kubernetes.mentions(text, root)
        elif pipeline.is_pipeline(root):
            found += pipeline.mentions(text, root)
    mentions = in_order(
        [computed for computed in found if isinstance(computed, Mention)],
        [computed for computed in found if isinstance(computed, ComputedName)],
    )
    return mentions._replace(unread=text.unread)
