"""Rust."""

from __future__ import annotations

import re
from functools import cache

import tree_sitter_rust
from tree_sitter import Language as Grammar
from tree_sitter import Node as Syntax
from tree_sitter import Parser

from coinjar.mentions import tree
from coinjar.mentions.base import SET
from coinjar.mentions.converter import SyntaxConverter, reader
from coinjar.mentions.language_terms import AccessPattern, LanguageTerms
from coinjar.mentions.syntax import parse

_BEFORE_ARGUMENTS = b"fn f(){f("

_IN_MACRO = re.compile(rb"""\b((?:option_)?env!)\s*\(\s*"(\w+)\"""")


class RustConverter(SyntaxConverter):
    """Converts the grammar's nodes. Paths are written with dots."""

    root = rb"std|env|envs|option_env|env_remove|var"
    words = LanguageTerms(
        apart=True,
        functions={
            "std.env.var": AccessPattern(),
            "std.env.var_os": AccessPattern(),
            "std.env.set_var": AccessPattern(access=SET),
            "std.env.remove_var": AccessPattern(access=SET),
            "env!": AccessPattern(),
            "option_env!": AccessPattern(),
        },
        conversions=frozenset(
            "ok unwrap expect to_string to_owned into String.from as_deref as_ref and_then map parse".split()
        ),
        fallbacks=frozenset({"unwrap_or", "unwrap_or_else", "map_or"}),
        asking=frozenset({"is_ok", "is_err", "is_some", "is_none"}),
        child_methods=frozenset({"env", "env_remove"}),
    )

    _identifier = _self = _crate = _type_identifier = SyntaxConverter.name
    _integer_literal = _float_literal = _boolean_literal = SyntaxConverter.value
    _parenthesized_expression = _reference_expression = _try_expression = _unsafe_block = SyntaxConverter.inside
    _binary_expression = SyntaxConverter.binary
    _assignment_expression = SyntaxConverter.assign
    _mod_item = SyntaxConverter.declared
    _array_expression = SyntaxConverter.items

    def _string_literal(self, node: Syntax) -> tree.Node:
        return self.text(node, ("string_content", "escape_sequence"))

    _raw_string_literal = _string_literal

    def _scoped_identifier(self, node: Syntax) -> tree.Node:
        path = node.child_by_field_name("path")
        return self.member(node, "path", "name") if path else self.field(node, "name")

    def _field_expression(self, node: Syntax) -> tree.Node:
        return self.member(node, "value", "field")

    def _call_expression(self, node: Syntax) -> tree.Node:
        arguments = node.child_by_field_name("arguments")
        function, given = self.field(node, "function"), self.all(arguments.named_children) if arguments else []
        call = tree.CallNode(function, given)
        if isinstance(function, tree.MemberNode) and function.name == "envs":  # as many calls of `env`
            pairs = given[0].inner if given and isinstance(given[0], tree.ListNode) else ()
            one = tree.MemberNode(tree.Node(), "env")
            return tree.Node([call, *(tree.CallNode(one, pair.inner) for pair in pairs if len(pair.inner) == 2)])
        return call

    def _tuple_expression(self, node: Syntax) -> tree.Node:
        return tree.Node(self.all(node.named_children))

    def _macro_invocation(self, node: Syntax) -> tree.Node:
        """Convert a macro's arguments, which the grammar leaves as tokens: they are parsed again, as a call's."""
        tokens = next((child for child in node.named_children if child.type == "token_tree"), None)
        if tokens is None:
            return tree.Node()
        inside = _BEFORE_ARGUMENTS + self.data[tokens.start_byte + 1 : tokens.end_byte - 1] + b")}"
        again = parse(_parser(), inside)
        call = next((node for node in _below(again) if node.type == "call_expression"), None)
        arguments = call.child_by_field_name("arguments") if call else None
        given = RustConverter(inside, self.also).all(arguments.named_children) if arguments else []
        for argument in given:
            _move(argument, tokens.start_byte + 1 - len(_BEFORE_ARGUMENTS))
        return tree.CallNode(tree.NameNode(self.word(node.child_by_field_name("macro")) + "!"), given)

    def _macro_definition(self, node: Syntax) -> tree.Node:
        """Convert the names that the code of a macro has in it: the rest of it are tokens."""
        found = _IN_MACRO.finditer(self.data, node.start_byte, node.end_byte)
        return tree.Node(
            [
                tree.CallNode(tree.NameNode(match[1].decode()), [tree.StringNode(match[2].decode(), *match.span(2))])
                for match in found
            ]
        )

    def _let_declaration(self, node: Syntax) -> tree.Node:
        return tree.Node(
            [
                tree.AssignmentNode(self.field(node, "pattern"), self.field(node, "value")),
                self.field(node, "alternative"),
            ]
        )

    def _const_item(self, node: Syntax) -> tree.Node:
        return tree.AssignmentNode(self.field(node, "name"), self.field(node, "value"))

    _static_item = _const_item

    def _if_expression(self, node: Syntax) -> tree.Node:
        test, then, other = (self.field(node, name) for name in ("condition", "consequence", "alternative"))
        return tree.Node(
            [tree.Node([test]), then, other]
        )  # a Result is not a truth value: presence is tested with is_ok

    def _match_expression(self, node: Syntax) -> tree.Node:
        value, body = self.field(node, "value"), node.child_by_field_name("body")
        arms = body.named_children if body else []
        lost = next(
            (node for node in arms if self.word(node.child_by_field_name("pattern")).startswith(("Err", "None"))), None
        )
        nodes = [self.field(node, "value") for node in arms]
        return tree.Node([tree.FallbackNode(value, self.field(lost, "value")) if lost else value, *nodes])

    def _closure_expression(self, node: Syntax) -> tree.Node:
        parameters = node.child_by_field_name("parameters")
        return tree.FunctionNode(
            "",
            [self.word(child) for child in parameters.named_children] if parameters else [],
            self.field(node, "body"),
        )

    def _function_item(self, node: Syntax) -> tree.Node:
        parameters = node.child_by_field_name("parameters")
        names = (
            [
                self.word(child.child_by_field_name("pattern"))
                for child in parameters.named_children
                if child.type == "parameter"
            ]
            if parameters
            else []
        )
        return tree.FunctionNode(self.word(node.child_by_field_name("name")), names, self.field(node, "body"))

    def _for_expression(self, node: Syntax) -> tree.Node:
        return tree.LoopNode(
            self.word(node.child_by_field_name("pattern")), self.field(node, "value"), self.field(node, "body")
        )

    def _use_declaration(self, node: Syntax) -> tree.Node:
        argument = node.child_by_field_name("argument")
        return tree.Node(self._used(argument, "")) if argument else tree.Node()

    def _used(self, node: Syntax, before: str) -> list[tree.Node]:
        path = before + self.word(node.child_by_field_name("path")).replace("::", ".")
        if node.type == "use_list":
            return [element for child in node.named_children for element in self._used(child, before)]
        if node.type == "scoped_use_list":
            inner = node.child_by_field_name("list")
            return self._used(inner, f"{path}.") if inner else []
        if node.type == "use_as_clause":
            return [tree.ImportNode(self.word(node.child_by_field_name("alias")), path)]
        whole = before + self.word(node).replace("::", ".")
        if whole.endswith(".*") or node.type == "use_wildcard":
            return [tree.ImportNode("*", whole.removesuffix(".*"))]
        if node.type == "self":
            return [tree.ImportNode(before.rstrip(".").rpartition(".")[2], before.rstrip("."))]
        return [tree.ImportNode(whole.rpartition(".")[2], whole)]


@cache
def _parser() -> Parser:
    return Parser(Grammar(tree_sitter_rust.language()))


def _move(node: tree.Node, by: int) -> None:
    """Move a converted node to where it is in the file."""
    node.start, node.end = node.start + by, node.end + by
    for child in node.inner:
        _move(child, by)


def _below(node: Syntax) -> list[Syntax]:
    return [node, *(element for child in node.named_children for element in _below(child))]


find = reader(tree_sitter_rust.language, RustConverter)
