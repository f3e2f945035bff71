"""Create an identity, or show its recipient."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from coinjar.cli.opening import ask_passphrase, print_status
from coinjar.core.errors import DecryptionError, UsageError


def new(
    out: Annotated[
        Path | None,
        typer.Option(
            "--out", metavar="FILE", help="Where to create it. Default: identity in your configuration folder."
        ),
    ] = None,
    passphrase: Annotated[
        bool,
        typer.Option(
            "--passphrase",
            help="Protect the file with a passphrase (asked for, or from COINJAR_PASSPHRASE). Default: no passphrase.",
        ),
    ] = False,
) -> None:
    """Create an identity (age, X25519), readable by you alone. The line on stdout is its recipient, which is public.

    The identity decrypts secrets: never put it into a repository, a chat or an image. Share the recipient: somebody who
    can decrypt a stage adds it with `coinjar readers add`.
    """
    from coinjar.actions.secrets.identities import make_identity
    from coinjar.system.files import home_path

    path, recipient = make_identity(out, _new_passphrase() if passphrase else None)
    print_status(
        f"Created {home_path(path)} (mode 0600{', protected by the passphrase' if passphrase else ''}). Its recipient:"
    )
    print(recipient)


def show() -> None:
    """Print the recipient of the identity in use, and its path on stderr."""
    from coinjar.jarfile.identities import find_identity

    identity = find_identity(ask_passphrase)
    print_status(f"{identity.where}:")
    for recipient in identity.recipients:
        print(recipient)


def _new_passphrase() -> str:
    from coinjar.system.process_secrets import PASSPHRASE, taken

    given = taken(PASSPHRASE)
    if given is not None:
        return given
    first = ask_passphrase("the new identity")
    if first is None:
        raise DecryptionError(
            "there is no terminal to ask for a passphrase", hint="set COINJAR_PASSPHRASE", code="no-identity"
        )
    if first != ask_passphrase("the new identity, again"):
        raise UsageError("the two passphrases differ", hint="try again")
    return first


COMMANDS = {
    "new": (new, "Create an identity, readable by you alone."),
    "show": (show, "Print the recipient of the identity in use."),
}
