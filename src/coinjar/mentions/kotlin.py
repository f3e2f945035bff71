"""Kotlin."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import tree_sitter_kotlin
from tree_sitter import Node as Syntax

from coinjar.mentions import tree
from coinjar.mentions.converter import SyntaxConverter, reader
from coinjar.mentions.java import WORDS


class KotlinConverter(SyntaxConverter):
    """Converts the grammar's nodes."""

    root = rb"System|getenv|environment|environmentVariable|\w*[eE]nv(?:ironment)?Var(?:iable)?s"
    falls_back = frozenset({"?:"})
    words = WORDS
    _object: tree.Node | None = None

    _number_literal = SyntaxConverter.value
    _parenthesized_expression = SyntaxConverter.inside
    _binary_expression = SyntaxConverter.binary
    _assignment = SyntaxConverter.assign
    _value_argument = SyntaxConverter.inside

    def _unary_expression(self, node: Syntax) -> tree.Node:
        """Convert what a sign stands before; the grammar makes it a part of the first name (`!System.getenv()`)."""
        return self.field(node, "argument")

    def _infix_expression(self, node: Syntax) -> tree.Node:
        """Convert `key to value`, whose sides are needed although no word of the environment is in them."""
        return tree.Node(self.all(node.named_children))

    def _identifier(self, node: Syntax) -> tree.Node:
        word = self.word(node)
        return (
            tree.ConstantNode(None if word == "null" else word)
            if word in ("null", "true", "false")
            else self.name(node)
        )

    def _string_literal(self, node: Syntax) -> tree.Node:
        if any(self.word(child) == "$" for child in node.named_children):
            return tree.Node(self.each(node.named_children))
        return self.text(node, ("string_content", "escape_sequence"))

    _multiline_string_literal = _string_literal

    def _navigation_expression(self, node: Syntax) -> tree.Node:
        of, *_, last = node.named_children
        return tree.MemberNode(self.convert(of), self.word(last), last.start_byte, last.end_byte)

    def _index_expression(self, node: Syntax) -> tree.Node:
        of, key, *_ = node.named_children
        return tree.IndexNode(self.convert(of), self.convert(key))

    def _call_expression(self, node: Syntax) -> tree.Node:
        function, *rest = node.named_children
        given, named = list[tree.Node](), dict[str, tree.Node]()
        outer = self._object
        if function.type == "navigation_expression" and self.word(function.named_children[-1]) in ("apply", "run"):
            self._object = self.convert(function.named_children[0])  # what bare calls in the block are of
        for child in rest:
            inner, names = self.arguments(child.named_children if child.type == "value_arguments" else [child])
            given += inner
            named |= names
        self._object = outer
        if function.type == "call_expression" and rest and rest[-1].type == "annotated_lambda":
            called = self._call_expression(function)  # a lambda after the parentheses is one more argument
            if isinstance(called, tree.CallNode):
                return tree.CallNode(called.function, [*called.arguments, *given], called.named)
        if self.word(function) == "environment" and given:
            return _settings_of_a_task(given)
        if self._object is not None and self.word(function) in ("put", "set", "remove", "putAll", "putIfAbsent"):
            return tree.CallNode(tree.MemberNode(self._object, self.word(function)), given, named)
        return tree.CallNode(self.convert(function), given, named)

    def argument_name(self, node: Syntax) -> Syntax | None:
        is_named = node.type == "value_argument" and any(child.type == "=" for child in node.children)
        return node.named_children[0] if is_named else None

    _annotated_lambda = SyntaxConverter.inside

    def _lambda_literal(self, node: Syntax) -> tree.Node:
        parameters = next((child for child in node.named_children if child.type == "lambda_parameters"), None)
        body = [child for child in node.named_children if child.type != "lambda_parameters"]
        names = [self.word(child) for child in parameters.named_children] if parameters else []
        return tree.FunctionNode("", names, self.convert(body[0]) if len(body) == 1 else tree.Node(self.each(body)))

    def _in_expression(self, node: Syntax) -> tree.Node:
        return tree.ContainsNode(self.field(node, "left"), self.field(node, "right"))

    def _if_expression(self, node: Syntax) -> tree.Node:
        test, *rest = [child for child in node.named_children if "comment" not in child.type]
        grown = [self.convert(node) for node in rest]
        return tree.ConditionalNode(
            self.convert(test), grown[0] if grown else tree.Node(), grown[1] if len(grown) > 1 else tree.Node()
        )

    def _property_declaration(self, node: Syntax) -> tree.Node:
        name = next((child for child in node.named_children if child.type == "variable_declaration"), None)
        value = node.named_children[-1]
        if name is None or value == name:
            return self.any(node)
        return tree.AssignmentNode(
            tree.NameNode(self.word(name.named_children[0] if name.named_children else name)), self.convert(value)
        )

    def _function_declaration(self, node: Syntax) -> tree.Node:
        parameters = next((child for child in node.named_children if child.type == "function_value_parameters"), None)
        body = next((child for child in node.named_children if child.type == "function_body"), None)
        names = (
            [self.word(child.named_children[0]) for child in parameters.named_children if child.type == "parameter"]
            if parameters
            else []
        )
        function = tree.FunctionNode(self.word(node.child_by_field_name("name")), names, self.convert(body))
        parts = parameters.named_children if parameters else []
        for part, after in pairwise(parts):
            if part.type == "parameter" and after.type != "parameter":
                function.given[self.word(part.named_children[0])] = self.convert(after)
        return function

    def _class_parameter(self, node: Syntax) -> tree.Node:
        """Convert a property of the constructor: what it is unless a caller says otherwise."""
        name = next((child for child in node.named_children if child.type == "identifier"), None)
        last = node.named_children[-1]
        has_default = any(child.type == "=" for child in node.children)
        return tree.AssignmentNode(self.name(name), self.convert(last)) if name and has_default else tree.Node()

    def _for_statement(self, node: Syntax) -> tree.Node:
        name, over, *body = node.named_children
        return tree.LoopNode(self.word(name), self.convert(over), tree.Node(self.each(body)))

    def _import(self, node: Syntax) -> tree.Node:
        path, *alias = [self.word(child) for child in node.named_children]
        return tree.ImportNode(alias[0] if alias else path.rpartition(".")[2], path)

    def _class_declaration(self, node: Syntax) -> tree.Node:
        name = self.word(node.child_by_field_name("name"))
        return tree.DeclarationNode(name, [*self._listed_properties(node), *self.each(node.named_children)])

    def _listed_properties(self, node: Syntax) -> list[tree.Node]:
        """Return the properties of an enumeration's constructor: each is what one of the entries gives it."""
        below = [child for part in node.named_children for child in (part, *part.named_children)]
        entries = [child.named_children[-1].named_children for child in below if child.type == "enum_entry"]
        parameters = next((child.named_children for child in below if child.type == "class_parameters"), [])
        result: list[tree.Node] = []
        for place, parameter in enumerate(parameters if entries else ()):
            name = next((child for child in parameter.named_children if child.type == "identifier"), None)
            listed = self.all([given[place] for given in entries if len(given) > place])
            result.append(tree.LoopNode(self.word(name), tree.ListNode(listed), tree.Node()))
        return result

    _object_declaration = _class_declaration


def _settings_of_a_task(given: Sequence[tree.Node]) -> tree.Node:
    """Return what `environment("A", "1")` and `environment("A" to "1", ...)` of a build's task set."""
    of = tree.CallNode(tree.NameNode("environment"), [])
    pairs = [pair.inner for pair in given if type(pair) is tree.Node and len(pair.inner) > 1]
    return tree.Node([tree.CallNode(tree.MemberNode(of, "put"), pair) for pair in pairs or [given]])


find = reader(tree_sitter_kotlin.language, KotlinConverter)
