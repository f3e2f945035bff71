"""Python, with its own parser."""

from __future__ import annotations

import ast
import re
import warnings
from bisect import bisect_left, bisect_right
from collections.abc import Iterable

from coinjar.mentions import settings_classes, tree
from coinjar.mentions.base import SET, Mention, TextMentions, UnreadPart, in_order
from coinjar.mentions.helper_calls import places
from coinjar.mentions.language_terms import REFERENCE, AccessPattern, LanguageTerms
from coinjar.mentions.reading_rounds import read_again

_MAP = {
    "get": AccessPattern(0, 1),
    "pop": AccessPattern(0, 1),
    "setdefault": AccessPattern(0, 1),
    "__getitem__": AccessPattern(),
    "update": AccessPattern(access=SET, all_names=True),
    "copy": AccessPattern(99),
}
WORDS = LanguageTerms(
    maps=frozenset({"os.environ", "os.environb"}),
    functions={
        "os.getenv": AccessPattern(0, 1),
        "os.getenvb": AccessPattern(0, 1),
        "os.putenv": AccessPattern(access=SET),
        "os.unsetenv": AccessPattern(access=SET),
        "os.path.expandvars": AccessPattern(expands=REFERENCE),
    },
    methods=_MAP,
    free=False,
    builtins=frozenset({"dict", "str", "int", "float", "bool"}),
    copies=frozenset({"dict", "copy"}),
    conversions=frozenset({"str", "int", "float"}),
    asking=frozenset({"bool"}),
    child_methods=frozenset({"setenv", "delenv"}),
)
_OLD = re.compile(rb"""#[^\n]*|\bos\.(?:environ\[|environ\.get\(|getenv\()\s*["'](\w+)["']|"[^"\n]*"|'[^'\n]*'""")
"""What to search for in a text that does not parse."""


def find(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a Python text; one that does not parse today is only searched for the simplest uses."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of the code that is read
            parsed = ast.parse(data)
    except (SyntaxError, ValueError, RecursionError, MemoryError) as fault:
        where = (fault.lineno or 0, fault.offset or 0) if isinstance(fault, SyntaxError) else (0, 0)
        mentions = in_order(Mention(match[1].decode(), *match.span(1)) for match in _OLD.finditer(data) if match[1])
        return mentions._replace(
            unread=UnreadPart(*where, "it does not parse as today's Python, so only its simplest uses were found")
        )
    lines = [0, *(at.end() for at in re.finditer(rb"\n", data))]
    found = read_again(lambda also: _PythonConverter(data, also, lines).convert(parsed), WORDS, helpers)
    if b"Settings" not in data:
        return found
    of_classes = settings_classes.mentions(parsed, data, _PythonConverter(data, (), lines).at)
    return in_order([*found.mentions, *of_classes], found.unknown)


_ROOT = rb"os|environb?|getenvb?|putenv|unsetenv|expandvars|setenv|delenv"


class _PythonConverter:
    """Converts the parser's tree: the statements on lines with a relevant word."""

    def __init__(self, data: bytes, also: Iterable[str], lines: list[int]) -> None:
        self.data = data
        self.lines = lines
        self.touched = [bisect_right(self.lines, at) for at in places(data, _ROOT, also)]

    def convert(self, node: ast.AST | None) -> tree.Node:
        if node is None or (isinstance(node, ast.stmt) and not self._touches(node)):
            return tree.Node()
        method = getattr(self, f"_{type(node).__name__}", None)
        grown: tree.Node = method(node) if method else tree.Node(self._each(ast.iter_child_nodes(node)))
        if isinstance(node, ast.expr) and not grown.end:
            grown.start, grown.end = (
                self.at(node.lineno, node.col_offset),
                self.at(node.end_lineno or 1, node.end_col_offset or 0),
            )
        return grown

    def _touches(self, node: ast.stmt) -> bool:
        at = bisect_left(
            self.touched, min([node.lineno, *(item.lineno for item in getattr(node, "decorator_list", ()))])
        )
        return at < len(self.touched) and self.touched[at] <= (node.end_lineno or node.lineno)

    def _each(self, nodes: object) -> list[tree.Node]:
        return [self.convert(node) for node in nodes]  # type: ignore[attr-defined]  # any iterable of nodes

    def at(self, line: int, column: int) -> int:
        """Return the offset of a line (from 1) and a column in bytes."""
        return self.lines[line - 1] + column

    def _Constant(self, node: ast.Constant) -> tree.Node:  # noqa: N802 - named after the parser's nodes, as all below
        value = node.value.decode("latin-1") if isinstance(node.value, bytes) else node.value
        if not isinstance(value, str):
            text = (
                None
                if value is None or value is Ellipsis
                else str(value).lower()
                if isinstance(value, bool)
                else str(value)
            )
            return tree.ConstantNode(text)
        start, end = self.at(node.lineno, node.col_offset), self.at(node.end_lineno or 1, node.end_col_offset or 0)
        spelled = value.encode("utf-8", "surrogatepass")
        at = self.data.find(spelled, start, end)
        return (
            tree.StringNode(value, at, at + len(spelled))
            if at >= 0 and value
            else tree.StringNode(value, start, end, exact=not value)
        )

    def _Name(self, node: ast.Name) -> tree.Node:  # noqa: N802
        return tree.NameNode(node.id)

    def _Attribute(self, node: ast.Attribute) -> tree.Node:  # noqa: N802
        return tree.MemberNode(self.convert(node.value), node.attr)

    def _Subscript(self, node: ast.Subscript) -> tree.Node:  # noqa: N802
        return tree.IndexNode(self.convert(node.value), self.convert(node.slice))

    def _Call(self, node: ast.Call) -> tree.Node:  # noqa: N802
        named: dict[str, tree.Node] = {}
        for keyword in node.keywords:
            value = self.convert(keyword.value)
            if keyword.arg:
                named[keyword.arg] = tree.Node(
                    [value],
                    self.at(keyword.lineno, keyword.col_offset),
                    self.at(keyword.lineno, keyword.col_offset) + len(keyword.arg),
                )
        given = self._each(node.args)
        more = [keyword.value for keyword in node.keywords if keyword.arg is None]
        if isinstance(node.func, ast.Name) and node.func.id == "dict" and len(given) == 1 and node.keywords:
            keys = [tree.StringNode(name, child.start, child.end) for name, child in named.items()]
            return tree.MappingNode(keys, list(named.values()), [given[0], *self._each(more)])
        return tree.CallNode(self.convert(node.func), given, named)

    def _BoolOp(self, node: ast.BoolOp) -> tree.Node:  # noqa: N802
        *before, last = self._each(node.values)
        if isinstance(node.op, ast.And):
            return tree.Node([*(tree.TruthTestNode(node) for node in before), last])
        for child in reversed(before):
            last = tree.FallbackNode(child, last)
        return last

    def _UnaryOp(self, node: ast.UnaryOp) -> tree.Node:  # noqa: N802
        inner = self.convert(node.operand)
        if isinstance(node.op, ast.USub) and isinstance(inner, tree.ConstantNode) and inner.text is not None:
            return tree.ConstantNode(f"-{inner.text}")
        return tree.TruthTestNode(inner) if isinstance(node.op, ast.Not) else tree.Node([inner])

    def _Compare(self, node: ast.Compare) -> tree.Node:  # noqa: N802
        left, right = self.convert(node.left), self.convert(node.comparators[0])
        return (
            tree.ContainsNode(left, right)
            if isinstance(node.ops[0], ast.In | ast.NotIn)
            else tree.ComparisonNode(left, right)
        )

    def _BinOp(self, node: ast.BinOp) -> tree.Node:  # noqa: N802
        left, right = self.convert(node.left), self.convert(node.right)
        if isinstance(node.op, ast.BitOr) and isinstance(right, tree.MappingNode):
            return tree.MappingNode(right.keys, right.inner[: len(right.keys)], [left, *right.taken])
        return tree.Node([left, right])

    def _IfExp(self, node: ast.IfExp) -> tree.Node:  # noqa: N802
        return tree.ConditionalNode(self.convert(node.test), self.convert(node.body), self.convert(node.orelse))

    def _If(self, node: ast.If) -> tree.Node:  # noqa: N802
        return tree.ConditionalNode(
            self.convert(node.test), tree.Node(self._each(node.body)), tree.Node(self._each(node.orelse))
        )

    def _While(self, node: ast.While) -> tree.Node:  # noqa: N802
        return tree.Node([tree.TruthTestNode(self.convert(node.test)), *self._each(node.body)])

    def _Assign(self, node: ast.Assign) -> tree.Node:  # noqa: N802
        value = self.convert(node.value)
        return tree.Node([tree.AssignmentNode(self.convert(target), value) for target in node.targets])

    def _AnnAssign(self, node: ast.AnnAssign) -> tree.Node:  # noqa: N802
        return tree.AssignmentNode(self.convert(node.target), self.convert(node.value)) if node.value else tree.Node()

    def _AugAssign(self, node: ast.AugAssign) -> tree.Node:  # noqa: N802
        target, value = self.convert(node.target), self.convert(node.value)
        if isinstance(node.op, ast.BitOr):
            return tree.CallNode(tree.MemberNode(target, "update"), [value])
        return tree.Node([tree.AssignmentNode(target, tree.Node()), value])

    def _NamedExpr(self, node: ast.NamedExpr) -> tree.Node:  # noqa: N802
        return tree.Node([tree.AssignmentNode(self.convert(node.target), self.convert(node.value))])

    def _Delete(self, node: ast.Delete) -> tree.Node:  # noqa: N802
        return tree.Node([tree.RemovalNode(self.convert(target)) for target in node.targets])

    def _List(self, node: ast.List | ast.Tuple | ast.Set) -> tree.Node:  # noqa: N802
        return tree.ListNode(self._each(node.elts))

    _Tuple = _Set = _List

    def _Dict(self, node: ast.Dict) -> tree.Node:  # noqa: N802
        pairs = list(zip(node.keys, self._each(node.values), strict=True))
        keys = [self.convert(key) for key, _ in pairs if key is not None]
        return tree.MappingNode(
            keys, [value for key, value in pairs if key is not None], [value for key, value in pairs if key is None]
        )

    def _FunctionDef(self, node: ast.FunctionDef | ast.AsyncFunctionDef) -> tree.Node:  # noqa: N802
        spelled = node.args
        every = [
            *spelled.posonlyargs,
            *spelled.args,
            *spelled.kwonlyargs,
            *(item for item in (spelled.vararg, spelled.kwarg) if item),
        ]
        names = [finding.arg for finding in every]
        names = names[1:] if names[:1] in (["self"], ["cls"]) else names
        outer = self._each(
            [*node.decorator_list, *spelled.defaults, *(default for default in spelled.kw_defaults if default)]
        )
        function = tree.FunctionNode(node.name, names, tree.Node(self._each(node.body)))
        placed = [*spelled.posonlyargs, *spelled.args]
        usual = [*zip(placed[len(placed) - len(spelled.defaults) :], spelled.defaults, strict=True)]
        usual += [(name, value) for name, value in zip(spelled.kwonlyargs, spelled.kw_defaults, strict=True) if value]
        function.given = {name.arg: self.convert(value) for name, value in usual}
        return tree.Node([*outer, function])

    _AsyncFunctionDef = _FunctionDef

    def _Lambda(self, node: ast.Lambda) -> tree.Node:  # noqa: N802
        return tree.FunctionNode("", [arg.arg for arg in node.args.args], self.convert(node.body))

    def _ClassDef(self, node: ast.ClassDef) -> tree.Node:  # noqa: N802
        inner = tree.FunctionNode("", [], tree.Node(self._each(node.body)))  # names that a class binds are its own
        for method in tree.own(inner.body):
            if isinstance(method, tree.FunctionNode):
                method.is_method = True
        return tree.DeclarationNode(node.name, [*self._each([*node.bases, *node.decorator_list]), inner])

    def _Match(self, node: ast.Match) -> tree.Node:  # noqa: N802
        """Convert a match; the keys of patterns are looked up in its subject."""
        subject, found = self.convert(node.subject), list[tree.Node]()
        for pattern in [part for case in node.cases for part in ast.walk(case.pattern)]:
            for key, value in (
                zip(pattern.keys, pattern.patterns, strict=True) if isinstance(pattern, ast.MatchMapping) else ()
            ):
                is_any = isinstance(value, ast.MatchAs) and value.name is None and value.pattern is None
                of = self.convert(key)
                found.append(tree.ContainsNode(of, subject) if is_any else tree.IndexNode(subject, of))
        inside = [statement for case in node.cases for statement in case.body]
        return tree.Node([subject, *found, *self._each(inside)])

    def _For(self, node: ast.For | ast.AsyncFor) -> tree.Node:  # noqa: N802
        body = tree.Node(self._each([*node.body, *node.orelse]))
        return self._loop(node.target, node.iter, body)

    _AsyncFor = _For

    def _loop(self, target: ast.expr, over: ast.expr, body: tree.Node) -> tree.Node:
        if isinstance(target, ast.Name):
            return tree.LoopNode(target.id, self.convert(over), body)
        names = [tree.DeclarationNode(one.id) for one in ast.walk(target) if isinstance(one, ast.Name)]
        return tree.Node([*names, self.convert(over), body])

    def _ListComp(self, node: ast.ListComp | ast.SetComp | ast.GeneratorExp) -> tree.Node:  # noqa: N802
        return self._comprehension(node.generators, [node.elt])

    _SetComp = _GeneratorExp = _ListComp

    def _DictComp(self, node: ast.DictComp) -> tree.Node:  # noqa: N802
        return self._comprehension(node.generators, [node.key, node.value])

    def _comprehension(self, generators: list[ast.comprehension], inner: list[ast.expr]) -> tree.Node:
        body = tree.Node(self._each(inner))
        for generator in reversed(generators):
            body = self._loop(
                generator.target,
                generator.iter,
                tree.Node([*(tree.TruthTestNode(test) for test in self._each(generator.ifs)), body]),
            )
        return tree.FunctionNode("", [], body)

    def _Import(self, node: ast.Import) -> tree.Node:  # noqa: N802
        return tree.Node(
            [
                tree.ImportNode(
                    alias.asname or alias.name.partition(".")[0],
                    alias.name if alias.asname else alias.name.partition(".")[0],
                )
                for alias in node.names
            ]
        )

    def _ImportFrom(self, node: ast.ImportFrom) -> tree.Node:  # noqa: N802
        path = "." * node.level + (node.module or "")
        return tree.Node(
            [tree.ImportNode(alias.asname or alias.name, _imported(path, alias.name)) for alias in node.names]
        )


def _imported(module: str, name: str) -> str:
    """Return the path of a name from a module. An `os` from elsewhere is made of the standard one."""
    return module if name == "*" else name if name == "os" else f"{module}.{name}"
