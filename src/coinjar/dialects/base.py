"""Dialects: the exact grammar of one consumer, written and read. Bytes in, bytes out."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import lru_cache
from itertools import repeat
from operator import itemgetter
from typing import NamedTuple, TypeAlias

from coinjar.core.errors import CoinJarError, InputError, Location, raise_all
from coinjar.core.model import Variable
from coinjar.core.utf8 import decode_file


class Entry(NamedTuple):
    """One variable to write.

    `text` is None for one that is unset on purpose; `secret` includes values computed from a secret.
    """

    name: str
    text: str | None
    variable: Variable | None = None
    secret: bool = False


class FileHeader(NamedTuple):
    """What a file is for: written in a comment at its top, where the grammar has comments."""

    app: str
    stage: str
    service: str

    def __str__(self) -> str:
        return f"{self.app}, {self.stage}, {self.service}"

    @property
    def comment(self) -> str:
        """The first line of a file whose comments begin with `#`."""
        return f"# {self}\n"


class ReadItem(NamedTuple):
    """One variable that was read. `text` is None where the file unsets it.

    `stage` and `service` are None where the file does not distinguish them; `phase` is build for variables of the build
    only; `secret` is what the file itself says, None if nothing. `reference` is the text with references to other names
    of the file (`${NAME}`, and `$$` for a dollar sign), where the reader replaced some.
    """

    name: str
    text: str | None
    location: Location
    stage: str | None = None
    service: str | None = None
    phase: str = "run"
    secret: bool | None = None
    reference: str | None = None


BYTE_ORDER_MARK, TYPED, CUT = "byte-order mark", "typed", "cut"
"""Kinds of remarks that callers distinguish: two that some callers skip; a value that probably ends too early."""


class ReadRemark(NamedTuple):
    """Something unexpected.

    `lost`: it could not be read, and there is no item for it. `kind`: set where a caller distinguishes it.
    """

    location: Location
    message: str
    lost: bool = False
    kind: str = ""


class ReadResult(NamedTuple):
    """The contents of a file, in order; a name given twice is there twice, the last one taking effect.

    `unread` are names whose values are not returned to anybody.
    """

    items: list[ReadItem]
    remarks: list[ReadRemark]
    unread: frozenset[str] = frozenset()


class ParseContext(NamedTuple):
    """What a reader needs from the jar, if there is one: grammars that join names with other words need it to split
    them.
    """

    stages: Sequence[str] = ()
    variables: Mapping[str, Variable] = {}
    separator: str = "__"


class Dialect(ABC):
    """One consumer's grammar: a module of `coinjar.dialects`, or an entry point of another package."""

    name: str
    about: str
    reads = True
    parse_context = ParseContext()
    built_in = ""
    """Its name if it is built in: those of one name can carry the same values. Others may have options for that."""
    many_stages = False
    """Whether one file can contain several stages: then `update` changes one of them and keeps the others."""

    @abstractmethod
    def unsupported_reason(self, name: str, value: str) -> str | None:
        """Return why the grammar cannot carry this value (without showing it), or None if it can."""

    def clash(self, entries: Sequence[Entry]) -> str | None:
        """Return why values that can each be carried cannot be in one file, or None if they can."""
        del entries
        return None

    @abstractmethod
    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        """Return the file. Call `unsupported_reason` and `clash` first."""

    def update(self, old: bytes, file: str, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        """Return the file with these entries, keeping its other contents where the grammar allows it."""
        del old, file  # most files are written whole
        return self.write(entries, heading)

    def read(self, data: bytes, file: str) -> ReadResult:
        """Parse a file, if `reads`. Raises InputError only if nothing of it can be read."""
        del data  # the input is not used
        raise InputError(
            f"{self.name} can only be written", hint="use another dialect", location=Location(file), code="write-only"
        )


def decode(data: bytes, file: str) -> tuple[str, list[ReadRemark]]:
    """Decode UTF-8 without a byte-order mark. Raises InputError at the first invalid byte."""
    source = decode_file(data, file)
    if source.startswith("\ufeff"):
        return source[1:], [
            ReadRemark(
                Location(file, 1, 1),
                "a byte-order mark before the first name was ignored",
                kind=BYTE_ORDER_MARK,
            )
        ]
    return source, []


Carriers: TypeAlias = Callable[[], Sequence[Dialect]]
"""Returns the dialects to suggest in an error; most files need none, and so import none."""


@lru_cache(maxsize=65536)
def _reason(dialect: Dialect, name: str, text: str | None) -> str | None:
    """Cached: services and stages share most of their values."""
    return dialect.unsupported_reason(name, text or "")


_NAME_OF, _TEXT_OF = itemgetter(0), itemgetter(1)
_SECRET_OF = itemgetter(3)
"""Of an entry, for hot loops."""
_alike: dict[str, Dialect] = {}
"""One built-in dialect of each name, which is asked for all of them."""
_carried: dict[Dialect, dict[int, Entry]] = {}
"""Entries that a dialect can carry, by identity: services share most of theirs."""
_MOST_CARRIED = 16_384
"""Of all dialects together, so that a large jar takes no more memory."""


def refuse(dialect: Dialect, entries: Sequence[Entry], carriers: Carriers = tuple) -> None:
    """Raise InputError for every entry that the grammar cannot carry, naming the `carriers` that can."""
    faults: list[CoinJarError] = []
    alike = _alike.setdefault(dialect.built_in, dialect) if dialect.built_in else dialect
    carried = _carried.setdefault(alike, {})
    if not all(map(carried.__contains__, map(id, entries))):
        new = [entry for entry in entries if id(entry) not in carried]
        _note_faults(alike, new, carriers, faults)
        if not faults:
            carried.update(zip(map(id, new), new, strict=True))
        if sum(map(len, _carried.values())) > _MOST_CARRIED:
            _carried.clear()
    clash = dialect.clash(entries)
    if clash:
        faults.append(
            InputError(
                f"{dialect.name} cannot carry them together: {clash}", hint="use posix or json", code="cannot-carry"
            )
        )
    raise_all(faults)


def _note_faults(dialect: Dialect, entries: Sequence[Entry], carriers: Carriers, faults: list[CoinJarError]) -> None:
    reasons = [*map(_reason, repeat(dialect), map(_NAME_OF, entries), map(_TEXT_OF, entries))]
    if not any(reasons):
        return
    for entry, why in zip(entries, reasons, strict=True):
        if why:
            able = [
                other.name for other in carriers() if other.unsupported_reason(entry.name, entry.text or "") is None
            ]
            names = ", ".join(able[:6]) + (f" and {len(able) - 6} more" if len(able) > 6 else "")
            hint = f"these can carry it: {names}" if able else "no dialect can carry it: change the value or the name"
            location = entry.variable.location if entry.variable else None
            faults.append(
                InputError(
                    f"{dialect.name} cannot carry {entry.name}: {why}",
                    hint=hint,
                    location=location,
                    code="cannot-carry",
                )
            )


def texts_of(entries: Iterable[Entry]) -> list[str | None]:
    """Return the texts of entries."""
    return [*map(_TEXT_OF, entries)]


def any_secret(entries: Iterable[Entry]) -> bool:
    """Return whether one of the entries is a secret."""
    return any(map(_SECRET_OF, entries))


def render(dialect: Dialect, entries: Sequence[Entry], heading: FileHeader, carriers: Carriers = tuple) -> bytes:
    """Write the entries, or raise InputError as `refuse` does."""
    refuse(dialect, entries, carriers)
    return dialect.write(entries, heading)
