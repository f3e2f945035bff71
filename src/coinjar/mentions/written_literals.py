"""The text of a literal in code, which is what it falls back to."""

from __future__ import annotations

from coinjar.mentions import tree
from coinjar.mentions.language_terms import LanguageTerms
from coinjar.mentions.scopes import Scopes


def written(  # noqa: PLR0911 - a shape a line
    node: tree.Node | None, words: LanguageTerms, scopes: Scopes
) -> str | None:
    """Return the text of a literal, ignoring conversions; None if it is computed."""
    if isinstance(node, tree.StringNode | tree.ConstantNode):
        return node.text
    if isinstance(node, tree.FunctionNode):
        return written(node.body, words, scopes)
    if isinstance(node, tree.CallNode):
        function = node.function
        if isinstance(function, tree.MemberNode) and function.name in words.conversions and not node.arguments:
            return written(function.of, words, scopes)
        if scopes.path(function) in words.conversions and len(node.arguments) == 1:
            return written(node.arguments[0], words, scopes)
    if node is not None and type(node) is tree.Node and len(node.inner) == 1:
        return written(node.inner[0], words, scopes)
    if isinstance(node, tree.NameNode):
        texts = scopes.texts(node)
        if isinstance(constant := scopes.owner(node.text), tree.ConstantNode):
            return constant.text
        return texts[0].text if texts and len(texts) == 1 else None
    return None
