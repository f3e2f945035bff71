"""All that a jar can make this machine do, found without doing any of it."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from coinjar.actions.delivery.records import records_act
from coinjar.actions.open_jar import OpenJar
from coinjar.actions.rotation.programs import rotation_acts
from coinjar.core.consent import Act, decrypting, encrypting, ordered
from coinjar.core.definition import Definition, Outside, SealedDefinition
from coinjar.core.display import Masker
from coinjar.core.errors import CoinJarError
from coinjar.core.model import Jar
from coinjar.core.names import SHARED
from coinjar.crypto.approval import APPROVAL
from coinjar.destinations import is_live, make, make_live
from coinjar.destinations.stage_view import RenderContext
from coinjar.jarfile.external_values import acts_of
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import load_declarations, read_bytes, read_plain
from coinjar.jarfile.local_folder import own_files
from coinjar.jarfile.readers import load_readers
from coinjar.proofs.declared_acts import proof_acts
from coinjar.system.files import display_path


def declared_acts(opened: OpenJar, skipped: list[CoinJarError] | None = None) -> list[Act]:
    """Return every act of the jar, on all stages. What is faulty is left out, since it cannot act either; why is added
    to `skipped`.

    Raises what reading jar.yaml raises.
    """
    left_out: list[CoinJarError] = [] if skipped is None else skipped
    try:
        jar = opened.load()
    except CoinJarError as fault:
        jar = load_declarations(opened.folder)
        left_out += fault.each()
    acts = [*_of_values(opened, jar), *_of_destinations(opened, jar, left_out), *_of_proofs(opened, jar)]
    for variable in jar.variables.values():
        if variable.rotation is not None:
            acts += rotation_acts(variable.rotation, opened.folder)
    if jar.records is not None:
        acts.append(records_act(jar))
    if jar.secret_names or JarLayout(opened.folder).sealed_folder.is_dir():
        acts.append(decrypting(jar.app))
        acts += _of_readers(opened, jar, left_out)
    return ordered(acts)


def _of_values(opened: OpenJar, jar: Jar) -> Iterator[Act]:
    base = opened.folder.resolve().parent
    for definition in _definitions(opened, jar):
        if not isinstance(definition, SealedDefinition) and isinstance(definition.content, Outside):
            yield from acts_of(definition.content, base, definition.location)


def _definitions(opened: OpenJar, jar: Jar) -> Iterator[Definition]:
    yield from jar.defaults.values()
    for layer in jar.plain.values():
        for scope in layer.values():
            yield from scope.values()
    for path in _own_files(opened):
        try:
            own = read_plain(jar, read_bytes(path), display_path(path))
        except CoinJarError:
            continue  # the command that uses it reports the fault
        for scope in own.values():
            yield from scope.values()


def _of_readers(opened: OpenJar, jar: Jar, left_out: list[CoinJarError]) -> Iterator[Act]:
    """Return for whom secrets are encrypted, by the fingerprints in readers.yaml."""
    try:
        readers = load_readers(opened.folder)
    except CoinJarError as fault:
        left_out += fault.each()
        return
    for stage in dict.fromkeys((SHARED, *jar.stage_names(), *readers.approvals)):  # also of one renamed by hand
        for line in readers.approvals.get(stage, ()):
            if match := APPROVAL.fullmatch(line):
                yield encrypting(stage, match[1])


def _own_files(opened: OpenJar) -> list[Path]:
    try:
        return own_files(opened.folder)
    except CoinJarError:
        return []  # a folder that is refused is not used, so nothing in it can act


class _Closed:
    """A gate without any consent: what is found here must not depend on earlier ones."""

    def require(self, *acts: Act) -> None:
        """Accept, because nothing is done with what is found."""

    def has_consent(self, act: Act) -> bool:
        """Return no."""
        del act
        return False

    def record(self, *acts: Act) -> None:
        """Store nothing."""


def _context(opened: OpenJar, jar: Jar) -> RenderContext:
    return RenderContext(jar, opened.folder, Masker(), None, _Closed())


def _of_destinations(opened: OpenJar, jar: Jar, left_out: list[CoinJarError]) -> Iterator[Act]:
    for destination in jar.destinations.values():
        try:
            instance = (make_live if is_live(destination) else make)(destination, _context(opened, jar))
            yield from instance.acts()
        except CoinJarError as fault:
            left_out += fault.each()


def _of_proofs(opened: OpenJar, jar: Jar) -> Iterator[Act]:
    root = opened.folder.parent
    for proof in jar.proofs.values():
        for stage in jar.stage_names():
            if proof.is_for(jar.chain(stage)):
                yield from proof_acts(proof, jar, stage, root)
