"""PHP."""

from __future__ import annotations

import re
from functools import cached_property

import tree_sitter_php
from tree_sitter import Node as Syntax

from coinjar.mentions import tree
from coinjar.mentions.base import SET, TextMentions, in_order
from coinjar.mentions.converter import SyntaxConverter, reader
from coinjar.mentions.language_terms import AccessPattern, LanguageTerms
from coinjar.mentions.placeholders import processed

_OF_A_REQUEST = frozenset(
    "AUTH_TYPE CONTENT_LENGTH CONTENT_TYPE GATEWAY_INTERFACE PATH_INFO PATH_TRANSLATED QUERY_STRING REMOTE_ADDR "
    "REMOTE_HOST REMOTE_IDENT REMOTE_USER "
    "REQUEST_METHOD SCRIPT_NAME SERVER_NAME SERVER_PORT SERVER_PROTOCOL SERVER_SOFTWARE "  # RFC 3875, 4.1
    "PHP_SELF argv argc SERVER_ADDR REQUEST_TIME REQUEST_TIME_FLOAT DOCUMENT_ROOT HTTPS REMOTE_PORT SCRIPT_FILENAME "
    "SERVER_ADMIN SERVER_SIGNATURE "
    # the language's manual
    "REQUEST_URI UNENCODED_URL PHP_AUTH_DIGEST PHP_AUTH_USER PHP_AUTH_PW ORIG_PATH_INFO REQUEST_SCHEME "
    # headers of every browser and proxy
    "HTTP_HOST HTTP_USER_AGENT HTTP_REFERER HTTP_ACCEPT HTTP_ACCEPT_LANGUAGE HTTP_ACCEPT_ENCODING HTTP_COOKIE "
    "HTTP_AUTHORIZATION HTTP_CONNECTION HTTP_ORIGIN HTTP_CLIENT_IP HTTP_X_FORWARDED_FOR HTTP_X_FORWARDED_HOST "
    "HTTP_X_FORWARDED_PROTO HTTP_X_REQUESTED_WITH HTTP_IF_NONE_MATCH HTTP_IF_MODIFIED_SINCE".split()
)
"""What a web server sets for each request, in `$_SERVER` and for `getenv`."""


_OF_WINDOWS = frozenset("Path SystemRoot windir ComSpec SystemDrive ProgramFiles ProgramData".split())
"""Usual variables with small letters."""
_VARIABLE = re.compile(r"(?!HTTP_|REDIRECT_|SSL_|ORIG_|CONTEXT_|PHP_AUTH_)[A-Za-z_]\w*")
"""What a variable of the environment can be called; with these beginnings a web server sets them for each request."""
_FUNCTIONS = frozenset({"getenv", "putenv", "proc_open", "filter_input"})
_DECLARED = re.compile(rb"(?i)\bfunction\s+&?\s*(\w+)|\buse\s+function\s+[\w\\]*?(\w+)\s*;")
_WITH_EACH = {"array_map": (0, 1), "array_filter": (1, 0), "array_walk": (1, 0)}
"""Functions that call one with each element of a list: where the two stand."""
_ASKED = re.compile(rb"""(?:(?i:env)\s*\(|\$_ENV\s*\[)\s*["'](\w+)["'=]""")
_COMMENTS = re.compile(rb"(?m)^[ \t]*(?:/?\*|//|#)[^\n]*")
_PUT = re.compile(rb"""\(\s*["']([A-Za-z_]\w*)(?:=|["']\s*\.\s*\()""")


class PhpConverter(SyntaxConverter):
    """Converts the grammar's nodes."""

    root = rb"(?i:getenv|putenv|proc_open)|Process|filter_input|\$?_ENV|\$?_SERVER|\$env(?:ironment)?(?:_?[vV]ars?)?"
    falls_back = frozenset({"??"})
    asks = frozenset({"&&", "||", "and", "or"})
    compares = frozenset({"==", "===", "!=", "!=="})
    words = LanguageTerms(
        maps=frozenset({"$_ENV", "$_SERVER", "getenv()"}),
        functions={
            "getenv": AccessPattern(),
            "filter_input_env": AccessPattern(1),
            "putenv of a text": AccessPattern(access=SET),
        },
        conversions=frozenset({"intval", "floatval", "strval", "trim"}),
        asking=frozenset({"isset", "empty", "boolval"}),
        pairs=frozenset({"putenv"}),
        key_tests=frozenset({"array_key_exists"}),
        methods_wrap=True,
        named_maps=re.compile(r"\$env(?:ironment)?(?:_?[vV]ars?)?"),
        others=_OF_A_REQUEST,
    )

    _name = _relative_scope = SyntaxConverter.name
    _integer = _float = _boolean = SyntaxConverter.value
    _null = SyntaxConverter.nothing
    _parenthesized_expression = SyntaxConverter.inside
    _binary_expression = SyntaxConverter.binary
    _assignment_expression = SyntaxConverter.assign
    _augmented_assignment_expression = SyntaxConverter.assign_if_none
    _array_creation_expression = SyntaxConverter.items
    _function_definition = _anonymous_function = _arrow_function = SyntaxConverter.function
    _class_declaration = SyntaxConverter.declared

    def _method_declaration(self, node: Syntax) -> tree.Node:
        function = self.function(node)
        if isinstance(function, tree.FunctionNode):
            function.is_method = True
        return function

    def _argument(self, node: Syntax) -> tree.Node:
        """Convert an argument, named or not: its value is last."""
        return self.convert(node.named_children[-1]) if node.named_children else tree.Node()

    def _array_element_initializer(self, node: Syntax) -> tree.Node:
        children = self.all(node.named_children)
        return children[0] if len(children) == 1 else tree.Node(children)

    def _class_constant_access_expression(self, node: Syntax) -> tree.Node:
        """Convert `self::NAME` to the constant's name."""
        return self.name(node.named_children[-1])

    def _variable_name(self, node: Syntax) -> tree.Node:
        return self.name(node)

    def _qualified_name(self, node: Syntax) -> tree.Node:
        first, *others = self.word(node).lstrip("\\").split("\\")
        name: tree.Node = tree.NameNode(first, node.start_byte, node.end_byte)
        for other in others:
            name = tree.MemberNode(name, other)
        return name

    def _string(self, node: Syntax) -> tree.Node:
        return self.text(node, ("string_content", "escape_sequence"))

    _encapsed_string = _string

    def _subscript_expression(self, node: Syntax) -> tree.Node:
        of, *keys = [self.convert(child) for child in node.named_children]
        key = keys[0] if keys else tree.Node()
        if (
            isinstance(of, tree.NameNode)
            and of.text == "$_SERVER"
            and isinstance(key, tree.StringNode)
            and not self._is_variable(key.text)
        ):
            return tree.Node()
        return tree.IndexNode(of, key)

    def _is_variable(self, key: str) -> bool:
        """Return whether a key of `$_SERVER` may be a variable. Small letters are what programs keep there for
        themselves, but for a proxy's and for what the file asks the environment for, too.
        """
        if key in _OF_A_REQUEST or not _VARIABLE.fullmatch(key):
            return False
        is_usual = key.isupper() or not key.strip("_") or key in _OF_WINDOWS or key.endswith("_proxy")
        return is_usual or key.encode() in self._asked

    @cached_property
    def _own(self) -> frozenset[str]:
        """The functions that the file declares or takes from elsewhere, in small letters."""
        names = (name for found in _DECLARED.findall(self.data) for name in found)
        return frozenset(name.decode().lower() for name in names)

    @cached_property
    def _asked(self) -> frozenset[bytes]:
        """The names that the file asks the environment for in other ways."""
        return frozenset(_ASKED.findall(self.data))

    def _given(self, node: Syntax) -> tuple[list[tree.Node], dict[str, tree.Node]]:
        arguments = node.child_by_field_name("arguments")
        return self.arguments(arguments.named_children if arguments else [])

    def _function_call_expression(self, node: Syntax) -> tree.Node:
        name = self.word(node.child_by_field_name("function"))
        function = self.field(node, "function")
        if isinstance(function, tree.NameNode) and name.lstrip("\\").lower() in _FUNCTIONS - self._own:
            function.text = name = name.lstrip("\\").lower()  # the language does not see capitals in functions' names
        given, named = self._given(node)
        if name == "define" and len(given) == 2 and isinstance(given[0], tree.StringNode):
            return tree.AssignmentNode(tree.NameNode(given[0].text), given[1])
        if name in _WITH_EACH and len(given) > 1:
            function, over = (given[at] for at in _WITH_EACH[name])
            if isinstance(function, tree.FunctionNode):
                function.over = over
        if name == "proc_open" and len(given) > 4 and isinstance(given[4], tree.ListNode):
            return tree.Node([*given, _put_into_another(given[4])])
        if name == "putenv" and given and not isinstance(given[0], tree.StringNode):
            arguments = node.child_by_field_name("arguments")
            if arguments and (match := _PUT.match(self.data, arguments.start_byte, arguments.end_byte)):
                given = [tree.StringNode(match[1].decode() + "=", *match.span(1)), *given]
            elif arguments and any(
                node.type == "encapsed_string" for node in arguments.named_children[0].named_children
            ):
                return tree.CallNode(tree.NameNode("putenv of a text"), given)
        if name == "filter_input" and given and isinstance(given[0], tree.NameNode) and given[0].text == "INPUT_ENV":
            return tree.CallNode(tree.NameNode("filter_input_env"), given, named)
        return tree.CallNode(function, given, named)

    def _object_creation_expression(self, node: Syntax) -> tree.Node:
        """Convert `new Process(command, folder, environment)` as well."""
        words = [self.word(child) for child in node.named_children[:1]]
        every = next((child for child in node.named_children if child.type == "arguments"), None)
        given, named = self.arguments(every.named_children if every else [])
        if (
            words
            and words[0].rpartition("\\")[2] == "Process"
            and len(given) > 2
            and isinstance(given[2], tree.ListNode)
        ):
            return tree.Node([*given, _put_into_another(given[2])])
        return tree.Node([*given, *named.values()])

    def _member_call_expression(self, node: Syntax) -> tree.Node:
        of = node.child_by_field_name("object") or node.child_by_field_name("scope")
        function = tree.MemberNode(self.convert(of), self.word(node.child_by_field_name("name")))
        return tree.CallNode(function, *self._given(node))

    _scoped_call_expression = _nullsafe_member_call_expression = _member_call_expression

    def _conditional_expression(self, node: Syntax) -> tree.Node:
        test, then, other = (node.child_by_field_name(name) for name in ("condition", "body", "alternative"))
        if then is None:
            return tree.FallbackNode(self.convert(test), self.convert(other))
        return tree.ConditionalNode(self.convert(test), self.convert(then), self.convert(other))

    def _if_statement(self, node: Syntax) -> tree.Node:
        others = self.all(node.children_by_field_name("alternative"))  # each elseif, and the else
        other = others[0] if len(others) == 1 else tree.Node(others)
        return tree.ConditionalNode(self.field(node, "condition"), self.field(node, "body"), other)

    def _else_if_clause(self, node: Syntax) -> tree.Node:
        return tree.ConditionalNode(self.field(node, "condition"), self.field(node, "body"), tree.Node())

    def _unary_op_expression(self, node: Syntax) -> tree.Node:
        inner = self.inside(node)
        return tree.TruthTestNode(inner) if self.word(node).startswith("!") else tree.Node([inner])

    def _cast_expression(self, node: Syntax) -> tree.Node:
        inner = self.field(node, "value")
        return (
            tree.TruthTestNode(inner)
            if self.word(node.child_by_field_name("type")).lower() in ("bool", "boolean")
            else inner
        )

    def _unset_statement(self, node: Syntax) -> tree.Node:
        return tree.Node([tree.RemovalNode(child) for child in self.all(node.named_children)])

    def _const_element(self, node: Syntax) -> tree.Node:
        name, value, *_ = node.named_children
        return tree.AssignmentNode(self.convert(name), self.convert(value))

    def _foreach_statement(self, node: Syntax) -> tree.Node:
        over, name, *_ = node.named_children
        return tree.LoopNode(self.word(name), self.convert(over), self.field(node, "body"))

    def _namespace_use_clause(self, node: Syntax) -> tree.Node:
        path = self.word(node.named_children[0]).lstrip("\\").replace("\\", ".")
        alias = self.word(node.child_by_field_name("alias"))
        return tree.ImportNode(alias or path.rpartition(".")[2], path)


def _put_into_another(pairs: tree.ListNode) -> tree.Node:
    """Return the call that would set what another program's environment has."""
    return tree.CallNode(tree.NameNode("putenv"), [pair.inner[0] for pair in pairs.inner if len(pair.inner) == 2])


_find_code = reader(tree_sitter_php.language_php, PhpConverter)


def find(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a script, those of its references to a container of services among them."""
    found = _find_code(data, helpers)
    if b"%env(" not in data:
        return found
    code = _COMMENTS.sub(lambda match: b" " * len(match[0]), data)
    return in_order([*found.mentions, *processed(code)], found.unknown)._replace(unread=found.unread)
