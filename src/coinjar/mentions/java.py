"""Java."""

from __future__ import annotations

import tree_sitter_java
from tree_sitter import Node as Syntax

from coinjar.mentions import tree
from coinjar.mentions.base import PRESENCE
from coinjar.mentions.grown import Grower, reader
from coinjar.mentions.reading import How, Words

WORDS = Words(
    maps=frozenset({"System.getenv()"}),
    functions={"System.getenv": How()},
    methods={
        "get": How(),
        "getOrDefault": How(0, 1),
        "getOrElse": How(0, 1),
        "getValue": How(),
        "containsKey": How(how=PRESENCE),
    },
    same={"java.lang.System": "System"},
    conversions=frozenset(
        "Optional.ofNullable toInt toLong toBoolean toIntOrNull trim toString Integer.parseInt Long.parseLong Boolean.parseBoolean Integer.valueOf".split()
    ),
    fallbacks=frozenset({"orElse", "orElseGet", "Objects.requireNonNullElse", "ifBlank", "ifEmpty"}),
    child_maps=frozenset({"environment"}),
    lists=frozenset({"listOf", "arrayOf", "setOf", "List.of", "Set.of", "Arrays.asList"}),
)
"""Kotlin's words as well."""


class Java(Grower):
    """Grows the grammar's nodes."""

    root = rb"System|getenv|environment"
    words = WORDS

    _identifier = _this = Grower.name
    _decimal_integer_literal = _decimal_floating_point_literal = _true = _false = Grower.value
    _null_literal = Grower.nothing
    _parenthesized_expression = Grower.inside
    _ternary_expression = _if_statement = Grower.choice
    _binary_expression = Grower.binary
    _assignment_expression = Grower.assign
    _array_initializer = Grower.items
    _method_declaration = _constructor_declaration = Grower.function
    _class_declaration = _record_declaration = _interface_declaration = _enum_declaration = Grower.declared

    def _string_literal(self, node: Syntax) -> tree.Node:
        return self.text(node, ("string_fragment", "multiline_string_fragment", "escape_sequence"))

    def _field_access(self, node: Syntax) -> tree.Node:
        return self.member(node, "object", "field")

    def _method_invocation(self, node: Syntax) -> tree.Node:
        name, of = node.child_by_field_name("name"), node.child_by_field_name("object")
        function = tree.Member(self.grow(of), self.word(name)) if of else self.grow(name)
        arguments = node.child_by_field_name("arguments")
        return tree.Call(function, self.all(arguments.named_children) if arguments else [])

    def _cast_expression(self, node: Syntax) -> tree.Node:
        return self.field(node, "value")

    def _variable_declarator(self, node: Syntax) -> tree.Node:
        return tree.Assign(self.field(node, "name"), self.field(node, "value"))

    def _lambda_expression(self, node: Syntax) -> tree.Node:
        parameters = node.child_by_field_name("parameters")
        named = parameters.named_children if parameters and parameters.named_children else [parameters] if parameters else []
        return tree.Function("", [self.word(one) for one in named], self.field(node, "body"))

    def _enhanced_for_statement(self, node: Syntax) -> tree.Node:
        return tree.Loop(self.word(node.child_by_field_name("name")), self.field(node, "value"), self.field(node, "body"))

    def _import_declaration(self, node: Syntax) -> tree.Node:
        path = self.word(next((one for one in node.named_children if one.type in ("scoped_identifier", "identifier")), None))
        if any(one.type == "asterisk" for one in node.named_children):
            return tree.Import("*", path.removeprefix("java.lang."))
        return tree.Import(path.rpartition(".")[2], path)


find = reader(tree_sitter_java.language, Java)
