"""C#."""

from __future__ import annotations

import re

import tree_sitter_c_sharp
from tree_sitter import Node as Syntax

from coinjar.mentions import tree
from coinjar.mentions.base import PRESENCE, SET
from coinjar.mentions.converter import SyntaxConverter, reader
from coinjar.mentions.language_terms import AccessPattern, LanguageTerms

_VERBATIM = re.compile(rb"""(?:\$@|@\$)"(?:""|\{\{|\{(?:[^{}"]|"[^"]*")*\}|[^"])*+\"""")
"""A text with values in it and without escapes."""
_REFERENCE = re.compile(r"%([^%\s]+)%")


class CSharpConverter(SyntaxConverter):
    """Converts the grammar's nodes."""

    root = (
        rb"System|Environment|\w*EnvironmentVariables|_?[eE]nvVars|GetEnvironmentVariable|SetEnvironmentVariable"
        rb"|ExpandEnvironmentVariables|_?[cC]onfig(?:uration)?"
    )
    falls_back = frozenset({"??"})
    words = LanguageTerms(
        calls_apart=True,
        methods_wrap=True,
        settings=frozenset({"configuration", "config", "_configuration", "_config", "Configuration"}),
        maps=frozenset({"Environment.GetEnvironmentVariables()"}),
        functions={
            "Environment.GetEnvironmentVariable": AccessPattern(),
            "Environment.SetEnvironmentVariable": AccessPattern(access=SET),
            "Environment.ExpandEnvironmentVariables": AccessPattern(expands=_REFERENCE),
        },
        methods={"Contains": AccessPattern(access=PRESENCE), "ContainsKey": AccessPattern(access=PRESENCE)},
        same={"System.Environment": "Environment", "global::System.Environment": "Environment"},
        conversions=frozenset(
            {"int.Parse", "long.Parse", "bool.Parse", "Convert.ToInt32", "Convert.ToBoolean", "ToString", "Trim"}
        ),
        asking=frozenset(
            {"string.IsNullOrEmpty", "string.IsNullOrWhiteSpace", "String.IsNullOrEmpty", "String.IsNullOrWhiteSpace"}
        ),
        child_maps=frozenset({"Environment", "EnvironmentVariables"}),
        named_maps=re.compile(r"(?i)\w*environmentvariables|_?envvars"),
    )

    _identifier = _predefined_type = _this = SyntaxConverter.name
    _integer_literal = _real_literal = _boolean_literal = SyntaxConverter.value
    _null_literal = SyntaxConverter.nothing
    _parenthesized_expression = _argument = _arrow_expression_clause = SyntaxConverter.inside
    _conditional_expression = _if_statement = SyntaxConverter.choice
    _binary_expression = SyntaxConverter.binary
    _initializer_expression = SyntaxConverter.items
    _method_declaration = _local_function_statement = SyntaxConverter.function

    def _constructor_declaration(self, node: Syntax) -> tree.Node:
        """Convert a constructor, with what it gives to another one: `: base(name)`."""
        function = self.function(node)
        given = [child for child in node.named_children if child.type == "constructor_initializer"]
        if not isinstance(function, tree.FunctionNode) or not given:
            return function
        return tree.FunctionNode(function.name, function.parameters, tree.Node([*self.all(given), function.body]))

    def _class_declaration(self, node: Syntax) -> tree.Node:
        """Convert a class, with what its name gives to the one that it extends: `class A(name) : B(name)`."""
        bases = [child for child in node.named_children if child.type == "base_list"]
        return tree.DeclarationNode(
            self.word(node.child_by_field_name("name")), [*self.all(bases), self.field(node, "body")]
        )

    _record_declaration = _struct_declaration = _class_declaration

    def _assignment_expression(self, node: Syntax) -> tree.Node:
        """Convert an assignment; of `Environment = { ["NAME"] = "value" }` in an initializer, each one inside."""
        left, right = node.child_by_field_name("left"), node.child_by_field_name("right")
        if left is None or right is None or right.type != "initializer_expression":
            return self.assign_if_none(node)
        of = tree.MemberNode(tree.NameNode(""), self.word(left))
        members = [child for child in right.named_children if child.type == "assignment_expression"]
        return tree.Node(
            [
                tree.AssignmentNode(tree.IndexNode(of, self.field(member, "left")), self.field(member, "right"))
                for member in members
            ]
        )

    _element_binding_expression = SyntaxConverter.inside

    def _string_literal(self, node: Syntax) -> tree.Node:
        return self.text(node, ("string_literal_content", "escape_sequence"))

    _verbatim_string_literal = _string_literal

    def _cast_expression(self, node: Syntax) -> tree.Node:
        return self.field(node, "value")

    def _raw_string_literal(self, node: Syntax) -> tree.Node:
        content = next((child for child in node.named_children if child.type == "raw_string_content"), node)
        return tree.StringNode(self.word(content), content.start_byte, content.end_byte)

    def _member_access_expression(self, node: Syntax) -> tree.Node:
        if self.word(node) in ("string.Empty", "String.Empty"):
            return tree.ConstantNode("")
        return self.member(node, "expression", "name")

    def _element_access_expression(self, node: Syntax) -> tree.Node:
        keys = node.child_by_field_name("subscript")
        return tree.IndexNode(
            self.field(node, "expression"),
            self.convert(keys.named_children[0]) if keys and keys.named_children else tree.Node(),
        )

    def _invocation_expression(self, node: Syntax) -> tree.Node:
        function, arguments = self.field(node, "function"), node.child_by_field_name("arguments")
        given, named = self.arguments(arguments.named_children if arguments else [])
        return tree.CallNode(function, given, named)

    def _is_pattern_expression(self, node: Syntax) -> tree.Node:
        pattern = node.child_by_field_name("pattern")
        inner = self.field(node, "expression")
        if "null" in self.word(pattern):
            return tree.TruthTestNode(inner)
        name = pattern.child_by_field_name("name") if pattern else None
        return tree.AssignmentNode(self.name(name), inner) if name else tree.Node([inner])

    def _variable_declarator(self, node: Syntax) -> tree.Node:
        name, *rest = node.named_children
        return tree.AssignmentNode(self.convert(name), self.convert(rest[-1]) if rest else tree.Node())

    def _lambda_expression(self, node: Syntax) -> tree.Node:
        """Convert a lambda; its only parameter may stand without parentheses and type."""
        function = self.function(node)
        parameters = node.child_by_field_name("parameters")
        if (
            isinstance(function, tree.FunctionNode)
            and parameters is not None
            and parameters.type == "implicit_parameter"
        ):
            return tree.FunctionNode("", [self.word(parameters)], function.body)
        return function

    def _foreach_statement(self, node: Syntax) -> tree.Node:
        return tree.LoopNode(
            self.word(node.child_by_field_name("left")), self.field(node, "right"), self.field(node, "body")
        )

    def _implicit_array_creation_expression(self, node: Syntax) -> tree.Node:
        return self.convert(node.named_children[-1])

    def _object_creation_expression(self, node: Syntax) -> tree.Node:
        """Convert a list's creation to the list; any other to what is inside."""
        elements = node.child_by_field_name("initializer")
        is_list = self.word(node.child_by_field_name("type")).startswith(("List<", "HashSet<"))
        return self.convert(elements) if is_list and elements is not None else self.any(node)

    _array_creation_expression = _implicit_array_creation_expression

    def _using_directive(self, node: Syntax) -> tree.Node:
        path = self.word(node.named_children[-1]) if node.named_children else ""
        alias = node.child_by_field_name("name")
        if alias is not None:
            return tree.ImportNode(self.word(alias), path)
        return (
            tree.ImportNode("*", path.removeprefix("System.")) if "static" in self.word(node).split() else tree.Node()
        )


def _respelled(data: bytes) -> bytes:
    """Return a text of the same length without the two quotes between a value and the end of its text, which the
    grammar takes for an end of three quotes.
    """
    if b'}"""' not in data:
        return data
    return _VERBATIM.sub(lambda match: re.sub(rb'}"""\Z', b'}  "', match[0]), data)


find = reader(tree_sitter_c_sharp.language, CSharpConverter, _respelled)
