"""Which values a stage may change, compared with the stage that it follows: all others need not be worked out again."""

from __future__ import annotations

from collections.abc import Container, Set

from coinjar.core.definition import Definition, SealedDefinition
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar, Scope, Variable
from coinjar.core.references import Template


class StageChanges:
    """The values of one jar, without anybody's own ones.

    `asked` are the names that are asked about (None: all): sealed values of others are not decrypted for this.
    """

    def __init__(self, jar: Jar, asked: Container[str] | None = None) -> None:
        self._readers: dict[str, set[str]] = {}
        """By name, the names whose values refer to it, in any layer."""
        special = {str(variable.name) for variable in jar.limited}
        for scope in (jar.defaults, *(scope for layer in jar.plain.values() for scope in layer.values())):
            special |= self._note(scope, asked)
        self.special = special | self._refer_to(special)
        """Names that may have another value on any stage, whatever it sets."""
        self._referring: set[str] = set().union(*self._readers.values())

    def is_plain(self, variable: Variable) -> bool:
        """Return whether a variable is not secret, and a plain text on every stage where it has a value: whoever shows
        it needs no other variable, nothing from elsewhere and no tags of secrets.
        """
        return not variable.secret and variable.name not in self.special and variable.name not in self._referring

    def _note(self, scope: Scope, asked: Container[str] | None) -> set[str]:
        """Note who refers to what in a scope; return the names whose values come from elsewhere, or are not known."""
        special = set()
        for name, definition in scope.items():
            if type(definition) is Definition and type(definition.content) is str:
                continue  # by far the most
            if isinstance(definition, SealedDefinition) and asked is not None and name not in asked:
                special.add(name)
            elif isinstance(content := definition.content, Template):
                for reference in content.references():
                    self._readers.setdefault(reference.name, set()).add(name)
            elif not isinstance(content, str):
                special.add(name)
        return special

    def _refer_to(self, names: Set[str]) -> set[str]:
        """Return the names that refer to one of these, over any number of references."""
        found: set[str] = set()
        rest = list(names & self._readers.keys())
        while rest:
            new = self._readers.get(rest.pop(), set()) - found
            found |= new
            rest += new
        return found

    def on(self, resolver: Resolver) -> set[str]:
        """Return the names whose values may differ from those of the stage that the resolver's follows, if it follows
        one, else from those without a stage.
        """
        names: set[str] = set().union(*resolver.layers[-1].values.values()) if resolver.chain else set()
        return names | self._refer_to(names) | self.special
