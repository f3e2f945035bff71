"""Reads and settings by the public forms of frameworks: calls and maps that are known by their shape alone.

What other shapes could be something else is only probable; `code: {helpers: [...]}` in jar.yaml makes it sure.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import lru_cache
from itertools import zip_longest

from coinjar.mentions import tree
from coinjar.mentions.accesses import EnvironmentAccess
from coinjar.mentions.base import READ, SET
from coinjar.mentions.call_arguments import by_pattern, is_name, is_own, keys_of, last_name
from coinjar.mentions.language_terms import NAME, LanguageTerms

_HELPER = re.compile(
    r"(?:(?:get|must|read|require|required|load|fetch|optional|from|parse)_?)*env(?:ironment)?"
    r"(?:_?(?:variable|var|value|or|string|str|integer|int|boolean|bool|float|number|num|list|default|required|"
    r"optional|as|with|port|url|path|duration)s?)*"
)
_SETTER = re.compile(
    r"(?:with|add|set|put|append|prepend|override|define|remove|unset|delete|clear)_?"
    r"env(?:ironment)?(?:_?(?:variable|var)s?)?"
)
_WORDS = re.compile(r"(?<=[a-z0-9])(?=[A-Z])")
_OF_ENVIRONMENT = re.compile(r"(?i)[\w$]*env(?:y|ironment)?|\w*config_?service")
"""Names of objects whose methods read variables."""
_OTHER_METHODS = frozenset(
    "filter test has set put delete remove update add export append prepend append_path prepend_path extend insert "
    "define unset setdefault replace merge sub gsub split join match matches search index indexof find startswith "
    "endswith starts_with ends_with hasprefix hassuffix start_with? end_with? startswith? delete_prefix delete_suffix "
    "removeprefix removesuffix trimprefix contains containskey include? includes equals equalsignorecase compareto "
    "eq eql? push concat localecompare charat".split()
)
"""Methods of such objects that do not read one."""
_METHODS = {
    "get": "", "str": "", "string": "", "optional": "", "required": "", "require": "", "list": "list", "json": "json",
    "int": "integer", "integer": "integer", "number": "number", "float": "number", "bool": "boolean",
    "boolean": "boolean", "url": "url", "path": "", "port": "port", "getproperty": "", "getrequiredproperty": "",
    "getvalue": "", "getstring": "", "getordefault": "", "var": "", "getconnectionstring": "",
}  # fmt: skip
_KINDS = {"int": "integer", "integer": "integer", "float": "number", "number": "number", "bool": "boolean"}
_KINDS |= {"boolean": "boolean", "url": "url", "port": "port"}
"""Kinds by the last word of a function, or by the type that a value is cast to."""
_OPTION = ("envvar", "env_var")
"""The argument with which command-line libraries name the variable of an option."""
_SCHEMA = frozenset(
    {"parse", "safeParse", "parseAsync", "validate", "validateSync", "cast", "check", "decode", "assert"}
)
_MERGES = frozenset({"merge", "extend", "assign", "defaults", "merged"})
_DEFAULTS = ("default", "default_value", "fallback")
_FORMS = tuple(
    re.compile(form)
    for form in (
        rb"nv(?:_?var\s*=|\w*(?:(?:(?:\.|::|->)\w+)?(?:<\w+>)?\(\s*[\"'`][A-Z]|[\"']?\s*[=:]\s*\{|\([A-Z_]+=))",
        rb"nv(?:iron|ironment)?=[A-Za-z_]\w*[,)]",
        rb"onfigService\.\w+(?:<\w+>)?\(\s*[\"'`][A-Z]",
        rb"config\(\s*[\"'`][A-Z]",
        rb"Variables[\"']?\s*[=:]\s*\{",
        rb"uild_?[aA]rgs[\"']?\s*[=:]\s*\{",
    )
)
"""What is in every text with these forms. Each begins with letters, which are searched for ten times as fast."""


def has_forms(data: bytes) -> bool:
    """Return whether a text may contain one of these forms."""
    return any(form.search(data) for form in _FORMS)


def places(data: bytes, root: bytes, also: Iterable[str]) -> list[int]:
    """Return where a language's words (a regular expression), other words and the forms are, in order."""
    fixed = _fixed_places(data, root)
    words = b"|".join(re.escape(word.encode()) for word in also)
    found = [match.start() for match in re.finditer(rb"(?<!\w)(?:" + words + rb")(?!\w)", data)] if words else []
    return sorted([*fixed, *found]) if found else fixed


@lru_cache(maxsize=1)
def _fixed_places(data: bytes, root: bytes) -> list[int]:
    """Return what does not depend on what was found: kept for the next round over the same text."""
    found = [match.start() for match in re.finditer(rb"(?<!\w)(?:" + root + rb")(?!\w)", data)]
    forms = [match.start() for form in _FORMS for match in form.finditer(data)]
    return sorted([*found, *forms]) if forms else found


def option(node: tree.CallNode) -> EnvironmentAccess | None:
    """Return the variables of a command line's option."""
    given = next((node.named[name] for name in _OPTION if name in node.named), None)
    value = given.inner[0] if given and given.inner else None
    keys = value.inner if isinstance(value, tree.ListNode) else [value]
    names = [key for key in keys if isinstance(key, tree.StringNode) and key.text]
    if not names:
        return None
    first = node.arguments[0] if node.arguments else None
    is_its_name = last_name(node.function) in ("argument", "option")
    if isinstance(first, tree.StringNode) and (first.text.startswith("-") or is_its_name):
        first = None
    return EnvironmentAccess(names, READ, _default(node) or first)


def replaced_map(node: tree.CallNode, is_map: Callable[[tree.Node], bool]) -> EnvironmentAccess | None:
    """Return what a test puts into the environment for its time: `patch.dict(os.environ, {...}, NAME=...)`."""
    function = node.function
    if not (isinstance(function, tree.MemberNode) and function.name == "dict" and last_name(function.of) == "patch"):
        return None
    first = node.arguments[0] if node.arguments else None
    is_named = isinstance(first, tree.StringNode) and first.text in ("os.environ", "environ")
    if first is None or not (is_named or is_map(first)):
        return None
    keys = [key for key in keys_of(node.arguments[1:]) if isinstance(key, tree.StringNode)]
    keys += [
        tree.StringNode(name, child.start, child.start + len(name.encode()))
        for name, child in node.named.items()
        if name not in ("clear", "values")
    ]
    return EnvironmentAccess(keys, SET)


def helper_call(node: tree.CallNode, words: LanguageTerms) -> EnvironmentAccess | None:
    """Return what a call of a helper from elsewhere probably reads."""
    name = last_name(node.function)
    key = _name_in(node.arguments[0], words) if node.arguments else None
    if name == "Env" and not node.arguments:
        return _declared(node)
    if name == "GetConnectionString" and node.arguments and isinstance(text := node.arguments[0], tree.StringNode):
        key = tree.StringNode(f"CONNECTIONSTRINGS__{text.text.upper()}", text.start, text.end)
    if name is None or key is None:
        return None
    shown, kind = _helper(node.function, name, words)
    if shown is None:
        return None
    cast = node.named.get("cast")
    if cast and cast.inner:
        kind = _KINDS.get(last_name(cast.inner[0]) or "", kind)
    return EnvironmentAccess([key], READ, _default(node) or _second(node), shown, kind)


def wrapper_call(node: tree.CallNode, words: LanguageTerms) -> EnvironmentAccess | None:
    """Return what a method that is called as one of the language's functions probably does: the same."""
    name = last_name(node.function) or ""
    alike = (
        item for item in words.functions.items() if item[0].rpartition(".")[2] in (name, name[:1].upper() + name[1:])
    )
    path, how = next(alike, ("", None))
    of = last_name(node.function.of) if isinstance(node.function, tree.MemberNode) else ""
    is_other = ("." in path or of != "") and f"{of}.{name}" != path  # not the same words, bound to something else
    found = by_pattern(how, node) if words.methods_wrap and how and not how.expands and is_other else None
    if found is None:
        return None
    return found._replace(default=_second(node) if how and how.access == READ else None, probable=name)


def setting_call(node: tree.CallNode, words: LanguageTerms) -> EnvironmentAccess | None:
    """Return what a helper probably sets, by its name: `runner.with_env("NAME", "value")`."""
    name = last_name(node.function) or ""
    key = node.arguments[0] if node.arguments else None
    plain = _WORDS.sub("_", name).lower().lstrip("_")
    is_noun = plain == "environment_variable" and len(node.arguments) > 1 and isinstance(node.function, tree.MemberNode)
    own = {path.rpartition(".")[2] for path in words.functions} | words.child_methods
    if name in own or not (is_noun or _SETTER.fullmatch(plain)) or not is_name(key, plain):
        return None
    return EnvironmentAccess([key] if key else [], SET, None, name)


def _declared(node: tree.CallNode) -> EnvironmentAccess | None:
    """Return the variables that a reader of the environment is made with: `Env(DEBUG=(bool, False))`."""
    names = [
        tree.StringNode(name, child.start, child.start + len(name.encode()))
        for name, child in node.named.items()
        if NAME.fullmatch(name)
    ]
    return EnvironmentAccess(names, READ, None, "Env") if names else None


def _helper(function: tree.Node, name: str, words: LanguageTerms) -> tuple[str | None, str]:
    """Return how a helper is called, or None if it is none, and the kind that its name says."""
    name, _, cast = name.partition("<")
    of = (last_name(function.of) or "") if isinstance(function, tree.MemberNode) and is_own(function.of) else ""
    is_library = _OF_ENVIRONMENT.fullmatch(of) is not None and of.lower() not in ("env", "environment")
    if name in {path.rpartition(".")[2] for path in words.functions} and not is_library:
        return None, ""  # the language's own, which the file has bound to something else
    kind = _KINDS.get(cast.rstrip(">"), "")
    plain = _WORDS.sub("_", name).lower().lstrip("_")
    if isinstance(function, tree.MemberNode):
        settings = last_name(function.of) if words.settings else ""
        if _OF_ENVIRONMENT.fullmatch(of) and name.lower() not in _OTHER_METHODS:
            return f"{of}.{name}", kind or _METHODS.get(name.lower(), "")
        if settings in words.settings and name.lower() in _METHODS:
            return f"{settings}.{name}", kind or _METHODS[name.lower()]
        if name in words.child_methods or name in words.methods:
            return None, ""
    if _HELPER.fullmatch(plain) or (plain == "config" and isinstance(function, tree.NameNode)):
        return name, kind or _KINDS.get(plain.rpartition("_")[2], "")
    return None, ""


def _name_in(node: tree.Node, words: LanguageTerms) -> tree.StringNode | None:
    """Return the variable that a text names: itself, or a path of a configuration's sections."""
    if not isinstance(node, tree.StringNode) or not node.exact:
        return None
    if NAME.fullmatch(node.text):
        return node
    if words.settings and re.fullmatch(r"\w+(?::\w+)+", node.text):
        return tree.StringNode(node.text.replace(":", "__").upper(), node.start, node.end)
    return None


def section(node: tree.IndexNode, words: LanguageTerms) -> EnvironmentAccess | None:
    """Return what an index of a configuration probably reads: `configuration["Database:Host"]`."""
    of = last_name(node.of)
    key = _name_in(node.key, words)
    if of is None or of not in words.settings or key is None:
        return None
    return EnvironmentAccess([key], READ, None, of)


def _default(node: tree.CallNode) -> tree.Node | None:
    return next((node.named[name] for name in _DEFAULTS if name in node.named), None)


def _second(node: tree.CallNode) -> tree.Node | None:
    return node.arguments[1] if len(node.arguments) > 1 else None


def schema(
    node: tree.CallNode, is_map: Callable[[tree.Node], bool], bound: Callable[[str], tree.Node | None]
) -> EnvironmentAccess | None:
    """Return the keys of a schema that the environment is compared with, in one call or in a value of this file."""
    if not any(is_map(value) for argument in node.arguments for value in (argument, *_values(argument))):
        return None
    shapes = [shape for argument in node.arguments for shape in _maps(argument)]
    if isinstance(node.function, tree.MemberNode) and node.function.name in _SCHEMA:
        shapes += [shape for given in _arguments(node.function.of, bound) for shape in _maps(given)]
    keys = [pair for shape in shapes for pair in _names_with_defaults(shape)]
    word = last_name(node.function) or "schema"
    names, defaults = [key for key, _ in keys], [of for _, of in keys]
    if not names or word.lower() in _MERGES:  # a copy of the environment with more in it
        return EnvironmentAccess(names, SET, None, word) if names else None
    return EnvironmentAccess(names, READ, None, word, "", defaults)


def _values(node: tree.Node) -> Sequence[tree.Node]:
    return node.inner if isinstance(node, tree.MappingNode) else ()


def _maps(node: tree.Node) -> list[tree.MappingNode]:
    """Return a map and those inside it."""
    if not isinstance(node, tree.MappingNode):
        return []
    return [node, *(inner for value in node.inner for inner in _maps(value))]


def _arguments(node: tree.Node, bound: Callable[[str], tree.Node | None]) -> Sequence[tree.Node]:
    """Return the arguments of the calls that made a value."""
    found: list[tree.Node] = []
    for _ in range(10):
        if isinstance(node, tree.NameNode):
            node = bound(node.text) or tree.Node()
        elif isinstance(node, tree.MemberNode):
            node = node.of
        elif isinstance(node, tree.CallNode):
            found += node.arguments
            node = node.function
        else:
            break
    return found


def _names_with_defaults(node: tree.MappingNode) -> Iterator[tuple[tree.StringNode, tree.Node | None]]:
    """Yield the variables of a schema, each with what it falls back to."""
    for key, value in zip_longest(node.keys, node.inner):
        if isinstance(key, tree.StringNode) and NAME.fullmatch(key.text):
            yield key, _default_of(value)


def _default_of(value: tree.Node | None) -> tree.Node | None:
    """Return the argument of `.default(…)` among the calls that describe a value."""
    default = None
    while isinstance(value, tree.CallNode) and isinstance(value.function, tree.MemberNode):
        if value.function.name == "default" and value.arguments:
            default = value.arguments[0]
        value = value.function.of
    return default
