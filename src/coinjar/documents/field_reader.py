"""Read a YAML node's fields and collect every fault with its location, so that all faults of a file are reported at
once.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from coinjar.core.errors import CoinJarError, InputError
from coinjar.core.names import suggestion
from coinjar.documents.yamltext import is_null, location

NULL_HINT = 'write "" for an empty text, "null" for the word, or {unset: true} to unset it here and inherit nothing'


class FieldReader:
    """Reads the nodes of one file."""

    def __init__(self, file: str) -> None:
        self.file = file
        self.faults: list[CoinJarError] = []

    def fault(self, node: Node, message: str, hint: str, code: str = "jar", *, subject: str = "") -> None:
        self.faults.append(
            InputError(message, hint=hint, location=location(node, self.file), code=code, subject=subject)
        )

    def members(self, node: Node, what: str) -> Iterator[tuple[str, ScalarNode, Node]]:
        """Return the members of a mapping: name, key node, value node. A duplicate name is a fault."""
        if not isinstance(node, MappingNode):
            self.fault(node, f"{what} must be a mapping (name: value)", "write one name per line, each with a colon")
            return
        lines: dict[str, int] = {}
        for key, value in node.value:
            if not isinstance(key, ScalarNode):
                self.fault(key, f"a name in {what} is not a text", "write a plain name before the colon")
                continue
            if key.value in lines:
                self.fault(
                    key,
                    f"'{key.value}' is given twice in {what}",
                    f"it is also in line {lines[key.value]}: keep one",
                    "duplicate",
                )
                continue
            lines[key.value] = key.start_mark.line + 1
            yield key.value, key, value

    def fields(self, node: Node, what: str, allowed: Sequence[str]) -> dict[str, Node]:
        """Return the members of a mapping with fixed names; an unknown name is a fault with a suggestion."""
        result = {}
        for name, key, value in self.members(node, what):
            if name in allowed:
                result[name] = value
            else:
                self.fault(
                    key,
                    f"unknown key '{name}' in {what}",
                    suggestion(name, allowed, f"the keys are {', '.join(allowed)}"),
                    "unknown-key",
                )
        return result

    def text(self, node: Node | None, what: str, default: str = "") -> str:
        """A scalar's characters."""
        if node is None:
            return default
        if not isinstance(node, ScalarNode):
            self.fault(node, f"{what} must be a text", "write it after the colon, in quotes if necessary")
            return default
        if is_null(node):
            self.fault(node, f"{what} has no value", "write a text, or remove the line")
            return default
        return str(node.value)

    def flag(self, node: Node | None, what: str) -> bool:
        """Return `true` or `false`."""
        if node is None:
            return False
        if not isinstance(node, ScalarNode) or node.value not in ("true", "false"):
            self.fault(node, f"{what} must be true or false", "write one of the two")
            return False
        return bool(node.value == "true")

    def pattern(self, node: Node | None, what: str) -> str:
        """Return a regular expression."""
        text = self.text(node, what)
        from coinjar.core.patterns import check_pattern  # not needed for a jar without patterns

        try:
            check_pattern(text)
        except re.error as fault:
            assert node is not None, "no pattern"
            self.fault(
                node,
                f"{what} is not a valid pattern: {fault}",
                "write a regular expression such as [A-Z][A-Z0-9_]*",
                "pattern",
            )
            return ""
        return text

    def texts(self, node: Node | None, what: str) -> list[tuple[str, Node]]:
        """Return a list of scalars, each with its node."""
        if node is None:
            return []
        if not isinstance(node, SequenceNode):
            self.fault(node, f"{what} must be a list", "write [one, another]")
            return []
        result = []
        for item in node.value:
            before = len(self.faults)
            text = self.text(item, f"an element of {what}")
            if len(self.faults) == before:
                result.append((text, item))
        return result
