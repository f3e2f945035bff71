"""Definitions: a value, in one of its forms, and where it is set."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, NamedTuple, TypeAlias

from coinjar.core.errors import CoinJarError, Location
from coinjar.core.record import Record
from coinjar.core.references import Template

if TYPE_CHECKING:
    from coinjar.core.model import Resolved


class Command(Record):
    """A value that a program prints (its output without final newlines)."""

    argv: tuple[str, ...]
    may_be_empty: bool = False


class FromFile(Record):
    """A value that is a file's content, as text or in base64."""

    path: str
    base64: bool = False


class FromEnv(Record):
    """A value from the environment of the process that runs Coin Jar."""

    name: str


class FromStore(Record):
    """A value stored in etcd: the destination of jar.yaml, and the key."""

    destination: str
    key: str


class FromJar(Record):
    """A value of another application's jar: its path, the variable, the service and the stage there ("": all services,
    which must have the same value; the stage of the same name).
    """

    path: str
    name: str
    service: str = ""
    stage: str = ""


class Unset(Record):
    """No value here, and none inherited."""


class Undecryptable(Record):
    """A secret that cannot be decrypted here, and why."""

    fault: CoinJarError


UNSET = Unset()


class RotatingValue(Record):
    """The other value of a secret that is being rotated: the next or the previous one. `set_on` as in SealedValue."""

    text: str
    set_on: str
    is_next: bool


class SealedEntry(NamedTuple):
    """One encrypted value of a file: its scope, its key, and its line."""

    scope: str
    name: str
    key: str
    sealed: str
    line: int = 0

    @property
    def slot(self) -> tuple[str, str]:
        return self.scope, self.name


class SealedValue(NamedTuple):
    """What an encrypted entry contains: the value, the date when it was set (ISO 8601, UTC; "" if it is not known), and
    during a rotation the other value.
    """

    content: Content
    set_on: str = ""
    other: RotatingValue | None = None


Outside: TypeAlias = Command | FromFile | FromEnv | FromStore | FromJar


Content: TypeAlias = str | Template | Outside | Unset | Undecryptable


class Definition:
    """A value and where it is set.

    `seen` caches what a plain text resolves to; `made` caches what a text with references resolves to for given plain
    ones. `layers` fills both, for every stage and service.
    """

    __slots__ = ("column", "content", "file", "line", "made", "seen")

    def __init__(self, content: Content, file: str, line: int, column: int) -> None:
        self.content = content
        self.file = file
        self.line = line
        self.column = column
        self.seen: Resolved | None = None
        self.made: dict[tuple[Resolved, ...], Resolved] | None = None

    @property
    def location(self) -> Location:
        return Location(self.file, self.line, self.column)


class SealedDefinition(Definition):
    """An encrypted value of the jar, decrypted when its content is first read."""

    __slots__ = ("_opened", "entry", "opener")

    def __init__(self, opener: Callable[[SealedEntry], SealedValue], entry: SealedEntry, file: str) -> None:
        self.opener = opener
        self.entry = entry
        self._opened: SealedValue | None = None
        self.file = file
        self.line = entry.line
        self.column = 1
        self.seen = self.made = None

    @property
    def scope(self) -> str:
        """The scope in which the value is encrypted."""
        return self.entry.scope

    @property
    def sealed_value(self) -> SealedValue:
        """All that the entry contains."""
        if self._opened is None:
            self._opened = self.opener(self.entry)
        return self._opened

    def __getattr__(self, name: str) -> Content:
        """Decrypt the content where it is read for the first time; it is an ordinary attribute from then on."""
        if name != "content":
            raise AttributeError(name)
        opened = self._opened
        if opened is None:
            opened = self._opened = self.opener(self.entry)
        content = self.content = opened.content
        return content


def date_of(definition: Definition | None) -> str:
    """Return the date when a secret was set; "" if it is not known, as for every plain value."""
    return definition.sealed_value.set_on if isinstance(definition, SealedDefinition) else ""
