"""Open the records of a jar, and compute their fingerprints."""

from __future__ import annotations

import hmac
import os
from typing import TYPE_CHECKING

from coinjar.actions.open_jar import OpenJar
from coinjar.core.consent import CONTACTS, Act
from coinjar.core.errors import InputError
from coinjar.core.model import Jar
from coinjar.core.secret import reveal
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.local_folder import require_own_local

if TYPE_CHECKING:
    from coinjar.core.recorded_names import RecordedNames
    from coinjar.records.store import RecordStore


def open_records(opened: OpenJar, jar: Jar, *, make: bool = False) -> RecordStore:
    """Return the records: in `.local/`, or where jar.yaml says.

    Without `make`, none are created. Raises InputError, ExternalError.
    """
    from coinjar.records.store import RecordStore  # which a check without records need not wait for

    if jar.records is None:
        path = JarLayout(opened.folder).records
        require_own_local(opened.folder)
        return RecordStore(jar.recorded, path if make or path.exists() else None)
    opened.gate.require(records_act(jar))
    password = None
    if jar.records.password:
        password = os.environ.get(jar.records.password)
        if not password:
            hint = f"set {jar.records.password} where coinjar runs"
            raise InputError(
                f"the environment has no {jar.records.password}",
                hint=hint,
                location=jar.records.location,
                code="no-token",
            )
    return RecordStore(jar.recorded, jar.records.address, password=password, origin=jar.records.location)


def records_act(jar: Jar) -> Act:
    """Return the act of using shared records."""
    assert jar.records is not None
    password = f", with the password in the variable {jar.records.password}" if jar.records.password else ""
    return Act(CONTACTS, f"{jar.records.address} (records of deliveries){password}", jar.records.location)


def fingerprint(key: bytes, names: RecordedNames, where: tuple[str, str, str], name: str, text: str) -> str:
    """Return the HMAC-SHA-256 of a value with a stage's naming key, for one variable of one target (stage,
    destination, key): it reveals nothing.
    """
    stage, destination, target = where
    place = names.app, names.stage(stage), destination, names.target(target)
    message = "\0".join(("coinjar fingerprint 1", *place, name, reveal(text)))
    return hmac.digest(key, message.encode("utf-8", "surrogatepass"), "sha256").hex()
