"""How a consumer writes the names of variables: in another case, with another separator of words, with a prefix."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from coinjar.core.record import Record

_FOREIGN = " (not a name of the jar)"


def is_foreign(name: str) -> bool:
    """Return whether a name that was read is none of a jar (`NameSpelling.read_as`)."""
    return name.endswith(_FOREIGN)


def plain_name(name: str) -> str:
    """Return a name that was read as its consumer writes it, without that mark."""
    return name.removesuffix(_FOREIGN)


class NameSpelling(Record):
    """`TICKET_DB_HOST` may be `ticket-db-host`, `ticket.db.host` or `app/TICKET_DB_HOST` elsewhere.

    `exact` maps names of the jar to names elsewhere that follow no rule (`ticket.db.jdbcUrl`).
    """

    is_lower: bool = False
    separator: str = "_"
    prefix: str = ""
    exact: Mapping[str, str] = {}

    def there(self, name: str) -> str:
        """Return the consumer's name of a variable of the jar."""
        if name in self.exact:
            return self.exact[name]
        spelled = name.replace("_", self.separator)
        return self.prefix + (spelled.lower() if self.is_lower else spelled)

    def here(self, name: str) -> str | None:
        """Return the jar's name of a consumer's variable; None if no name of a jar is written like that."""
        for own, spelled in self.exact.items():
            if spelled == name:
                return own
        if not name.startswith(self.prefix):
            return None
        spelled = name[len(self.prefix) :]
        result = spelled.replace(self.separator, "_")
        result = result.upper() if self.is_lower else result
        return result if self.there(result) == name else None

    def read_as(self, name: str) -> str:
        """Return the jar's name of a consumer's variable, or its own, marked so that it is never taken for one."""
        return self.here(name) or name + _FOREIGN

    def is_reversible(self, name: str) -> bool:
        """Return whether the consumer's name of a variable leads back to it."""
        return self.here(self.there(name)) == name

    def irreversible(self, names: Iterable[str]) -> list[str]:
        """Return the names that the consumer's names do not lead back to."""
        return [name for name in names if not self.is_reversible(name)]
