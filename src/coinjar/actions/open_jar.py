"""The library's door: open a jar, resolve a stage for a service."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from coinjar.core.errors import CoinJarError, InputError, Location, UsageError
from coinjar.core.layers import Resolver
from coinjar.core.model import Definition, FromStore, Jar, Outside, Resolved
from coinjar.core.names import suggestion
from coinjar.jarfile.load import load
from coinjar.jarfile.locate import find_jar

if TYPE_CHECKING:
    from coinjar.crypto.age import Identity
    from coinjar.jarfile.identities import Ask
    from coinjar.jarfile.keyring import KeyRing


class Resolution(Mapping[str, Resolved]):
    """What one service sees on one stage, by variable name, in the order of declaration.

    Variables that are unset on purpose are in it, with `text` None; those nobody gave a value are not.
    """

    def __init__(self, stage: str, service: str, result: dict[str, Resolved]) -> None:
        self.stage = stage
        self.service = service
        self._found = result

    def __getitem__(self, name: str) -> Resolved:
        return self._found[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._found)

    def __len__(self) -> int:
        return len(self._found)

    def exported(self) -> Iterator[tuple[str, Resolved]]:
        """Each name to hand out with its value, second spellings (`also_as`) included."""
        for name, resolved in self._found.items():
            yield name, resolved
            for also in resolved.variable.also_as:
                yield also, resolved

    def mine(self, jar: Jar) -> list[str]:
        """The names whose values are the person's own."""
        own = {id(definition) for values in jar.mine.get(self.stage, {}).values() for definition in values.values()}
        return [name for name, resolved in self._found.items() if id(resolved.definition) in own]

    def environment(self) -> dict[str, str]:
        """The names and texts to set, secrets readable."""
        return {name: text for name, resolved in self.exported() if (text := resolved.revealed) is not None}

    def unset(self) -> list[str]:
        """The names to take out of an inherited environment."""
        return [name for name, resolved in self.exported() if resolved.text is None]


class OpenJar:
    """A jar on disk. Reads it anew at each call, so it never shows what is no longer there.

    `ask` gets a passphrase from a person; without it only COINJAR_PASSPHRASE opens a protected identity.
    """

    def __init__(self, folder: Path, ask: Ask | None = None) -> None:
        self.folder = folder
        self.ask = ask
        self._identity: Identity | None = None
        self.name_reader: Callable[[str], str] = lambda default: default
        """Gives the label of the jar's first reader, which may be asked for; it is given the login name."""

    def load(self, stages: list[str] | None = None, *, mine: str | None = None) -> Jar:
        """Its facts, with the values of these stages (None: of all). Raises every fault of every file at once."""
        ring: KeyRing | None = None

        def once() -> KeyRing:
            nonlocal ring
            ring = ring or self.ring()
            return ring

        try:
            return load(self.folder, stages, once, mine=mine)
        except CoinJarError:
            from coinjar.jarfile.journal import is_unfinished

            if is_unfinished(self.folder):
                hint = "`coinjar rename` finishes it"
                raise InputError(
                    "a rename was cut short, and the jar is half old and half new", hint=hint, code="unfinished"
                ) from None
            raise

    def ring(self) -> KeyRing:
        """The keys as they lie there now; an identity is looked for when the first is needed, once."""
        from coinjar.jarfile.keyring import KeyRing

        return KeyRing(self.folder, self.identity)

    def identity(self) -> Identity:
        """Whoever runs this. Raises DecryptionError."""
        if self._identity is None:
            from coinjar.jarfile.identities import find_identity

            self._identity = find_identity(self.ask)
        return self._identity

    def resolver(
        self,
        stage: str,
        *,
        one_offs: Mapping[str, str] | None = None,
        mine: bool = False,
        allow_commands: bool = False,
        jar: Jar | None = None,
    ) -> Resolver:
        """One stage, ready to be asked for values."""
        jar = jar or self.load([stage], mine=stage if mine else None)

        def fetch(outside: Outside, location: Location) -> str:
            if isinstance(outside, FromStore):
                from coinjar.actions.delivery.stored_values import fetch_stored

                return fetch_stored(self, jar, stage, outside, location)
            from coinjar.jarfile.external_values import fetcher

            return fetcher(self.folder, allow_commands=allow_commands)(outside, location)

        return Resolver(jar, stage, fetch=fetch, mine=mine, one_offs=one_off_definitions(jar, one_offs or {}))

    def resolve(
        self,
        stage: str,
        *,
        service: str | None = None,
        one_offs: Mapping[str, str] | None = None,
        mine: bool = False,
        allow_commands: bool = False,
    ) -> Resolution:
        """What `service` (None: the only one) sees on `stage`.

        `one_offs` are NAME to VALUE above every layer; `mine` lets the person's own layer speak. Raises
        InputError for every value that cannot be worked out and every required one that is missing, at once;
        UsageError if there are several services and none is named.
        """
        resolver = self.resolver(stage, one_offs=one_offs, mine=mine, allow_commands=allow_commands)
        service = service_or_only(resolver.jar, service)
        return Resolution(stage, service, resolver.resolve(service))


def open_jar(path: str | os.PathLike[str] | None = None, *, ask: Ask | None = None) -> OpenJar:
    """The jar at `path` (its folder, or the one that holds it); for None the one here or in a folder above.

    `ask` gets the passphrase of a protected identity: it is given the identity's place, and returns a text, or None.
    Raises InputError if there is none. Nothing else is read yet.
    """
    return OpenJar(find_jar(Path.cwd(), os.fspath(path) if path is not None else None), ask)


def service_or_only(jar: Jar, named: str | None) -> str:
    """The service that is named, or the only one. Raises UsageError with the list if there are several."""
    if named is not None:
        return jar.service(named).name
    if len(jar.services) == 1:
        return next(iter(jar.services))
    raise UsageError("which service?", hint=f"add --service: {', '.join(jar.services)}", code="which-service")


def one_off_definitions(jar: Jar, one_offs: Mapping[str, str]) -> dict[str, Definition]:
    """One-off values as a layer. Raises UsageError for an undeclared name, and for a secret, which argv would show to others."""
    result = {}
    for name, text in one_offs.items():
        if name not in jar.variables:
            hint = suggestion(name, jar.variables, "only declared names can be set: `coinjar put --declare`")
            raise UsageError(f"{name} is not declared", hint=hint, code="unknown-variable")
        if jar.variables[name].secret:
            raise UsageError(
                f"{name} is a secret, and would show in the list of processes",
                hint=f"put it: `coinjar put {name} --mine`",
                code="secret-in-argv",
            )
        result[name] = Definition(text, "--with", 0, 0)
    return result
