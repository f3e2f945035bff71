"""Java."""

from __future__ import annotations

import re

import tree_sitter_java
from tree_sitter import Node as Syntax

from coinjar.mentions import tree
from coinjar.mentions.base import PRESENCE
from coinjar.mentions.converter import SyntaxConverter, reader
from coinjar.mentions.language_terms import AccessPattern, LanguageTerms

WORDS = LanguageTerms(
    maps=frozenset({"System.getenv()"}),
    functions={"System.getenv": AccessPattern(), "providers.environmentVariable": AccessPattern()},
    methods={
        "get": AccessPattern(),
        "getOrDefault": AccessPattern(0, 1),
        "getOrElse": AccessPattern(0, 1),
        "getValue": AccessPattern(),
        "containsKey": AccessPattern(access=PRESENCE),
    },
    calls_apart=True,
    methods_wrap=True,
    named_maps=re.compile(r"(?i)\w*env(?:ironment)?_?var(?:iable)?s"),
    same={
        "java.lang.System": "System",
        "java.util.Objects": "Objects",
        "java.util.Optional": "Optional",
        "java.time.Duration": "Duration",
        "java.nio.file.Path": "Path",
        "java.nio.file.Paths": "Paths",
        "java.net.URI": "URI",
    },
    copies=frozenset({"toMutableMap", "toMap", "toSortedMap", "Map.copyOf", "Collections.unmodifiableMap"}),
    conversions=frozenset(
        "Optional.ofNullable toInt toLong toBoolean toIntOrNull trim toString Integer.parseInt Long.parseLong "
        "Boolean.parseBoolean Integer.valueOf Long.valueOf Double.parseDouble Duration.parse Path.of Paths.get "
        "URI.create".split()
    ),
    fallbacks=frozenset({"orElse", "orElseGet", "Objects.requireNonNullElse", "ifBlank", "ifEmpty"}),
    asking=frozenset({"isEmpty", "isBlank", "isNullOrEmpty", "isNullOrBlank"}),
    child_maps=frozenset({"environment"}),
    child_pairs=frozenset({"exec"}),
    lists=frozenset({"listOf", "arrayOf", "setOf", "List.of", "Set.of", "Stream.of", "Arrays.asList"}),
)
"""Kotlin's terms as well."""


class JavaConverter(SyntaxConverter):
    """Converts the grammar's nodes."""

    root = rb"System|getenv|environment|getRuntime|\w*[eE]nv(?:ironment)?Var(?:iable)?s"

    def _array_creation_expression(self, node: Syntax) -> tree.Node:
        return self.field(node, "value")

    def _method_reference(self, node: Syntax) -> tree.Node:
        """Convert `System::getenv` to the function's path."""
        of, *_, last = node.named_children
        return tree.MemberNode(self.convert(of), self.word(last), last.start_byte, last.end_byte)

    words = WORDS

    _identifier = _this = SyntaxConverter.name
    _decimal_integer_literal = _decimal_floating_point_literal = _true = _false = SyntaxConverter.value
    _null_literal = SyntaxConverter.nothing
    _parenthesized_expression = SyntaxConverter.inside
    _ternary_expression = _if_statement = SyntaxConverter.choice
    _binary_expression = SyntaxConverter.binary
    _assignment_expression = SyntaxConverter.assign
    _array_initializer = SyntaxConverter.items
    _method_declaration = _constructor_declaration = SyntaxConverter.function
    _class_declaration = _record_declaration = _interface_declaration = SyntaxConverter.declared

    def _enum_declaration(self, node: Syntax) -> tree.Node:
        """Convert an enumeration: what its constants give the constructor is what the fields can be."""
        body = node.child_by_field_name("body")
        below = [child for part in body.named_children for child in (part, *part.named_children)] if body else []
        given = [child.child_by_field_name("arguments") for child in below if child.type == "enum_constant"]
        constructor = next((child for child in below if child.type == "constructor_declaration"), None)
        parameters = constructor.child_by_field_name("parameters") if constructor else None
        loops = []
        for place, parameter in enumerate(parameters.named_children if parameters else ()):
            name = self.word(parameter.child_by_field_name("name"))
            fields = re.findall(rf"\bthis\.(\w+)\s*=\s*{name}\s*;", self.word(constructor))
            listed = [
                self.convert(each.named_children[place]) for each in given if each and len(each.named_children) > place
            ]
            loops += [tree.LoopNode(field, tree.ListNode(listed), tree.Node()) for field in fields]
        return tree.DeclarationNode(self.word(node.child_by_field_name("name")), [*loops, self.convert(body)])

    def _string_literal(self, node: Syntax) -> tree.Node:
        return self.text(node, ("string_fragment", "multiline_string_fragment", "escape_sequence"))

    def _field_access(self, node: Syntax) -> tree.Node:
        return self.member(node, "object", "field")

    def _method_invocation(self, node: Syntax) -> tree.Node:
        name, of = node.child_by_field_name("name"), node.child_by_field_name("object")
        function = tree.MemberNode(self.convert(of), self.word(name)) if of else self.convert(name)
        arguments = node.child_by_field_name("arguments")
        return tree.CallNode(function, self.all(arguments.named_children) if arguments else [])

    def _cast_expression(self, node: Syntax) -> tree.Node:
        return self.field(node, "value")

    def _variable_declarator(self, node: Syntax) -> tree.Node:
        value = node.child_by_field_name("value")
        return tree.AssignmentNode(self.field(node, "name"), self.convert(value)) if value else tree.Node()

    def _lambda_expression(self, node: Syntax) -> tree.Node:
        parameters = node.child_by_field_name("parameters")
        named = (
            parameters.named_children
            if parameters and parameters.named_children
            else [parameters]
            if parameters
            else []
        )
        return tree.FunctionNode("", [self.word(node) for node in named], self.field(node, "body"))

    def _enhanced_for_statement(self, node: Syntax) -> tree.Node:
        return tree.LoopNode(
            self.word(node.child_by_field_name("name")), self.field(node, "value"), self.field(node, "body")
        )

    def _import_declaration(self, node: Syntax) -> tree.Node:
        path = self.word(
            next((child for child in node.named_children if child.type in ("scoped_identifier", "identifier")), None)
        )
        if any(child.type == "asterisk" for child in node.named_children):
            return tree.ImportNode("*", path.removeprefix("java.lang."))
        return tree.ImportNode(path.rpartition(".")[2], path)


find = reader(tree_sitter_java.language, JavaConverter)
