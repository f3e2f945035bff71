"""A language's terms for its environment."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import NamedTuple

from coinjar.mentions.base import READ

REFERENCE = re.compile(r"\$(?:\{(\w+)\}|(\w+))")
"""A reference as a shell writes it, in a text that a function expands."""


NAME = re.compile(r"[A-Z][A-Z0-9_]+")
"""The shape of a variable's name, where nothing else shows that it is one."""
ANY_NAME = re.compile(r"[A-Za-z_]\w*")


class AccessPattern(NamedTuple):
    """How a function uses a variable: which arguments are its name and its default.

    `all_names` if every argument is a name. `expands`: the references in a text, whose last group is the name.
    """

    name: int = 0
    default: int | None = None
    access: str = READ
    all_names: bool = False
    expands: re.Pattern[str] | None = None


class LanguageTerms(NamedTuple):
    """A language's terms. Paths are written with dots, whatever the language uses; `()` is a call without arguments."""

    maps: frozenset[str] = frozenset()
    """Paths of the environment as a mapping."""
    functions: Mapping[str, AccessPattern] = {}
    methods: Mapping[str, AccessPattern] = {}
    """Methods of a mapping."""
    members: bool = False
    """Whether `map.NAME` reads."""
    free: bool = True
    """Whether names that the file does not bind are the language's own; otherwise they must be imported."""
    builtins: frozenset[str] = frozenset()
    """Names that are always the language's own."""
    same: Mapping[str, str] = {}
    """Longer spellings of the beginning of a path."""
    modules: Mapping[str, str] = {}
    """What `require` of a module returns."""
    copies: frozenset[str] = frozenset()
    """Functions and methods whose result contains what the mapping contains."""
    conversions: frozenset[str] = frozenset()
    """Functions and methods that convert the value to another type."""
    fallbacks: frozenset[str] = frozenset()
    """Methods whose argument replaces a missing value, and functions of value and fallback."""
    asking: frozenset[str] = frozenset()
    """Functions and methods that only test whether there is a value."""
    child_maps: frozenset[str] = frozenset()
    """Members that are another program's environment."""
    child_methods: frozenset[str] = frozenset()
    """Methods that set a variable for another program, with its name first."""
    child_functions: frozenset[str] = frozenset()
    """Functions whose first argument, a mapping, is another program's environment."""
    child_pairs: frozenset[str] = frozenset()
    """Methods whose second argument is another program's environment, a list of `NAME=value`."""
    key_tests: frozenset[str] = frozenset()
    """Functions of a name and a mapping, in any order, that test whether it has the name."""
    pairs: frozenset[str] = frozenset()
    """Functions that take `NAME=value` as one text."""
    merges: frozenset[str] = frozenset()
    """Functions that put what mappings contain into their first argument."""
    apart: bool = False
    """Whether functions and imported modules have names of their own."""
    calls_apart: bool = False
    """Whether a function and a value may have the same name."""
    named_maps: re.Pattern[str] | None = None
    """What a map of an environment is called, where nothing else shows it."""
    methods_wrap: bool = False
    """Whether a method that is called as the language's own function probably does the same."""
    others: frozenset[str] = frozenset()
    """Names of a mapping that are not variables."""
    lists: frozenset[str] = frozenset()
    """Functions that return a list of their arguments."""
    settings: frozenset[str] = frozenset()
    """Names of configurations that contain the environment, with `A:B` for the variable `A__B`."""
