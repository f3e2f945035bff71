"""Where everything in a jar is: the only module that knows the names of its files and folders."""

from __future__ import annotations

from pathlib import Path

from coinjar.core.names import SHARED

DECLARATIONS = "jar.yaml"
SEALED, KEYS = "coins", "keys"
"""The folder of encrypted values, and below it the folder of their keys."""


class JarLayout:
    """The paths of a jar; `folder` is the folder that contains jar.yaml. A layer is a stage or `shared`."""

    __slots__ = ("folder",)

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    # -- committed

    @property
    def declarations(self) -> Path:
        """The declarations, jar.yaml."""
        return self.folder / DECLARATIONS

    def plain(self, layer: str) -> Path:
        """Return the file of a layer's plain values."""
        return self.folder / "plain" / f"{layer}.yaml"

    def plain_files(self) -> list[Path]:
        """Return the existing files of plain values."""
        return sorted(self.plain(SHARED).parent.glob("*.yaml"))

    @property
    def readers(self) -> Path:
        """The readers of each stage, readers.yaml."""
        return self.folder / "readers.yaml"

    @property
    def sealed_folder(self) -> Path:
        """The folder of encrypted values and their keys."""
        return self.folder / SEALED

    def sealed(self, layer: str) -> Path:
        """Return the file of a layer's encrypted values."""
        return self.sealed_folder / f"{layer}.coins"

    @property
    def keys_folder(self) -> Path:
        """The folder of data keys."""
        return self.sealed_folder / KEYS

    def key(self, layer: str, scope: str) -> Path:
        """Return the file of a data key, encrypted for its readers."""
        return self.keys_folder / f"{layer}.{scope}.age"

    @property
    def approvals_folder(self) -> Path:
        """The folder of approval keys."""
        return self.sealed_folder / "approvals"

    def approval_key(self, layer: str) -> Path:
        """Return the file of the key that approves a layer's readers, encrypted for the readers of all of it."""
        return self.approvals_folder / f"{layer}.age"

    @property
    def platforms_folder(self) -> Path:
        """The folder of descriptions of platforms."""
        return self.folder / "platforms"

    def platform(self, name: str) -> Path:
        """Return the file of a platform's description."""
        return self.platforms_folder / f"{name}.yaml"

    def platform_files(self) -> list[Path]:
        """Return the existing descriptions of platforms."""
        return sorted(self.platforms_folder.glob("*.yaml"))

    def runner(self, name: str) -> Path:
        """Return the file of a runner's description."""
        return self.folder / "runners" / f"{name}.yaml"

    def runner_files(self) -> list[Path]:
        """Return the existing descriptions of runners."""
        return sorted((self.folder / "runners").glob("*.yaml"))

    @property
    def git_attributes(self) -> Path:
        """How git merges the files of the jar."""
        return self.folder / ".gitattributes"

    @property
    def git_ignore(self) -> Path:
        """What git ignores."""
        return self.folder / ".gitignore"

    # -- not committed

    @property
    def local(self) -> Path:
        """The folder of everything that belongs to this copy of the jar alone."""
        return self.folder / ".local"

    def own(self, stage: str) -> Path:
        """Return the file of the user's own values of a stage."""
        return self.local / f"{stage}.yaml"

    def own_files(self) -> list[Path]:
        """Return the existing files of the user's own values."""
        return sorted(self.local.glob("*.yaml"))

    @property
    def journal(self) -> Path:
        """The folder of an unfinished change of several files."""
        return self.local / "unfinished-change"

    @property
    def naming_key(self) -> Path:
        """The naming key of a jar without encrypted values."""
        return self.local / "naming.key"

    @property
    def mentions(self) -> Path:
        """The cache of mentions in code."""
        return self.local / "mentions.json"

    @property
    def records(self) -> Path:
        """The records of deliveries, if they are not shared."""
        return self.local / "deliveries.sqlite"
