"""Ruby."""

from __future__ import annotations

from collections.abc import Sequence

import tree_sitter_ruby
from tree_sitter import Node as Syntax

from coinjar.mentions import tree
from coinjar.mentions.base import PRESENCE, SET
from coinjar.mentions.converter import SyntaxConverter, reader
from coinjar.mentions.language_terms import AccessPattern, LanguageTerms


class RubyConverter(SyntaxConverter):
    """Converts the grammar's nodes."""

    root = rb"ENV|system|spawn|popen|exec|sh|Open3"
    falls_back = frozenset({"||", "or"})
    joins = frozenset({"&&", "and"})
    words = LanguageTerms(
        maps=frozenset({"ENV"}),
        methods={
            "fetch": AccessPattern(0, 1),
            "[]": AccessPattern(),
            "dig": AccessPattern(),
            "key?": AccessPattern(access=PRESENCE),
            "has_key?": AccessPattern(access=PRESENCE),
            "include?": AccessPattern(access=PRESENCE),
            "member?": AccessPattern(access=PRESENCE),
            "delete": AccessPattern(access=SET),
            "store": AccessPattern(access=SET),
            "merge!": AccessPattern(access=SET, all_names=True),
            "merge": AccessPattern(access=SET, all_names=True),
            "update": AccessPattern(access=SET, all_names=True),
            "values_at": AccessPattern(all_names=True),
            "slice": AccessPattern(all_names=True),
            "fetch_values": AccessPattern(all_names=True),
        },
        copies=frozenset({"to_h", "dup", "to_hash"}),
        conversions=frozenset({"Integer", "Float", "String", "to_i", "to_f", "to_s", "to_sym", "strip"}),
        asking=frozenset({"nil?", "empty?", "present?", "blank?"}),
        child_functions=frozenset(
            "system spawn exec sh IO.popen Process.spawn Open3.capture2 Open3.capture2e Open3.capture3 Open3.popen2 "
            "Open3.popen2e Open3.popen3".split()
        ),
    )

    _identifier = _instance_variable = _constant = _self = SyntaxConverter.name
    _integer = _float = _true = _false = SyntaxConverter.value
    _nil = SyntaxConverter.nothing
    _parenthesized_statements = SyntaxConverter.inside
    _binary = SyntaxConverter.binary
    _assignment = SyntaxConverter.assign
    _operator_assignment = SyntaxConverter.assign_if_none
    _array = _string_array = SyntaxConverter.items
    _class = _module = SyntaxConverter.declared

    def _string(self, node: Syntax) -> tree.Node:
        return self.text(node, ("string_content", "escape_sequence"))

    _bare_string = _string

    def _simple_symbol(self, node: Syntax) -> tree.Node:
        return tree.ConstantNode(self.word(node).lstrip(":"))

    def _hash_key_symbol(self, node: Syntax) -> tree.Node:
        return tree.ConstantNode(self.word(node))

    def _element_reference(self, node: Syntax) -> tree.Node:
        of, *keys = node.named_children
        return tree.IndexNode(self.convert(of), self.convert(keys[0]) if keys else tree.Node())

    def _scope_resolution(self, node: Syntax) -> tree.Node:
        scope = node.child_by_field_name("scope")
        return self.member(node, "scope", "name") if scope else self.field(node, "name")

    def _call(self, node: Syntax) -> tree.Node:
        of, method = node.child_by_field_name("receiver"), node.child_by_field_name("method")
        arguments, block = node.child_by_field_name("arguments"), node.child_by_field_name("block")
        children = arguments.named_children if arguments else []
        given = self.all([child for child in children if child.type != "pair"])
        if pairs := [child for child in children if child.type == "pair"]:
            given.append(self._pairs(pairs))
        word = self.word(method)
        if of is not None and word in ("each", "map", "each_with_object", "to_h", "filter_map") and block is not None:
            names = self._parameters(block.child_by_field_name("parameters"))
            return tree.LoopNode(names[0] if names else "", self.convert(of), self.field(block, "body"))
        if block is not None:
            given.append(self.convert(block))
        if of is None and method is not None:
            return tree.CallNode(self.name(method), given)
        if not given and of is not None and word in self.words.copies:
            return tree.MemberNode(self.convert(of), word)
        return tree.CallNode(tree.MemberNode(self.convert(of), word), given)

    def _parameters(self, node: Syntax | None) -> list[str]:
        return [self.word(child.child_by_field_name("name") or child) for child in node.named_children] if node else []

    def _block(self, node: Syntax) -> tree.Node:
        body = node.child_by_field_name("body")
        inner = body.named_children if body else []
        grown = self.convert(inner[0]) if len(inner) == 1 else tree.Node(self.each(inner))
        return tree.FunctionNode("", self._parameters(node.child_by_field_name("parameters")), grown)

    _do_block = _block

    def _method(self, node: Syntax) -> tree.Node:
        """Convert a method, and what its parameters are unless a caller says otherwise."""
        parameters = node.child_by_field_name("parameters")
        every = parameters.named_children if parameters else []
        usual = {self.word(child.child_by_field_name("name")): child.child_by_field_name("value") for child in every}
        function = tree.FunctionNode(
            self.word(node.child_by_field_name("name")), self._parameters(parameters), self.field(node, "body")
        )
        function.given = {name: self.convert(value) for name, value in usual.items() if value and self.touches(value)}
        return tree.Node([function, *function.given.values()])

    _singleton_method = _method

    def _unary(self, node: Syntax) -> tree.Node:
        inner = self.field(node, "operand")
        return (
            tree.TruthTestNode(inner)
            if self.word(node.child_by_field_name("operator")) in ("!", "not")
            else tree.Node([inner])
        )

    def _if(self, node: Syntax) -> tree.Node:
        then = node.child_by_field_name("consequence") or node.child_by_field_name("body")
        return tree.ConditionalNode(self.field(node, "condition"), self.convert(then), self.field(node, "alternative"))

    _unless = _if_modifier = _unless_modifier = _conditional = _if

    def _hash(self, node: Syntax) -> tree.Node:
        pairs = [child for child in node.named_children if child.type == "pair"]
        taken = [self.inside(child) for child in node.named_children if child.type == "hash_splat_argument"]
        return self._pairs(pairs, taken)

    def _pairs(self, pairs: Sequence[Syntax], taken: Sequence[tree.Node] = ()) -> tree.MappingNode:
        return tree.MappingNode(
            [self.field(node, "key") for node in pairs], [self.field(node, "value") for node in pairs], taken
        )


find = reader(tree_sitter_ruby.language, RubyConverter)
