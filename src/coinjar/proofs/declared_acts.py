"""The acts of proofs: whom they ask, as a person reads it before consenting."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from urllib.parse import urlsplit

from coinjar.core.consent import CONTACTS, READS, RUNS, Act
from coinjar.core.errors import CoinJarError
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar
from coinjar.core.proofs import Proof
from coinjar.core.references import Reference, ReferenceValue, Template, expand
from coinjar.destinations.live.connections import is_loopback
from coinjar.jarfile.external_values import program_words
from coinjar.system.files import is_outside


def proof_acts(proof: Proof, jar: Jar, stage: str, root: Path) -> list[Act]:  # noqa: PLR0911 - one per asker
    """Return what asking a proof on a stage does; nothing where a destination is asked, whose own acts decide."""
    resolver = Resolver(jar, stage)
    try:
        texts = {key: _shown(template, resolver, proof) for key, template in proof.question.items()}
    except CoinJarError:
        return []  # without a value it cannot be asked there
    text, where = texts.get("", ""), proof.location
    if proof.asker == "program":
        return [Act(RUNS, program_words(root, [texts[key] for key in sorted(texts, key=int)]), where)]
    if proof.asker == "http":
        return [Act(CONTACTS, _origin(text) + _sent(proof, jar), where)]
    if proof.asker == "container":
        return [Act(RUNS, program_words(root, engine_of(texts)), where)]
    if proof.asker in ("file", "log"):
        return [Act(READS, text, where)] if is_outside(text) else []
    if proof.asker == "process":
        how, named = next(iter(texts.items()))
        which = {"pid_file": "with the number in", "port": "that listen on port", "runs": "that match"}[how]
        return [
            *([Act(READS, named, where)] if how == "pid_file" and is_outside(named) else []),
            Act(READS, f"the environment of processes {which} {named}", where),
        ]
    return []


def engine_of(question: Mapping[str, str]) -> Sequence[str]:
    """Return the words of the container engine's command."""
    return question.get("engine", "podman").split()


def _shown(template: Template, resolver: Resolver, proof: Proof) -> str:
    """Return a question with its plain references replaced; secrets and what is fetched stay references.

    Raises InputError for a reference without a value.
    """

    def see(reference: Reference) -> ReferenceValue:
        name = reference.name
        if name in resolver.jar.secret_names:
            return ReferenceValue(f"${{{name}}}")
        resolved = resolver.value(name, reference.service or proof.service or "")
        if resolved.fault is not None and resolved.fault.code == "not-fetched":
            return ReferenceValue(f"${{{name}}}")
        if resolved.fault is not None:
            raise resolved.fault
        return ReferenceValue(resolved.revealed)

    return expand(template, see).text or ""


def _origin(text: str) -> str:
    if is_loopback(text):
        return "this machine over HTTP"  # whichever port: ports are values, and change with each machine
    parts = urlsplit(text)
    return f"{parts.scheme}://{parts.netloc.rpartition('@')[2]}" if parts.scheme and parts.netloc else text


def _sent(proof: Proof, jar: Jar) -> str:
    """Return the secrets that the address contains, which are sent there."""
    names = {reference.name for template in proof.question.values() for reference in template.references()}
    secret = sorted(names & jar.secret_names)
    return f", with {', '.join(secret)} in the address" if secret else ""
