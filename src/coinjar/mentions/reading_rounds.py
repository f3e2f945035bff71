"""Read a program in rounds: what one round finds relevant is in the tree of the next."""

from __future__ import annotations

from collections.abc import Callable

from coinjar.mentions import tree
from coinjar.mentions.base import TextMentions
from coinjar.mentions.language_terms import LanguageTerms
from coinjar.mentions.program_reader import ProgramReader

_ROUNDS = 4


def read_again(
    build_tree: Callable[[set[str]], tree.Node], words: LanguageTerms, helpers: frozenset[str]
) -> TextMentions:
    """Read a tree that contains only the surroundings of the relevant words; then again with the names that this found
    relevant as well.
    """
    also: set[str] = set(helpers)
    for _ in range(_ROUNDS):
        reader = ProgramReader(words, helpers)
        mentions = reader.read(build_tree(also))
        if reader.wanted <= also:
            break
        also |= reader.wanted
    return mentions
