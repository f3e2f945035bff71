"""Load a jar as it was at a revision: from version control alone, with the identity of today."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from coinjar.core.errors import CoinJarError, InputError, Location, raise_all
from coinjar.core.model import Jar, Layer
from coinjar.core.names import SHARED
from coinjar.jarfile.declarations import read_declarations
from coinjar.jarfile.keyring import KeyRing
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import read_plain
from coinjar.jarfile.sealed_values import merge

if TYPE_CHECKING:
    from coinjar.crypto.age import Identity


class RevisionKeyRing(KeyRing):
    """The keys of a jar at a revision; `files` are its files then, by path relative to the jar."""

    def __init__(self, folder: Path, identity: Callable[[], Identity], files: Mapping[str, bytes]) -> None:
        super().__init__(folder, identity)
        self.files = files

    def read(self, path: Path) -> bytes | None:
        return self.files.get(os.path.relpath(path, self.folder))


def load_revision(files: Mapping[str, bytes], label: str, ring: KeyRing) -> Jar:
    """Return the jar of these files, by path relative to the jar, with all layers. `label` names the revision in
    locations.

    Raises every fault of every file at once.
    """
    root = Path("jar")
    layout = JarLayout(root)

    def content(path: Path) -> bytes | None:
        return files.get(os.path.relpath(path, root))

    declarations = content(layout.declarations)
    if declarations is None:
        raise InputError(
            "there is no jar.yaml at that revision",
            hint="the jar was created later; name a later revision",
            location=Location(label),
            code="no-jar",
        )
    jar = read_declarations(declarations, f"{label}:jar.yaml")
    faults: list[CoinJarError] = []
    plain: dict[str, Layer] = {}
    names = {Path(name).stem for name in files if Path(name).parent.name in ("plain", "coins") and "/" in name}
    for layer in sorted(names, key=lambda name: (name != SHARED, name)):
        try:
            result: Layer = {}
            if (data := content(layout.plain(layer))) is not None:
                result = read_plain(jar, data, f"{label}:plain/{layer}.yaml")
            if (sealed := content(layout.sealed(layer))) is not None:
                result = merge(jar, layer, result, sealed, f"{label}:coins/{layer}.coins", lambda: ring)
            plain[layer] = result
        except CoinJarError as fault:
            faults += fault.each()
    raise_all(faults)
    return jar._replace(plain=plain)
