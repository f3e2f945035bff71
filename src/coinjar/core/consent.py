"""What a jar can make this machine do, and the person's permission for it.

A jar that came with a repository is untrusted: whatever it declares can name programs, servers, variables and files.
Each such thing is an `Act`, whose line is what a person reads, consents to and withdraws: nothing that acts differently
has the same line.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple, Protocol

from coinjar.core.display import visible
from coinjar.core.errors import InputError, Location

RUNS, CONTACTS, READS, WRITES, DECRYPTS, ENCRYPTS = "runs", "contacts", "reads", "writes", "decrypts", "encrypts"
VERBS = (RUNS, CONTACTS, READS, WRITES, DECRYPTS, ENCRYPTS)
"""In the order of display."""
DIGEST = "COINJAR_CONSENT"
"""The variable with the digest of the acts that have consent, for machines."""


class Act(NamedTuple):
    """Something that a jar makes this machine do: one of VERBS, and to what. `location` is where it is declared."""

    verb: str
    object: str
    location: Location | None = None

    @property
    def line(self) -> str:
        """What is shown, stored, and compared."""
        return f"{self.verb} {visible(self.object)}"


def decrypting(app: str) -> Act:
    """Return the act of using the person's identity for the values of an application."""
    return Act(DECRYPTS, f"the values of the application {app}, with your identity")


def encrypting(stage: str, approval: str) -> Act:
    """Return the act of encrypting for the readers of a stage, whose list was approved with a key of this fingerprint:
    whoever has that key decides for whom.
    """
    return Act(ENCRYPTS, f"secrets of {stage}, for the readers approved with the key {approval}")


class Gate(Protocol):
    """Decides whether an act may happen; everything that acts asks it first."""

    def require(self, *acts: Act) -> None:
        """Return if all have consent, or the person consents now. Raises ConsentMissing otherwise."""

    def has_consent(self, act: Act) -> bool:
        """Return whether an act has consent already; nobody is asked."""

    def record(self, *acts: Act) -> None:
        """Store consent to what the person has decided in another way, for example by creating a key."""


class ConsentMissing(InputError):
    """The person who runs this has not consented to it for this jar (exit 3)."""

    def __init__(self, acts: Sequence[Act], hint: str) -> None:
        first = acts[0]
        more = f", and {len(acts) - 1} more" if len(acts) > 1 else ""
        super().__init__(
            f"this needs your consent: {first.line}{more}",
            hint=hint,
            location=first.location,
            code="no-consent",
        )


def ordered(acts: Iterable[Act]) -> list[Act]:
    """Return the acts without duplicates, in the order of display."""
    first: dict[str, Act] = {}
    for act in acts:
        first.setdefault(act.line, act)
    return sorted(first.values(), key=lambda act: (VERBS.index(act.verb), act.object))


def digest(acts: Iterable[Act]) -> str:
    """Return the digest of a set of acts: the first 40 digits of the SHA-256 of its sorted lines."""
    import hashlib  # where machines consent by digest; not where a person waits for a program

    return hashlib.sha256("".join(f"{line}\n" for line in sorted({act.line for act in acts})).encode()).hexdigest()[:40]
