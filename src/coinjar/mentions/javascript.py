"""JavaScript and TypeScript, including markup in code."""

from __future__ import annotations

import re

import tree_sitter_javascript
import tree_sitter_typescript
from tree_sitter import Node as Syntax

from coinjar.mentions import tree
from coinjar.mentions.base import PRESENCE, SET, TextMentions
from coinjar.mentions.converter import SyntaxConverter, reader
from coinjar.mentions.language_terms import AccessPattern, LanguageTerms

WORDS = LanguageTerms(
    maps=frozenset({"process.env", "import.meta.env", "Deno.env", "Bun.env"}),
    members=True,
    same={"globalThis.process": "process", "global.process": "process", "process.default": "process"},
    copies=frozenset({"_interopRequireDefault", "_interopRequireWildcard", "__importDefault", "__importStar"}),
    modules={"process": "process", "node:process": "process"},
    conversions=frozenset({"Number", "parseInt", "parseFloat", "String", "toString", "trim"}),
    merges=frozenset({"Object.assign"}),
    key_tests=frozenset({"Object.hasOwn", "Reflect.has"}),
    asking=frozenset({"Boolean", "hasOwnProperty"}),
    child_methods=frozenset({"stubEnv"}),
    methods={
        "hasOwnProperty": AccessPattern(access=PRESENCE),
        "get": AccessPattern(),
        "has": AccessPattern(access=PRESENCE),
        "set": AccessPattern(access=SET),
        "delete": AccessPattern(access=SET),
    },
)


class JavaScriptConverter(SyntaxConverter):
    """Converts the grammar's nodes."""

    words = WORDS
    root = rb"process|env|Deno|Bun"
    falls_back = frozenset({"||", "??"})
    joins = frozenset({"&&"})
    compares = frozenset({"==", "===", "!=", "!=="})

    def _identifier(self, node: Syntax) -> tree.Node:
        return tree.ConstantNode(None) if self.word(node) == "undefined" else self.name(node)

    _shorthand_property_identifier = _identifier
    _undefined = SyntaxConverter.nothing
    _null = SyntaxConverter.nothing
    _number = _true = _false = SyntaxConverter.value
    _ternary_expression = _if_statement = SyntaxConverter.choice
    _augmented_assignment_expression = SyntaxConverter.assign_if_none
    _array = SyntaxConverter.items
    _class_declaration = SyntaxConverter.declared
    _parenthesized_expression = _as_expression = _non_null_expression = _satisfies_expression = SyntaxConverter.inside

    def _type_assertion(self, node: Syntax) -> tree.Node:
        return self.convert(node.named_children[-1])

    def _string(self, node: Syntax) -> tree.Node:
        return self.text(node, ("string_fragment", "escape_sequence"))

    def _template_string(self, node: Syntax) -> tree.Node:
        return self.text(node, ("string_fragment", "escape_sequence"))

    def _types_only(self, node: Syntax) -> tree.Node:
        del node
        return tree.Node()

    _ambient_declaration = _interface_declaration = _type_alias_declaration = _regex = _types_only

    def _member_expression(self, node: Syntax) -> tree.Node:
        return self.member(node, "object", "property")

    def _meta_property(self, node: Syntax) -> tree.Node:
        return tree.MemberNode(tree.NameNode("import"), "meta") if self.word(node) == "import.meta" else tree.Node()

    def _import(self, node: Syntax) -> tree.Node:
        return self.name(node)

    _this = _import

    def _subscript_expression(self, node: Syntax) -> tree.Node:
        return tree.IndexNode(self.field(node, "object"), self.field(node, "index"))

    def _call_expression(self, node: Syntax) -> tree.Node:
        arguments = node.child_by_field_name("arguments")
        given = (
            self.all(arguments.named_children)
            if arguments and arguments.type == "arguments"
            else [self.convert(arguments)]
        )
        return tree.CallNode(self.field(node, "function"), given)

    def _new_expression(self, node: Syntax) -> tree.Node:
        arguments = node.child_by_field_name("arguments")
        given = self.all(arguments.named_children) if arguments else []
        return tree.CallNode(self.field(node, "constructor"), given)

    def _binary_expression(self, node: Syntax) -> tree.Node:
        if self.word(node.child_by_field_name("operator")) == "in":
            return tree.ContainsNode(self.field(node, "left"), self.field(node, "right"))
        left, right = node.child_by_field_name("left"), node.child_by_field_name("right")
        if self.word(left).startswith("typeof ") and self.word(right).strip("\"'`") == "undefined":
            return tree.ComparisonNode(self.field(left, "argument"), tree.ConstantNode(None)) if left else tree.Node()
        return self.binary(node)

    def _unary_expression(self, node: Syntax) -> tree.Node:
        inner = self.field(node, "argument")
        operator = self.word(node.child_by_field_name("operator"))
        return (
            tree.TruthTestNode(inner)
            if operator == "!"
            else tree.RemovalNode(inner)
            if operator == "delete"
            else tree.Node([inner])
        )

    def _while_statement(self, node: Syntax) -> tree.Node:
        return tree.Node([tree.TruthTestNode(self.field(node, "condition")), self.field(node, "body")])

    def _variable_declarator(self, node: Syntax) -> tree.Node:
        target, value = node.child_by_field_name("name"), self.field(node, "value")
        if target is not None and target.type == "object_pattern":
            return tree.DestructuringNode(self._picked(target), value)
        return tree.AssignmentNode(self.convert(target), value)

    def _field_definition(self, node: Syntax) -> tree.Node:
        """Convert a class's member, whose name is that of the objects' as well."""
        name = node.child_by_field_name("property") or node.child_by_field_name("name")
        return tree.AssignmentNode(self.name(name), self.field(node, "value")) if name else tree.Node()

    _public_field_definition = _field_definition

    def _picked(self, node: Syntax) -> list[tuple[tree.StringNode, str, tree.Node | None, bool]]:
        result = []
        for child in node.named_children:
            default = self.field(child, "right") if child.type == "object_assignment_pattern" else None
            key = child.child_by_field_name("left") if child.type == "object_assignment_pattern" else child
            value = None
            if key is not None and key.type == "pair_pattern":
                value = key.child_by_field_name("value")
                key = key.child_by_field_name("key")
                if value is not None and value.type == "assignment_pattern":
                    default, value = self.field(value, "right"), value.child_by_field_name("left")
            if key is not None and key.type in (
                "shorthand_property_identifier_pattern",
                "property_identifier",
                "string",
            ):
                word = self.word(key).strip("\"'")
                at = key.start_byte + (key.type == "string")
                result.append(
                    (
                        tree.StringNode(word, at, at + len(word.encode())),
                        self.word(value) if value else word,
                        default,
                        value is None,
                    )
                )
        return result

    def _assignment_expression(self, node: Syntax) -> tree.Node:
        target, value = node.child_by_field_name("left"), self.field(node, "right")
        if target is not None and target.type == "object_pattern":
            return tree.DestructuringNode(self._picked(target), value)
        return tree.AssignmentNode(self.convert(target), value)

    def _object(self, node: Syntax) -> tree.Node:
        keys, values, taken = [], [], []
        for child in node.named_children:
            if child.type == "pair":
                key = child.child_by_field_name("key")
                plain = key is not None and key.type == "property_identifier"
                keys.append(
                    tree.StringNode(self.word(key), key.start_byte, key.end_byte)
                    if plain and key
                    else self.convert(key)
                )
                values.append(self.field(child, "value"))
            elif child.type == "spread_element":
                taken.append(self.inside(child))
            else:
                keys.append(tree.Node())
                values.append(self.convert(child))
        return tree.MappingNode(keys, values, taken)

    def _function_declaration(self, node: Syntax) -> tree.FunctionNode:
        name = node.child_by_field_name("name")
        parameters = node.child_by_field_name("parameters")
        single = node.child_by_field_name("parameter")
        every = parameters.named_children if parameters else [single] if single else []
        names = [self._parameter(node) for node in every]
        function = tree.FunctionNode(self.word(name), names, self.field(node, "body"), self.each(every))
        function.given = {
            name: self.convert(value)
            for name, child in zip(names, every, strict=True)
            if (value := child.child_by_field_name("right") or child.child_by_field_name("value")) is not None
        }
        return function

    _function_expression = _arrow_function = _generator_function_declaration = _function_declaration

    def _method_definition(self, node: Syntax) -> tree.Node:
        function = self._function_declaration(node)
        function.is_method = True
        return function

    def _parameter(self, node: Syntax) -> str:
        inner = node.child_by_field_name("pattern") or node.child_by_field_name("left") or node
        return self.word(inner)

    def _assignment_pattern(self, node: Syntax) -> tree.Node:
        left, right = node.child_by_field_name("left"), self.field(node, "right")
        if left is not None and left.type == "object_pattern":
            return tree.DestructuringNode(self._picked(left), right)
        return right

    def _required_parameter(self, node: Syntax) -> tree.Node:
        return self.field(node, "value")

    _optional_parameter = _required_parameter

    def _for_in_statement(self, node: Syntax) -> tree.Node:
        return tree.LoopNode(
            self.word(node.child_by_field_name("left")), self.field(node, "right"), self.field(node, "body")
        )

    def _import_statement(self, node: Syntax) -> tree.Node:
        source = self.word(node.child_by_field_name("source")).strip("\"'")
        module = self.words.modules.get(source, source)
        nodes: list[tree.Node] = []
        for clause in [child for child in node.named_children if child.type == "import_clause"]:
            for child in clause.named_children:
                if child.type in ("identifier", "namespace_import"):
                    nodes.append(
                        tree.ImportNode(self.word(child.named_children[-1] if child.named_children else child), module)
                    )
                elif child.type == "named_imports":
                    for inner_node in child.named_children:
                        name, alias = inner_node.child_by_field_name("name"), inner_node.child_by_field_name("alias")
                        nodes.append(tree.ImportNode(self.word(alias or name), f"{module}.{self.word(name)}"))
        return tree.Node(nodes)


_TYPES = re.compile(rb"@flow\b")
"""In the first comment of a file with annotations of types."""
_find_plain = reader(tree_sitter_javascript.language, JavaScriptConverter)
_find_typed = reader(tree_sitter_typescript.language_tsx, JavaScriptConverter)


def find(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a script."""
    return (_find_typed if _TYPES.search(data, 0, 2000) else _find_plain)(data, helpers)
