"""Find the mentions in a program's tree, by a language's terms for its environment."""

from __future__ import annotations

import re
from collections.abc import Sequence

from coinjar.mentions import helper_calls, named_maps, tree
from coinjar.mentions.accesses import PLAIN, EnvironmentAccess, UseContext
from coinjar.mentions.base import PRESENCE, READ, SET, ComputedName, Mention, TextMentions, in_order
from coinjar.mentions.call_arguments import (
    alternatives,
    argument_of,
    by_pattern,
    destructured,
    gives_a_value,
    in_order_of,
    is_compared_with_empty,
    is_own,
    keys_of_map,
    keys_of_mappings,
    last_name,
    makes_a_text,
    paired,
    picked_from,
    pieces,
    stand_in,
    tested_key,
)
from coinjar.mentions.language_terms import LanguageTerms
from coinjar.mentions.scopes import Parameter, Scopes
from coinjar.mentions.written_literals import written

_OF_TRUTH = re.compile(r"bool|flag|enabled|^is_?|\?$")
"""In the name of a function that makes a truth value of a variable."""
_PUTS = frozenset("put set remove putIfAbsent computeIfAbsent compute merge replace Add TryAdd Remove".split())
"""Methods of another program's environment that change one variable."""
_GETS = {"TryGetValue": READ, "ContainsKey": PRESENCE}
"""Those that look for one."""


class ProgramReader:
    """Reads one file's tree."""

    def __init__(self, words: LanguageTerms, helpers: frozenset[str]) -> None:
        self.words = words
        self.helpers = helpers
        self.scopes = Scopes(words)
        self.mentions: list[Mention] = []
        self.unknown: list[ComputedName] = []
        self.wanted: set[str] = set()
        """Names whose positions must be in the tree for a complete result."""
        self.held: dict[str, list[int]] = {}
        """Names of variables that were read, with their mentions."""

    def read(self, root: tree.Node) -> TextMentions:
        self.wanted.update(node.name for node in tree.own(root) if isinstance(node, tree.ImportNode))
        with self.scopes.inside(root):
            self.wanted |= self.scopes.handed.environments
            self._see(root, PLAIN)
        self.wanted |= self.scopes.followed
        return in_order(self.mentions, self.unknown)

    # Effects of a node

    def _see(self, node: tree.Node, context: UseContext) -> None:  # noqa: C901, PLR0912 - a shape a line
        access = self._access(node)
        if access:
            self._take(access, context)
        if isinstance(node, tree.FallbackNode):
            value = self._written(node.right)
            is_nothing = isinstance(node.right, tree.ConstantNode) and value is None
            self._see(node.left, UseContext(context.default if is_nothing else value))
            self._see(node.right, context)
        elif isinstance(node, tree.TruthTestNode):
            self._see(node.what, UseContext(asked=True))
        elif isinstance(node, tree.ComparisonNode):
            asked = any(
                isinstance(child, tree.ConstantNode) and child.text in (None, "false")
                for child in (node.left, node.right)
            ) or is_compared_with_empty(node)
            self._see(node.left, UseContext(asked=asked))
            self._see(node.right, UseContext(asked=asked))
        elif isinstance(node, tree.ConditionalNode):
            self._choose(node, context)
        elif isinstance(node, tree.AssignmentNode):
            self._assign(node, context)
        elif isinstance(node, tree.RemovalNode):
            for child in node.target.inner:
                self._see(child, PLAIN)
        elif isinstance(node, tree.CallNode):
            self._call(node, context)
        elif isinstance(node, tree.MemberNode):
            self._see(node.of, UseContext(context.default))
        elif isinstance(node, tree.LoopNode) and node.variable:
            self._see(node.over, PLAIN)
            self.wanted.update([node.variable] if self.scopes.map_of(node) else ())
            with self.scopes.looping(node):
                self._see(node.body, PLAIN)
        elif isinstance(node, tree.FunctionNode):
            self.wanted.update(name for name, value in node.given.items() if self._is_followed(value))
            with self.scopes.inside(node):
                for child in node.inner:
                    self._see(child, PLAIN)
        else:
            for child in node.inner:
                self._see(child, PLAIN)

    def _choose(self, node: tree.ConditionalNode, context: UseContext) -> None:
        before = len(self.mentions)
        self._see(node.test, UseContext(asked=True))
        middle = len(self.mentions)
        self._see(node.then, context)
        end = len(self.mentions)
        used = {mention.name for mention in self.mentions[middle:]}
        for at in range(before, middle) if gives_a_value(node.test) else ():
            self._default(at, self._written(node.other))  # a test that gives the value a name
        tested = set() if isinstance(node.test, tree.ComparisonNode) else self._names(before, middle)
        for at in [at for at in range(middle, end) if self.mentions[at].name in tested]:
            self._default(at, self._written(node.other))
        self._see(node.other, context)
        for at in [at for at in range(end, len(self.mentions)) if self.mentions[at].name in tested]:
            self._default(at, self._written(node.then))
        if isinstance(node.test, tree.ComparisonNode):
            # compared with nothing and then used, on either side: a value that is read, not a switch
            used_else = self._names(end, len(self.mentions))
            for at in [at for at in range(before, middle) if self.mentions[at].access == PRESENCE]:
                name = self.mentions[at].name
                if name in used or name in used_else:
                    value = self._written(node.other if name in used else node.then)
                    self.mentions[at] = self.mentions[at]._replace(access=READ, default=value)
        self._filled_in(node)

    def _names(self, start: int, end: int) -> set[str]:
        return {mention.name for mention in self.mentions[start:end]}

    def _filled_in(self, node: tree.ConditionalNode) -> None:
        """Handle `if x is nothing: x = "default"`, and `x if x else "default"`."""
        for name_node in [side for side in tree.own(node.test) if isinstance(side, tree.NameNode)]:
            for kept, other in ((node.then, node.other), (node.other, node.then)):
                if isinstance(kept, tree.NameNode) and kept.text == name_node.text:
                    for at in self.held.get(kept.text, ()):
                        self._default(at, self._written(other))
            for inner in tree.own(node.then):
                if (
                    isinstance(inner, tree.AssignmentNode)
                    and isinstance(inner.target, tree.NameNode)
                    and inner.target.text == name_node.text
                ):
                    value = self._written(inner.value)
                    for at in self.held.get(name_node.text, ()) if value is not None else ():
                        self._default(at, value)

    def _default(self, at: int, value: str | None) -> None:
        if self.mentions[at].default is None:
            self.mentions[at] = self.mentions[at]._replace(default=value)

    def _assign(self, node: tree.AssignmentNode, context: UseContext) -> None:
        before = len(self.mentions)
        self._see(node.value, UseContext(context.default))
        if isinstance(node.target, tree.NameNode):
            if len(self.mentions) > before and not makes_a_text(node.value):
                self.held.setdefault(node.target.text, []).extend(range(before, len(self.mentions)))
                self.wanted.add(node.target.text)
            elif self._is_followed(node.value):
                self.wanted.add(node.target.text)
            return
        if isinstance(node.target, tree.MemberNode) and self._is_followed(node.value):
            self.wanted.add(node.target.name)
        access = self._access(node.target)
        if access:
            kept = access._replace(default=node.value) if node.keeps else access._replace(access=SET)
            self._take(kept, PLAIN)
        elif isinstance(node.target, tree.IndexNode) and self.scopes.is_child(node.target.of):
            self._take(EnvironmentAccess([node.target.key], SET), PLAIN)
        elif self._is_map(node.target):  # all of it at once
            self._take(EnvironmentAccess(list(keys_of_mappings([node.value])), SET), PLAIN)
        elif put := named_maps.put_into(node.target, self.scopes.handed.environments):
            self._take(put, PLAIN)
        for child in node.target.inner:
            self._see(child, PLAIN)

    def _is_followed(self, value: tree.Node) -> bool:
        """Return whether a name for this value reads the environment: a mapping, or a function of it."""
        path = self.scopes.path(value) or ""
        return (
            path in self.words.maps or path in self.words.functions or self._method(path) or self.scopes.is_child(value)
        )

    def _method(self, path: str) -> bool:
        of, _, method = path.rpartition(".")
        return of in self.words.maps and method in self.words.methods

    def _call(self, node: tree.CallNode, context: UseContext) -> None:
        path = self.scopes.path(node.function)
        if isinstance(node.function, tree.NameNode):
            for at, argument in enumerate(node.arguments):
                self.wanted |= self.scopes.takes(node, at) if self._is_map(argument) else set()
        method = node.function.name if isinstance(node.function, tree.MemberNode) else None
        if method in self.words.fallbacks and isinstance(node.function, tree.MemberNode):
            value = self._written(node.arguments[0]) if node.arguments else None
            self._see(node.function.of, UseContext(context.default if value is None else value))
            self._each(node.arguments, PLAIN)
        elif path in self.words.fallbacks and len(node.arguments) > 1:
            self._see(node.arguments[0], UseContext(self._written(node.arguments[1])))
            self._each(node.arguments[1:], context)
        elif (
            method in self.words.asking
            and isinstance(node.function, tree.MemberNode)
            and self.scopes.path(node.function.of) not in self.words.maps
        ):
            self._see(node.function.of, UseContext(asked=True))
            self._each(node.arguments, UseContext(asked=True))
        elif path in self.words.asking:
            self._each(node.arguments, UseContext(asked=True))
        else:
            if method in self.words.conversions and isinstance(node.function, tree.MemberNode):
                self._see(node.function.of, context)
            else:
                self._see(node.function, UseContext(context.default))
            self._each(
                [*node.arguments, *node.named.values()],
                UseContext(context.default) if path in self.words.conversions else PLAIN,
            )

    def _each(self, nodes: Sequence[tree.Node], context: UseContext) -> None:
        for node in nodes:
            self._see(node, context)

    # Accesses to the environment

    def _access(self, node: tree.Node) -> EnvironmentAccess | None:  # noqa: PLR0911 - a shape a line
        maps = self.words.maps
        if isinstance(node, tree.IndexNode):
            is_read = self.scopes.path(node.of) in maps or self.scopes.is_child(node.of)
            if is_read:
                return EnvironmentAccess([node.key])
            return helper_calls.section(node, self.words) or named_maps.named(node, self.words)
        if (
            isinstance(node, tree.MemberNode)
            and self.words.members
            and node.name not in self.words.methods
            and self.scopes.path(node.of) in maps
        ):
            return EnvironmentAccess([tree.StringNode(node.name, node.start, node.end)])
        if isinstance(node, tree.CallNode):
            return self._called(node)
        if isinstance(node, tree.ContainsNode) and self.scopes.path(node.of) in maps:
            return EnvironmentAccess([node.key], PRESENCE)
        if isinstance(node, tree.RemovalNode):
            access = self._access(node.target)
            return access._replace(access=SET) if access else None
        if isinstance(node, tree.DestructuringNode) and self.scopes.path(node.of) in maps:
            self.mentions += destructured(node, self._written)
        if isinstance(node, tree.MappingNode) and any(self.scopes.path(child) in maps for child in node.taken):
            return EnvironmentAccess(list(keys_of_mappings([node, *node.taken])), SET)
        return None

    def _called(self, node: tree.CallNode) -> EnvironmentAccess | None:  # noqa: PLR0911 - a shape a line
        path = self.scopes.path(node.function) or ""
        if path in self.words.pairs:
            return EnvironmentAccess(list(paired(node.arguments)), SET)
        if path in self.words.functions:
            return by_pattern(self.words.functions[path], node)
        if path in self.words.key_tests and (key := tested_key(node.arguments, self._is_map)):
            return EnvironmentAccess([key], PRESENCE)
        if isinstance(node.function, tree.NameNode) and self._method(path):
            return by_pattern(self.words.methods[path.rpartition(".")[2]], node)
        if path in self.words.merges and any(map(self._is_map, node.arguments)):  # into it, or into a copy of it
            return EnvironmentAccess(list(keys_of_mappings(node.arguments)), SET)
        if path in self.words.child_functions and node.arguments:
            first = node.arguments[0]
            given = self._bound(first.text) if isinstance(first, tree.NameNode) else first
            if isinstance(given, tree.MappingNode):
                return EnvironmentAccess(list(keys_of_mappings([given])), SET)
        found = picked_from(node, self._is_map) if self.words.members else None
        if isinstance(node.function, tree.MemberNode):
            found = found or self._of_a_method(node.function, node)
        return found or self._helped(node) or self._by_shape(node)

    def _by_shape(self, node: tree.CallNode) -> EnvironmentAccess | None:
        """Return what a call does by the public forms of frameworks."""
        found = helper_calls.option(node) or helper_calls.replaced_map(node, self._is_map)
        is_here = self.scopes.function(last_name(node.function) or "") is not None
        if found is None and not (is_here and self._is_own(node.function)):
            wrapped = helper_calls.wrapper_call(node, self.words)
            found = wrapped if wrapped and all(map(self.scopes.texts, alternatives(wrapped.keys))) else None
        if found is None and not is_here:
            found = helper_calls.setting_call(node, self.words) or named_maps.named(node, self.words)
            found = found or helper_calls.helper_call(node, self.words)
            found = found or helper_calls.schema(node, self._is_map, self._bound)
        return found or named_maps.environment_maps(node, self._bound)

    def _is_map(self, node: tree.Node) -> bool:
        return self.scopes.path(node) in self.words.maps

    def _bound(self, name: str) -> tree.Node | None:
        self.wanted.add(name)
        owner = self.scopes.owner(name)
        return owner if isinstance(owner, tree.Node) else None

    def _of_a_method(  # noqa: PLR0911 - a shape a line
        self, function: tree.MemberNode, node: tree.CallNode
    ) -> EnvironmentAccess | None:
        """Return the access of a method of the environment, or of a child's."""
        method, of = function.name, function.of
        if method in tree.EACH and len(node.arguments) == 1:
            handed = self.scopes.path(node.arguments[0]) or ""
            return EnvironmentAccess(self.scopes.elements(of)) if handed in self.words.functions else None
        if method in self.words.methods and self.scopes.path(of) in self.words.maps:
            return by_pattern(self.words.methods[method], node)
        if method in _PUTS and self.scopes.is_child(of) and node.arguments:
            return EnvironmentAccess([node.arguments[0]], SET)
        if method in _GETS and self.scopes.is_child(of) and node.arguments:
            return EnvironmentAccess([node.arguments[0]], _GETS[method])
        if method == "putAll" and self.scopes.is_child(of) and node.arguments:
            return EnvironmentAccess(list(keys_of_map(node.arguments[0])), SET)
        listed = node.arguments[1] if method in self.words.child_pairs and len(node.arguments) > 1 else None
        if isinstance(listed, tree.ListNode):
            return EnvironmentAccess(list(paired(listed.inner)), SET)
        if method in self.words.child_methods and node.arguments and self.scopes.texts(node.arguments[0]):
            is_option = method == "env" and len(node.arguments) == 1
            return EnvironmentAccess([node.arguments[0]], READ if is_option else SET)
        return None

    def _helped(self, node: tree.CallNode) -> EnvironmentAccess | None:
        """Handle a call of a function that reads a variable named by its caller."""
        name = last_name(node.function)
        given = in_order_of(node)
        if not name or not given:
            return None
        if name in self.helpers:
            return EnvironmentAccess([given[0]], READ, given[1] if len(given) > 1 else node.named.get("default"))
        function = self.scopes.function(name, len(given)) if self._is_own(node.function) else None
        helps = self._helps(function) if function else None
        key = argument_of(function, node, helps[0]) if function and helps else None
        if function is None or helps is None or key is None:
            return None
        at, how = helps
        if how == SET:
            return EnvironmentAccess([key], SET)
        kind = "boolean" if _OF_TRUTH.search(name.lower()) else ""
        return EnvironmentAccess([key], READ, stand_in(function, node, at), "", kind)

    def _is_own(self, function: tree.Node) -> bool:
        """Return whether a function is called by its bare name, as the object's own, or as one of a class here."""
        if is_own(function):
            return True
        of = function.of if isinstance(function, tree.MemberNode) else None
        return isinstance(of, tree.NameNode) and isinstance(self.scopes.owner(of.text), tree.DeclarationNode)

    def _helps(self, function: tree.FunctionNode) -> tuple[int, str] | None:
        """Return which parameter of a function names a variable, and whether it reads or sets it; None if none does."""
        if function in self.scopes.asked:
            return self.scopes.asked[function]
        self.scopes.asked[function] = None
        with self.scopes.inside(function):
            for node in tree.own(function.body):
                access = self._access(node) if not isinstance(node, tree.FunctionNode) else None
                for key in access.keys if access and not access.expands else []:
                    if access and isinstance(key, tree.NameNode) and key.text in function.parameters:
                        before = self.scopes.asked[function]
                        how = SET if before and before[1] == SET else access.access
                        self.scopes.asked[function] = (list(function.parameters).index(key.text), how)
        return self.scopes.asked[function]

    def _take(self, access: EnvironmentAccess, context: UseContext) -> None:
        asked = context.asked and access.kind != "boolean"  # a function that makes a truth value of it reads it
        how = PRESENCE if access.access == READ and asked else access.access
        default = self._written(access.default)
        if default is None and access.access == READ:
            default = context.default
        for place, key in enumerate(alternatives(access.keys)):
            if access.defaults:
                default = self._written(access.defaults[place])
            texts = self.scopes.texts(key)
            if texts is None:
                self._not_known(key, is_named_by_callers=access.expands is None)
            parts = (piece for text in texts or [] for piece in pieces(text, access.expands)) if access.expands else ()
            for text in parts if access.expands else texts or []:
                if not text.exact:
                    self.unknown.append(ComputedName(text.start, text.end))  # its name is not in the text as such
                elif text.text and text.text not in self.words.others:
                    how_sure = {"probable": access.probable, "kind": access.kind}
                    self.mentions.append(Mention(text.text, text.start, text.end, how, default, **how_sure))

    def _not_known(self, key: tree.Node, *, is_named_by_callers: bool) -> None:
        owner = self.scopes.owner(key.text) if isinstance(key, tree.NameNode) else None
        if isinstance(owner, Parameter) and owner.function.name and is_named_by_callers:
            self.wanted.add(owner.function.name)
            if owner.function.name in self.helpers or self.scopes.is_called(owner.function.name):
                return  # its callers name the variable
        self.unknown.append(ComputedName(key.start, key.end))

    def _written(self, node: tree.Node | None) -> str | None:
        return written(node, self.words, self.scopes)
