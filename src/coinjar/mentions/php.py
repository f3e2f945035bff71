"""PHP."""

from __future__ import annotations

import tree_sitter_php
from tree_sitter import Node as Syntax

from coinjar.mentions import tree
from coinjar.mentions.grown import Grower, reader
from coinjar.mentions.reading import How, Words

_OF_A_REQUEST = frozenset(
    "AUTH_TYPE CONTENT_LENGTH CONTENT_TYPE GATEWAY_INTERFACE PATH_INFO PATH_TRANSLATED QUERY_STRING REMOTE_ADDR REMOTE_HOST REMOTE_IDENT REMOTE_USER "
    "REQUEST_METHOD SCRIPT_NAME SERVER_NAME SERVER_PORT SERVER_PROTOCOL SERVER_SOFTWARE "  # RFC 3875, 4.1
    "PHP_SELF argv argc SERVER_ADDR REQUEST_TIME REQUEST_TIME_FLOAT DOCUMENT_ROOT HTTPS REMOTE_PORT SCRIPT_FILENAME SERVER_ADMIN SERVER_SIGNATURE "
    "REQUEST_URI PHP_AUTH_DIGEST PHP_AUTH_USER PHP_AUTH_PW ORIG_PATH_INFO REQUEST_SCHEME".split()  # the language's manual
)
"""What stands in `$_SERVER` beside the environment."""


class Php(Grower):
    """Grows the grammar's nodes."""

    root = rb"getenv|putenv|filter_input|\$?_ENV|\$?_SERVER"
    falls_back = frozenset({"??"})
    asks = frozenset({"&&", "||", "and", "or"})
    compares = frozenset({"==", "===", "!=", "!=="})
    words = Words(
        maps=frozenset({"$_ENV", "$_SERVER"}),
        functions={"getenv": How(), "filter_input_env": How(1)},
        conversions=frozenset({"intval", "floatval", "strval", "trim"}),
        asking=frozenset({"isset", "empty", "boolval"}),
        pairs=frozenset({"putenv"}),
    )

    _name = Grower.name
    _integer = _float = _boolean = Grower.value
    _null = Grower.nothing
    _parenthesized_expression = _argument = _array_element_initializer = Grower.inside
    _binary_expression = Grower.binary
    _assignment_expression = Grower.assign
    _augmented_assignment_expression = Grower.assign_if_none
    _array_creation_expression = Grower.items
    _function_definition = _method_declaration = _anonymous_function = _arrow_function = Grower.function
    _class_declaration = Grower.declared

    def _variable_name(self, node: Syntax) -> tree.Node:
        return self.name(node)

    def _qualified_name(self, node: Syntax) -> tree.Node:
        return tree.Name(self.word(node).lstrip("\\").replace("\\", "."), node.start_byte, node.end_byte)

    def _string(self, node: Syntax) -> tree.Node:
        return self.text(node, ("string_content", "escape_sequence"))

    _encapsed_string = _string

    def _subscript_expression(self, node: Syntax) -> tree.Node:
        of, *keys = [self.grow(one) for one in node.named_children]
        key = keys[0] if keys else tree.Node()
        if isinstance(of, tree.Name) and of.text == "$_SERVER" and isinstance(key, tree.Text) and (key.text in _OF_A_REQUEST or key.text.startswith("HTTP_")):
            return tree.Node()
        return tree.Index(of, key)

    def _given(self, node: Syntax) -> list[tree.Node]:
        arguments = node.child_by_field_name("arguments")
        return self.all(arguments.named_children) if arguments else []

    def _function_call_expression(self, node: Syntax) -> tree.Node:
        name, given = self.word(node.child_by_field_name("function")), self._given(node)
        if name == "define" and len(given) == 2 and isinstance(given[0], tree.Text):
            return tree.Assign(tree.Name(given[0].text), given[1])
        if name == "filter_input" and given and isinstance(given[0], tree.Name) and given[0].text == "INPUT_ENV":
            return tree.Call(tree.Name("filter_input_env"), given)
        return tree.Call(self.field(node, "function"), given)

    def _member_call_expression(self, node: Syntax) -> tree.Node:
        of = node.child_by_field_name("object") or node.child_by_field_name("scope")
        return tree.Call(tree.Member(self.grow(of), self.word(node.child_by_field_name("name"))), self._given(node))

    _scoped_call_expression = _nullsafe_member_call_expression = _member_call_expression

    def _conditional_expression(self, node: Syntax) -> tree.Node:
        test, then, other = (node.child_by_field_name(name) for name in ("condition", "body", "alternative"))
        if then is None:
            return tree.Or(self.grow(test), self.grow(other))
        return tree.Choice(self.grow(test), self.grow(then), self.grow(other))

    def _if_statement(self, node: Syntax) -> tree.Node:
        return tree.Choice(self.field(node, "condition"), self.field(node, "body"), self.field(node, "alternative"))

    def _unary_op_expression(self, node: Syntax) -> tree.Node:
        inner = self.inside(node)
        return tree.Asked(inner) if self.word(node).startswith("!") else tree.Node([inner])

    def _cast_expression(self, node: Syntax) -> tree.Node:
        inner = self.field(node, "value")
        return tree.Asked(inner) if self.word(node.child_by_field_name("type")).lower() in ("bool", "boolean") else inner

    def _unset_statement(self, node: Syntax) -> tree.Node:
        return tree.Node([tree.Remove(one) for one in self.all(node.named_children)])

    def _const_element(self, node: Syntax) -> tree.Node:
        name, value, *_ = node.named_children
        return tree.Assign(self.grow(name), self.grow(value))

    def _foreach_statement(self, node: Syntax) -> tree.Node:
        over, name, *_ = node.named_children
        return tree.Loop(self.word(name), self.grow(over), self.field(node, "body"))

    def _namespace_use_clause(self, node: Syntax) -> tree.Node:
        path = self.word(node.named_children[0]).lstrip("\\").replace("\\", ".")
        alias = self.word(node.child_by_field_name("alias"))
        return tree.Import(alias or path.rpartition(".")[2], path)


find = reader(tree_sitter_php.language_php, Php)
