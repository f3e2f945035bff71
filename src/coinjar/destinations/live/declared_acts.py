"""The acts of live destinations: what a declaration makes this machine do, as a person reads it before consenting."""

from __future__ import annotations

import hashlib
import shlex
from pathlib import Path

from yaml.nodes import MappingNode, Node

from coinjar.core.consent import CONTACTS, READS, RUNS, Act
from coinjar.core.errors import InputError
from coinjar.destinations.base import DestinationOptions
from coinjar.documents.yamltext import one_line
from coinjar.jarfile.load import read_bytes
from coinjar.system.files import is_outside

_SSH_PROGRAMS = ("proxycommand", "localcommand", "knownhostscommand")
"""Keywords of ssh_config(5) whose value is a program that runs here; so does the rest of `Match exec`."""


def setting_words(node: Node | None, what: str) -> str:
    """Return an address or a credential as words: its text, or `the token in VARIABLE`, `the secret NAME`."""
    form, name = _form(node)
    return f"the {what} in {name}" if form == "from_env" else f"the secret {name}" if form else name


def variable_of(node: Node | None) -> str:
    """Return the variable of the environment that an option names; "" if it names none."""
    form, name = _form(node)
    return name if form == "from_env" else ""


def _form(node: Node | None) -> tuple[str, str]:
    if isinstance(node, MappingNode) and len(node.value) == 1:
        form, name = (one_line(part) for part in node.value[0])
        if form in ("from_env", "secret"):
            return form, name
    return "", one_line(node)


def content_digest(data: bytes) -> str:
    """Return the start of a content's SHA-256, so that changed content is another act."""
    return hashlib.sha256(data).hexdigest()[:12]


def file_words(instance: DestinationOptions, key: str) -> tuple[str, list[Act]]:
    """Return the words for a file that an option names, and the acts of reading it.

    A file of the repository is named with its digest, so that its content has consent too; one outside is the
    person's own, and reading it is an act.
    """
    named = one_line(instance.options.get(key))
    if is_outside(named):
        return named, [Act(READS, named, instance.destination.location)]
    data = _data(instance.render_context.root, named)
    return f"{named} ({content_digest(data)})" if data is not None else f"{named} (missing)", []


def _data(root: Path, named: str) -> bytes | None:
    try:
        return read_bytes(root / named)
    except InputError as fault:
        if fault.code == "not-found":
            return None
        raise


def kubeconfig_programs(instance: DestinationOptions, key: str) -> list[Act]:
    """Return the programs and outside files that a kubeconfig of the repository names."""
    named = one_line(instance.options.get(key))
    data = None if is_outside(named) else _data(instance.render_context.root, named)
    if not data:
        return []
    from coinjar.destinations.live.kubeconfig import named_files, named_programs

    where = instance.destination.location
    return [
        *(Act(RUNS, f"{shlex.join(argv)} ({named})", where) for argv in named_programs(data)),
        *(Act(READS, f"{path} ({named})", where) for path in named_files(data) if is_outside(path)),
    ]


def ssh_programs(instance: DestinationOptions, key: str) -> list[Act]:
    """Return the programs that a configuration of OpenSSH's client in the repository runs here.

    Raises InputError if it includes other files, which nobody would review.
    """
    named = one_line(instance.options.get(key))
    data = None if is_outside(named) else _data(instance.render_context.root, named)
    acts = []
    for line in (data or b"").decode(errors="replace").splitlines():
        keyword, _, value = line.strip().replace("=", " ", 1).replace("\t", " ").partition(" ")
        value = value.strip()
        if keyword.lower() == "include":
            raise InputError(
                f"{named} includes other files, which no consent covers",
                hint="write what it needs into one file, or name a file of your own outside the repository",
                location=instance.destination.location,
                code="destination",
            )
        if keyword.lower() in _SSH_PROGRAMS or (keyword.lower() == "match" and "exec" in value.lower()):
            acts.append(Act(RUNS, f"{value} ({keyword} in {named})", instance.destination.location))
    return acts


def contact(instance: DestinationOptions, what: str, *details: str) -> Act:
    """Return the act of contacting a server, with what is sent there to sign in."""
    return Act(CONTACTS, ", ".join([what, *(detail for detail in details if detail)]), instance.destination.location)
