"""Somebody who may commit: what they write into a repository."""

from __future__ import annotations

import re

import pyrage

from coinjar.crypto.approval import ApprovalKey, approve
from coinjar.jarfile.readers import load_readers
from tests.conftest import RECIPIENT, Coinjar

ATTACKER = pyrage.x25519.Identity.generate()


def line_of(cj: Coinjar, slot: str, stage: str = "prod") -> str:
    return next(line for line in cj.read(f"jar/coins/{stage}.coins").splitlines() if line.startswith(f"{slot} "))


def replaced(cj: Coinjar, old: str, new: str, stage: str = "prod") -> None:
    path = f"jar/coins/{stage}.coins"
    cj.write({path: cj.read(path).replace(old, new)})


def swapped_approval(cj: Coinjar) -> None:
    key = ApprovalKey(b"\xab" * 32)
    recipients = [pyrage.x25519.Recipient.from_str(RECIPIENT), ATTACKER.to_public()]
    path = cj.folder / "jar/coins/approvals/prod.age"
    path.write_bytes(pyrage.encrypt(key.text(), recipients, armored=True))
    line = approve(key.key, "trial", "prod", load_readers(cj.folder / "jar").rows("prod"))
    cj.write({"jar/readers.yaml": re.sub(r"(  prod: )\w+ \w+", rf"\g<1>{line}", cj.read("jar/readers.yaml"))})
