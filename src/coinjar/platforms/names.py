"""How a platform writes the names of variables: in another case, with another separator of words, with a prefix."""

from __future__ import annotations

from coinjar.core.record import Record


class NameSpelling(Record):
    """`TICKET_DB_HOST` may be `ticket-db-host`, `ticket.db.host` or `app/TICKET_DB_HOST` on a platform."""

    is_lower: bool = False
    separator: str = "_"
    prefix: str = ""

    def there(self, name: str) -> str:
        """Return the platform's name of a variable of the jar."""
        spelled = name.replace("_", self.separator)
        return self.prefix + (spelled.lower() if self.is_lower else spelled)

    def here(self, name: str) -> str | None:
        """Return the jar's name of a platform's variable; None if no name of a jar is written like that."""
        if not name.startswith(self.prefix):
            return None
        spelled = name[len(self.prefix) :]
        result = spelled.replace(self.separator, "_")
        result = result.upper() if self.is_lower else result
        return result if self.there(result) == name else None

    def is_reversible(self, name: str) -> bool:
        """Return whether the platform's name of a variable leads back to it."""
        return self.here(self.there(name)) == name
