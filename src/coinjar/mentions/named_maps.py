"""Maps that set variables for something else, known by the names that they or a call's arguments have."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from itertools import zip_longest

from coinjar.mentions import tree
from coinjar.mentions.accesses import EnvironmentAccess
from coinjar.mentions.base import PRESENCE, READ, SET
from coinjar.mentions.call_arguments import is_name, last_name
from coinjar.mentions.language_terms import NAME, LanguageTerms

ENVIRONMENTS = frozenset({"env", "environment", "envVars", "env_vars", "envvars", "environmentVariables", "extraEnv"})
ENVIRONMENTS |= frozenset({"environment_variables", "Variables", "buildArgs", "build_args"})
"""Names of maps that set variables for something else."""
_METHODS = {"add": SET, "tryadd": SET, "put": SET, "remove": SET, "trygetvalue": READ, "get": READ}
_METHODS |= {"getordefault": READ, "containskey": PRESENCE}
"""What methods of a map do."""


def environment_maps(node: tree.CallNode, bound: Callable[[str], tree.Node | None]) -> EnvironmentAccess | None:
    """Return the keys of maps that a call passes on as an environment: `environment: {...}`, `env={...}`, `env=x`."""
    found = [(name, value) for name, value in members(node) if name in ENVIRONMENTS]
    maps = [bound(value.text) if isinstance(value, tree.NameNode) else value for _, value in found]
    keys = [key for value in maps if isinstance(value, tree.MappingNode) for key in _names(value)]
    return EnvironmentAccess(keys, SET, None, found[0][0]) if keys else None


def put_into(target: tree.Node, names: Collection[str]) -> EnvironmentAccess | None:
    """Return what is put into one of the maps (their names) that are passed on as an environment."""
    of = target.of if isinstance(target, tree.IndexNode | tree.MemberNode) else None
    if not isinstance(of, tree.NameNode) or of.text not in names:
        return None
    key = target.key if isinstance(target, tree.IndexNode) else None
    if isinstance(target, tree.MemberNode):
        key = tree.StringNode(target.name, target.start, target.end)
    is_name = isinstance(key, tree.StringNode) and NAME.fullmatch(key.text)
    return EnvironmentAccess([key], SET, None, of.text) if key and is_name else None


def named(node: tree.Node, words: LanguageTerms) -> EnvironmentAccess | None:
    """Return what a map does that a language's programs call an environment: `finalEnvironmentVariables["NAME"]`."""
    key, how, of = None, READ, None
    if isinstance(node, tree.IndexNode):
        key, of = node.key, node.of
    elif isinstance(node, tree.CallNode) and isinstance(node.function, tree.MemberNode) and node.arguments:
        key, of, how = node.arguments[0], node.function.of, _METHODS.get(node.function.name.lower(), "")
    of = of.function if isinstance(of, tree.CallNode) and not of.arguments else of
    name = last_name(of) if of is not None else None
    is_named = name is not None and words.named_maps is not None and words.named_maps.fullmatch(name)
    return (
        EnvironmentAccess([key], how, None, name) if key and name and is_named and how and is_name(key, name) else None
    )


def members(node: tree.Node) -> Iterator[tuple[str, tree.Node]]:
    """Yield the named arguments of a call, and the members of the maps that it is given, to any depth."""
    if isinstance(node, tree.CallNode):
        for name, child in node.named.items():
            for value in child.inner[:1]:
                yield name, value
                yield from members(value) if isinstance(value, tree.MappingNode) else ()
    values = node.arguments if isinstance(node, tree.CallNode) else node.inner
    keys = node.keys if isinstance(node, tree.MappingNode) else ()
    for key, value in zip_longest(keys, values):
        if isinstance(key, tree.StringNode):
            yield key.text, value
        elif key is not None and isinstance(value, tree.NameNode):  # JavaScript's `{env}`
            yield value.text, value
        if isinstance(value, tree.MappingNode | tree.ListNode):
            yield from members(value)


def _names(node: tree.MappingNode) -> Iterator[tree.StringNode]:
    return (key for key in node.keys if isinstance(key, tree.StringNode) and NAME.fullmatch(key.text))
