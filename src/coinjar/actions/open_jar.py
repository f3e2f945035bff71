"""The library's entry point: open a jar, resolve a stage for a service."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from coinjar.core.definition import Definition, FromJar, FromStore, Outside
from coinjar.core.errors import CoinJarError, DecryptionError, InputError, Location, UsageError
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar, Resolved
from coinjar.core.names import suggestion
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import load, load_declarations
from coinjar.jarfile.locate import find_jar
from coinjar.system.files import guard

if TYPE_CHECKING:
    from coinjar.core.consent import Act, Gate
    from coinjar.crypto.age import Identity
    from coinjar.jarfile.identities import Ask
    from coinjar.jarfile.keyring import KeyRing
    from coinjar.sources.base import SourceContext


class Resolution(Mapping[str, Resolved]):
    """What one service gets on one stage, by variable name, in the order of declaration.

    Variables that are explicitly unset are included, with `text` None; variables that no layer sets are not.
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
        """Yield each name to export with its value, `also_as` names included."""
        for name, resolved in self._found.items():
            yield name, resolved
            for also in resolved.variable.also_as:
                yield also, resolved

    def mine(self, jar: Jar) -> list[str]:
        """Return the names whose values are the person's own."""
        own = {id(definition) for values in jar.mine.get(self.stage, {}).values() for definition in values.values()}
        return [name for name, resolved in self._found.items() if id(resolved.definition) in own]

    def environment(self) -> dict[str, str]:
        """Return the names and texts to set, secrets in clear."""
        return {name: text for name, resolved in self.exported() if (text := resolved.revealed) is not None}

    def unset(self) -> list[str]:
        """Return the names to remove from an inherited environment."""
        return [name for name, resolved in self.exported() if resolved.text is None]


class OpenJar:
    """A jar on disk. Reads it again at each call, so the result is never stale.

    `ask` asks a person for a passphrase; without it only COINJAR_PASSPHRASE unlocks a protected identity. `ask_consent`
    shows a person what the jar wants to do here, and returns the answer; without it only what has consent is done.
    """

    def __init__(
        self, folder: Path, ask: Ask | None = None, ask_consent: Callable[[Sequence[Act]], bool] | None = None
    ) -> None:
        guard(folder.parent)
        self.folder = folder
        self.ask = ask
        self._ask_consent = ask_consent
        self._identity: Identity | None = None
        self.was_interrupted = False
        """Whether an earlier change was completed for this run."""
        self._app = ""
        self.name_reader: Callable[[str], str] = lambda default: default
        """Returns the label of the jar's first reader, which may ask for it; its argument is the login name."""

    def load(self, stages: list[str] | None = None, *, mine: str | None = None) -> Jar:
        """Load the jar with the values of these stages (None: of all). Raises every fault of every file at once."""
        ring: KeyRing | None = None

        def once() -> KeyRing:
            nonlocal ring
            ring = ring or self.ring()
            return ring

        try:
            jar = load(self.folder, stages, once, mine=mine)
            self._app = jar.app
            return jar
        except CoinJarError:
            from coinjar.jarfile.journal import is_unfinished

            if is_unfinished(self.folder):
                hint = "run the command again, which completes it"
                raise InputError(
                    "a change of several files was interrupted, and the jar is partly changed",
                    hint=hint,
                    code="unfinished",
                ) from None
            raise

    def ring(self) -> KeyRing:
        """Return the present keys; an identity is looked for when the first key is needed, once."""
        from coinjar.jarfile.keyring import KeyRing

        return KeyRing(self.folder, self.identity)

    @cached_property
    def gate(self) -> Gate:
        """What decides on the jar's acts on this machine."""
        from coinjar.jarfile.consents import PersonalGate  # not needed for a jar that does nothing

        return PersonalGate(self.folder, self._acts, self._ask_consent)

    def _acts(self) -> Sequence[Act]:
        from coinjar.actions.declared_acts import declared_acts

        return declared_acts(self)

    def source_context(self, jar: Jar, stage: str | None) -> SourceContext:
        """Return the context in which sources are read."""
        from coinjar.sources.base import SourceContext

        return SourceContext(jar, self.folder, stage, self.ring, self.gate)

    def identity(self) -> Identity:
        """Return the identity of whoever runs this. Raises DecryptionError, also where it has no consent here."""
        if self._identity is None:
            from coinjar.jarfile.identities import find_identity

            self._require_decryption()
            self._identity = find_identity(self.ask)
        return self._identity

    def decrypt_as(self, app: str) -> None:
        """Decrypt with the consent for the application's earlier name, to complete its rename."""
        self._app = app

    def _require_decryption(self) -> None:
        """Require the consent to decrypt, unless the jar has nothing encrypted yet: whoever creates its first key has
        consented from then on.
        """
        if not JarLayout(self.folder).sealed_folder.exists():
            return
        from coinjar.core.consent import ConsentMissing, decrypting

        try:
            self.gate.require(decrypting(self._app or load_declarations(self.folder).app))
        except ConsentMissing as fault:  # a value that cannot be decrypted here, like one without an identity
            raise DecryptionError(fault.message, hint=fault.hint, code=fault.code) from None

    def resolver(
        self,
        stage: str,
        *,
        one_offs: Mapping[str, str] | None = None,
        mine: bool = False,
        jar: Jar | None = None,
    ) -> Resolver:
        """Return a resolver of one stage."""
        jar = jar or self.load([stage], mine=stage if mine else None)

        def fetch(outside: Outside, location: Location) -> str:
            if isinstance(outside, FromStore):
                from coinjar.actions.delivery.stored_values import fetch_stored

                return fetch_stored(self, jar, stage, outside, location)
            if isinstance(outside, FromJar):
                from coinjar.actions.other_jar import fetch_from_jar

                return fetch_from_jar(self, stage, outside, location)
            from coinjar.jarfile.external_values import fetcher

            return fetcher(self.folder, self.gate)(outside, location)

        return Resolver(jar, stage, fetch=fetch, mine=mine, one_offs=one_off_definitions(jar, one_offs or {}))

    def resolve(
        self,
        stage: str,
        *,
        service: str | None = None,
        one_offs: Mapping[str, str] | None = None,
        mine: bool = False,
    ) -> Resolution:
        """Return what `service` (None: the only one) gets on `stage`.

        `one_offs` are NAME to VALUE above every layer; `mine` includes the person's own layer. Raises
        InputError for all values that cannot be computed and all required ones that are missing, at once;
        UsageError if there are several services and none is named.
        """
        resolver = self.resolver(stage, one_offs=one_offs, mine=mine)
        service = service_or_only(resolver.jar, service)
        return Resolution(stage, service, resolver.resolve(service))


def open_jar(
    path: str | os.PathLike[str] | None = None,
    *,
    ask: Ask | None = None,
    ask_consent: Callable[[Sequence[Act]], bool] | None = None,
) -> OpenJar:
    """Return the jar at `path` (its folder, or the one that contains it); for None the one here or in a parent folder.

    `ask` asks for the passphrase of a protected identity: its argument is the identity's path; it returns a text, or
    None. `ask_consent` decides on acts without consent. Raises InputError if there is none. Nothing else is read yet.
    """
    folder = find_jar(Path.cwd(), os.fspath(path) if path is not None else None)
    return OpenJar(folder, ask, ask_consent)


def service_or_only(jar: Jar, named: str | None) -> str:
    """Return the named service, or the only one. Raises UsageError with the list if there are several."""
    if named is not None:
        return jar.service(named).name
    if len(jar.services) == 1:
        return next(iter(jar.services))
    raise UsageError("which service?", hint=f"add --service: {', '.join(jar.services)}", code="which-service")


def one_off_definitions(jar: Jar, one_offs: Mapping[str, str]) -> dict[str, Definition]:
    """Return one-off values as a layer.

    Raises UsageError for an undeclared name, and for a secret, which argv would reveal.
    """
    result = {}
    for name, text in one_offs.items():
        if name not in jar.variables:
            hint = suggestion(name, jar.variables, "only declared names can be set: `coinjar put --declare`")
            raise UsageError(f"{name} is not declared", hint=hint, code="unknown-variable")
        if jar.variables[name].secret:
            raise UsageError(
                f"{name} is a secret, which would appear in the process list",
                hint=f"set it with `coinjar put {name} --mine`",
                code="secret-in-argv",
            )
        result[name] = Definition(text, "--with", 0, 0)
    return result
