"""Show a file of encrypted values as text that compares well: names, masked lengths, tags that equal values share.

`git diff` and `git log -p` run it on both versions of a file, so a tag must be the same in both: it is keyed with the
stage's naming key, which only readers have.
"""

from __future__ import annotations

import hmac
from collections.abc import Iterator
from pathlib import Path

from coinjar.actions.open_jar import OpenJar
from coinjar.core.definition import SealedEntry, SealedValue, Unset
from coinjar.core.errors import CoinJarError, DecryptionError
from coinjar.core.model import Jar
from coinjar.core.references import Template
from coinjar.core.secret import reveal
from coinjar.crypto.sealed_file import parse
from coinjar.crypto.sealing import Unsealer, UnsealError, associated
from coinjar.jarfile.keyring import DataKey, KeyRing
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import load_declarations, read_bytes
from coinjar.jarfile.revision import RevisionKeyRing
from coinjar.system.files import replace_file
from coinjar.system.revisions import RevisionFiles, commits_of

ATTRIBUTE = "coins/*.coins diff=coinjar"
_TAG_DIGITS = 8


class SecretsText:
    """Writes the text of one file of encrypted values."""

    def __init__(self, opened: OpenJar, stage: str) -> None:
        self.opened = opened
        self.jar: Jar = load_declarations(opened.folder)
        self.stage = stage
        self.present = next((now.name for now in self.jar.stages.values() if stage in now.formerly), stage)
        """The stage's present name: an earlier version of the file may have another."""
        self.ring: KeyRing = opened.ring()
        self._keys: dict[str, list[DataKey]] = {}
        self._earlier: Iterator[KeyRing] | None = None

    def lines(self, data: bytes, file: str) -> Iterator[str]:
        """Yield one line per value, in the order of the file. Raises InputError for a file that is none."""
        for entry in parse(data, file):
            try:
                shown = self._shown(entry, self._value(entry))
            except CoinJarError as fault:
                shown = f"•••• ({'encrypted for others' if fault.code != 'tampered' else 'cannot be decrypted'})"
            yield f"{entry.name} ({entry.scope}): {shown}"

    def _shown(self, entry: SealedEntry, value: SealedValue) -> str:
        content = value.content
        since = f", set {value.set_on}" if value.set_on else ""
        if value.other is not None:
            which = "next" if value.other.is_next else "previous"
            since += f", being rotated ({which}: #{self._tag(reveal(value.other.text), entry.scope)})"
        if isinstance(content, Unset):
            return f"(unset){since}"
        assert isinstance(content, str | Template), "what was encrypted"
        text = content.source if isinstance(content, Template) else reveal(content)
        kind = "a text with references, " if isinstance(content, Template) else ""
        length = f"{len(text)} character{'' if len(text) == 1 else 's'}"
        return f"•••• {kind}{length} #{self._tag(text, entry.scope)}{since}"

    def _tag(self, text: str, scope: str) -> str:
        """Return a short tag of a value: HMAC-SHA-256 with the stage's naming key, else with the scope's data key."""
        naming = self.ring.naming_key(self.present) or self.ring.key(self.present, scope).key.key
        return hmac.digest(naming, b"coinjar tag 1\0" + text.encode("utf-8", "surrogatepass"), "sha256").hex()[
            :_TAG_DIGITS
        ]

    def _value(self, entry: SealedEntry) -> SealedValue:
        """Return a value, decrypted with today's key or an earlier one of version control. Raises DecryptionError."""
        known = self._keys.setdefault(entry.scope, [])
        if not known:
            known.append(self.ring.key(self.present, entry.scope))
        at = 0
        while True:
            while at < len(known):
                for key in (known[at].key, known[at].earlier):
                    if key is not None and key.id == entry.key:
                        return self._opened(Unsealer(key), entry)
                at += 1
            if not self._older_key(entry.scope, known):
                raise DecryptionError("an earlier key", hint="", code="no-key")

    def _opened(self, unsealer: Unsealer, entry: SealedEntry) -> SealedValue:
        declared = self.jar.stages.get(self.present)
        for stage in dict.fromkeys([self.stage, self.present, *(declared.formerly if declared else ())]):
            for app in (self.jar.app, *self.jar.formerly):
                try:
                    return unsealer.open(entry.sealed, associated(app, stage, entry.scope, entry.name))
                except UnsealError:
                    continue
        raise DecryptionError("it belongs elsewhere", hint="", code="tampered")

    def _older_key(self, scope: str, known: list[DataKey]) -> bool:
        """Add the next earlier key of version control, newest first; return whether there was one."""
        if self._earlier is None:
            self._earlier = self._earlier_rings()
        for ring in self._earlier:
            for stage in dict.fromkeys([self.stage, self.present]):
                try:
                    known.append(ring.key(stage, scope))
                except CoinJarError:
                    continue
                return True
        return False

    def _earlier_rings(self) -> Iterator[KeyRing]:
        files = RevisionFiles(self.opened.folder)
        for commit in reversed(commits_of(JarLayout(self.opened.folder).keys_folder)):
            yield RevisionKeyRing(self.opened.folder, self.opened.identity, files.at(commit.name))


def set_up(opened: OpenJar) -> bool:
    """Write into the jar's .gitattributes that encrypted files are shown as text; return whether it was missing."""
    path = JarLayout(opened.folder).git_attributes
    text = read_bytes(path).decode() if path.exists() else ""
    if ATTRIBUTE in text.splitlines():
        return False
    gap = "" if not text or text.endswith("\n") else "\n"
    replace_file(path, f"{text}{gap}{ATTRIBUTE}\n".encode())
    return True


def stage_of(path: Path) -> str:
    """Return the stage whose values a file has, by its name: git gives a copy the name of the original."""
    return path.name.removesuffix(".coins").rpartition("_")[2]
