"""Read readers.yaml: who can decrypt which secrets, and the approvals of these lists."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

from yaml.nodes import MappingNode

from coinjar.core.errors import Location, raise_all
from coinjar.core.names import SMALL_NAME, suggestion
from coinjar.core.record import Record
from coinjar.crypto.age import recipient_fault, without_comment
from coinjar.documents.edit import Edit
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.writer import Plain
from coinjar.documents.yamltext import compose, is_null, location
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.sealed_files import read_sealed_file
from coinjar.system.files import display_path

KEYS = ("recipient", "about", "service", "offline", "opens")
_APPROVAL_LINE = re.compile(r"\s+([\w.-]+): [0-9a-f]{16} [0-9a-f]{64}\s*")
HEAD = (
    b"# Who can decrypt which secrets. `coinjar readers` changes and signs it. After a change by hand nothing is "
    b"encrypted until\n"
    b"# somebody reviews and approves it: `coinjar readers list`, then `coinjar readers vouch`.\n"
)


class Reader(Record, kw_only=True):
    """One recipient.

    `service` limits it to `all` and that service; `offline` marks a recipient that is kept for recovery.
    """

    label: str
    recipient: str
    location: Location
    opens: tuple[str, ...] = ()
    service: str | None = None
    offline: bool = False
    about: str = ""

    @property
    def row(self) -> tuple[str, ...]:
        """Return what is signed."""
        return self.label, self.recipient, self.service or "", "offline" if self.offline else ""

    def reads(self, scope: str) -> bool:
        """Return whether it gets the key of this scope."""
        return self.service is None or scope in ("all", self.service)


class Readers(Record):
    """The contents of the file.

    `approvals` maps a stage to the approval of its readers (crypto/approval.py); after a merge there may be several.
    """

    readers: Mapping[str, Reader] = {}
    approvals: Mapping[str, tuple[str, ...]] = {}

    def of(self, stage: str) -> list[Reader]:
        """Return the readers of a stage, or of part of it."""
        return [reader for reader in self.readers.values() if stage in reader.opens]

    def people(self, stage: str) -> list[Reader]:
        """Return the readers of all of a stage."""
        return [reader for reader in self.of(stage) if reader.service is None]

    def rows(self, stage: str) -> list[tuple[str, ...]]:
        return [reader.row for reader in self.of(stage)]


def load_readers(folder: Path) -> Readers:
    """Return the jar's readers; none if there is no file. Raises every fault at once."""
    path = JarLayout(folder).readers
    data = read_sealed_file(path)
    return read_readers(data, display_path(path)) if data is not None else Readers()


def read_readers(data: bytes, file: str) -> Readers:
    """Parse readers.yaml. Raises every fault at once."""
    fields = FieldReader(file)
    root = compose(data, file)
    if root is None or is_null(root):
        return Readers()
    top = fields.fields(root, "readers.yaml", ("readers", "vouched"))
    readers: dict[str, Reader] = {}
    for label, key, value in (
        fields.members(top["readers"], "'readers'") if "readers" in top and not is_null(top["readers"]) else ()
    ):
        own = fields.fields(value, f"reader '{label}'", KEYS)
        if not re.fullmatch(SMALL_NAME, label):
            fields.fault(key, "a reader's label is 1 to 63 of a-z, 0-9, '-' and '_'", "choose another label")
        recipient = fields.text(own.get("recipient"), f"recipient of {label}")
        words = recipient_fault(recipient) or (
            "it has a comment after it" if recipient != without_comment(recipient) else None
        )
        if words:
            fields.fault(
                own.get("recipient", key),
                f"the recipient of {label} is not valid: {words}",
                "`coinjar identity show` prints one",
            )
        opens = tuple(text for text, _ in fields.texts(own.get("opens"), f"opens of {label}"))
        service = fields.text(own.get("service"), f"service of {label}") or None
        if service and not re.fullmatch(SMALL_NAME, service):  # what is signed must not be written in two ways
            fields.fault(own["service"], f"the service of {label} is not a service's name", "write it as in jar.yaml")
        about = fields.text(own.get("about"), f"about of {label}")
        readers[label] = Reader(
            label=label,
            recipient=recipient,
            location=location(key, file),
            opens=opens,
            service=service,
            offline=fields.flag(own.get("offline"), "offline"),
            about=about,
        )
    vouched: dict[str, tuple[str, ...]] = {}
    node = top.get("vouched")
    if isinstance(node, MappingNode):  # a merge may leave two for one stage: `vouch` resolves that
        for key, value in node.value:
            vouched[str(key.value)] = (*vouched.get(str(key.value), ()), fields.text(value, f"vouched of {key.value}"))
    raise_all(fields.faults)
    return Readers(readers, vouched)


def differences(old: Readers, new: Readers) -> list[Edit]:
    """Return the edits that turn one into the other."""
    edits = [Edit(("vouched", name), None) for name in old.approvals if name not in new.approvals]
    edits += [
        Edit(("vouched", name), lines[0]) for name, lines in new.approvals.items() if old.approvals.get(name) != lines
    ]
    for label, reader in new.readers.items():
        before = old.readers.get(label)
        if before is None:
            edits.append(Edit(("readers", label), _fields(reader)))
        elif before.opens != reader.opens:
            edits.append(Edit(("readers", label, "opens"), [*reader.opens]))
    edits += [Edit(("readers", label), None) for label in old.readers if label not in new.readers]
    return edits


def _fields(reader: Reader) -> dict[str, Plain]:
    result: dict[str, Plain] = {"opens": [*reader.opens]}
    if reader.service:
        result["service"] = reader.service
    if reader.offline:
        result["offline"] = "true"
    return result | {
        "recipient": reader.recipient
    }  # last, as the line that no other has: otherwise a merge of two new readers would share one


def without_doubles(data: bytes) -> bytes:
    """Return the text with one approval per stage, where a merge left two: it is approved again anyway."""
    visited: set[str] = set()
    kept = []
    for line in data.decode().splitlines(keepends=True):
        match = _APPROVAL_LINE.fullmatch(line)
        if not match or match[1] not in visited:
            kept.append(line)
        if match:
            visited.add(match[1])
    return "".join(kept).encode()


def label_suggestion(label: str, readers: Readers) -> str:
    """Return the nearest label, or all of them."""
    return suggestion(label, readers.readers, f"the readers are {', '.join(readers.readers) or 'none yet'}")
