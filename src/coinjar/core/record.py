"""Immutable value classes with named fields.

Defining one costs a tenth of a frozen dataclass, and every start defines dozens.
"""

from __future__ import annotations

from typing import Any, ClassVar, NoReturn, Self, dataclass_transform


@dataclass_transform(frozen_default=True, kw_only_default=False)
class Record:
    """The base class: fields are a subclass's annotations in order, defaults its class attributes.

    Accepts exactly its fields: a missing, extra or unknown one is a TypeError, and so is an assignment. With `kw_only`,
    which every class with more than four fields has, fields are given by name only.
    """

    _fields: ClassVar[tuple[str, ...]] = ()
    _known: ClassVar[frozenset[str]] = frozenset()
    _needed: ClassVar[frozenset[str]] = frozenset()
    _positional: ClassVar[int] = 0

    def __init_subclass__(cls, *, kw_only: bool = False) -> None:
        cls._fields = tuple(cls.__annotations__)
        cls._known = frozenset(cls._fields)
        cls._needed = frozenset(name for name in cls._fields if name not in cls.__dict__)
        cls._positional = 0 if kw_only else len(cls._fields)

    def __init__(self, *given: Any, **named: Any) -> None:  # noqa: ANN401 - the type checker knows each subclass's own
        own = self.__dict__
        if given:
            if len(given) > self._positional:
                self._refuse(f"takes {self._positional} positional fields, got {len(given)}")
            own.update(zip(self._fields, given, strict=False))
            if not named.keys().isdisjoint(own):
                self._refuse(f"got a field twice: {', '.join(sorted(named.keys() & own))}")
        own.update(named)
        keys = own.keys()
        if not keys <= self._known:
            self._refuse(f"has no field {', '.join(sorted(keys - self._known))}")
        if not keys >= self._needed:
            self._refuse(f"needs {', '.join(sorted(self._needed - keys))}")

    def _refuse(self, words: str) -> NoReturn:
        raise TypeError(f"{type(self).__name__} {words}")

    def __setattr__(self, name: str, value: object) -> NoReturn:
        self._refuse(f"is immutable ({name})")

    def __delattr__(self, name: str) -> NoReturn:
        self._refuse(f"is immutable ({name})")

    def _replace(self, **changes: Any) -> Self:  # noqa: ANN401 - as above
        if not changes.keys() <= self._known:
            self._refuse(f"has no field {', '.join(sorted(changes.keys() - self._known))}")
        made = object.__new__(type(self))
        kept = {
            name: value for name, value in self.__dict__.items() if name in self._known
        }  # no cached property of the old object
        made.__dict__.update(kept, **changes)
        return made

    def _values(self) -> tuple[object, ...]:
        return tuple(getattr(self, name) for name in self._fields)

    def __eq__(self, other: object) -> bool:
        return type(self) is type(other) and isinstance(other, Record) and self._values() == other._values()

    def __hash__(self) -> int:
        return hash((type(self), self._values()))

    def __repr__(self) -> str:
        shown = (f"{name}={value!r}" for name, value in zip(self._fields, self._values(), strict=True))
        return f"{type(self).__name__}({', '.join(shown)})"
