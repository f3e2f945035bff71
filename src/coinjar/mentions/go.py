"""Go."""

from __future__ import annotations

import re

import tree_sitter_go
from tree_sitter import Node as Syntax

from coinjar.mentions import tree
from coinjar.mentions.base import SET
from coinjar.mentions.converter import SyntaxConverter, reader
from coinjar.mentions.language_terms import REFERENCE, AccessPattern, LanguageTerms

_APPENDED = tree.NameNode("append to Env")
"""What stands for the function that sets `NAME=value` texts for another program."""


_ENVIRONMENT = re.compile(r"\.(?:Env|Environ\(\))(?:\.\.\.\))?$")
"""The end of what is appended to: an environment, or a copy of it that `append` makes."""


class GoConverter(SyntaxConverter):
    """Converts the grammar's nodes."""

    root = rb"os|syscall|cmp|Getenv|LookupEnv|Setenv|Unsetenv|ExpandEnv|Environ|Env"
    asks = frozenset({"&&", "||"})
    words = LanguageTerms(
        maps=frozenset({"os.Environ()"}),
        functions={
            "os.Getenv": AccessPattern(),
            "os.LookupEnv": AccessPattern(),
            "syscall.Getenv": AccessPattern(),
            "os.Setenv": AccessPattern(access=SET),
            "os.Unsetenv": AccessPattern(access=SET),
            "os.ExpandEnv": AccessPattern(expands=REFERENCE),
        },
        free=False,
        builtins=frozenset({"append", _APPENDED.text}),
        child_methods=frozenset({"Setenv"}),
        conversions=frozenset({"strconv.Atoi", "strings.TrimSpace"}),
        fallbacks=frozenset({"cmp.Or"}),
        pairs=frozenset({_APPENDED.text}),
    )

    _identifier = _package_identifier = _field_identifier = SyntaxConverter.name
    _int_literal = _float_literal = _true = _false = SyntaxConverter.value
    _nil = SyntaxConverter.nothing
    _parenthesized_expression = SyntaxConverter.inside
    _binary_expression = SyntaxConverter.binary

    def _interpreted_string_literal(self, node: Syntax) -> tree.Node:
        return self.text(node, ("interpreted_string_literal_content", "raw_string_literal_content", "escape_sequence"))

    _raw_string_literal = _interpreted_string_literal

    def _selector_expression(self, node: Syntax) -> tree.Node:
        return self.member(node, "operand", "field")

    def _call_expression(self, node: Syntax) -> tree.Node:
        function = self.field(node, "function")
        arguments = node.child_by_field_name("arguments")
        given = self.all(arguments.named_children) if arguments else []
        name = self.word(node.child_by_field_name("function"))
        if (
            name == "append"
            and given
            and _ENVIRONMENT.search(self.word(arguments.named_children[0] if arguments else None))
        ):
            return tree.CallNode(_APPENDED, given[1:])
        return tree.CallNode(function, given)

    def _import_spec(self, node: Syntax) -> tree.Node:
        path = self.word(node.child_by_field_name("path")).strip('"`')
        name = self.word(node.child_by_field_name("name"))
        return tree.ImportNode("*" if name == "." else name or path.rpartition("/")[2], path)

    def _short_var_declaration(self, node: Syntax) -> tree.Node:
        left, right = node.child_by_field_name("left"), node.child_by_field_name("right")
        targets, values = left.named_children if left else [], right.named_children if right else []
        if not targets or not values:
            return self.any(node)
        value = self.convert(values[0])
        if len(targets) == 2 and len(values) == 1 and self.word(targets[0]) == "_":
            return tree.Node([tree.TruthTestNode(value)])
        if self.word(targets[0]).endswith(".Env") and isinstance(value, tree.ListNode):
            return tree.CallNode(_APPENDED, value.inner)  # another program's environment
        return tree.Node(
            [
                tree.AssignmentNode(self.convert(node), self.convert(child))
                for node, child in zip(targets, values, strict=False)
            ]
        )

    _assignment_statement = _short_var_declaration

    def _var_spec(self, node: Syntax) -> tree.Node:
        names, value = node.children_by_field_name("name"), node.child_by_field_name("value")
        values = value.named_children if value else []
        return tree.Node(
            [
                tree.AssignmentNode(self.convert(node), self.convert(child))
                for node, child in zip(names, values, strict=False)
            ]
        )

    _const_spec = _var_spec

    def _if_statement(self, node: Syntax) -> tree.Node:
        test, then, other = (self.field(node, name) for name in ("condition", "consequence", "alternative"))
        return tree.Node([self.field(node, "initializer"), tree.ConditionalNode(test, then, other)])

    def _function_declaration(self, node: Syntax) -> tree.Node:
        names = []
        for part in ("receiver", "parameters"):
            every = node.child_by_field_name(part)
            for child in every.named_children if every else []:
                names += (
                    [] if part == "receiver" else [self.word(node) for node in child.children_by_field_name("name")]
                )
        name = node.child_by_field_name("name")
        function = tree.FunctionNode(self.word(name), names, self.field(node, "body"))
        return (
            function if node.type != "method_declaration" else tree.Node([tree.FunctionNode("", names, function.body)])
        )

    _method_declaration = _func_literal = _function_declaration

    def _for_statement(self, node: Syntax) -> tree.Node:
        clause = next((child for child in node.named_children if child.type == "range_clause"), None)
        if clause is None:
            return self.any(node)
        left = clause.child_by_field_name("left")
        names = [self.word(child) for child in left.named_children] if left else []
        return tree.LoopNode(names[-1] if names else "", self.field(clause, "right"), self.field(node, "body"))

    def _composite_literal(self, node: Syntax) -> tree.Node:
        body = node.child_by_field_name("body")
        return tree.ListNode(self.all(body.named_children) if body else [])

    _literal_element = SyntaxConverter.inside


find = reader(tree_sitter_go.language, GoConverter)
