"""Open the jar that a command works on, and what a service gets of it. Without the library for command lines, so that
`within` can start a program without it.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from coinjar.core.errors import CoinJarError, UsageError

if TYPE_CHECKING:
    from coinjar.actions.open_jar import OpenJar, Resolution
    from coinjar.core.consent import Act
    from coinjar.core.layers import Resolver


def require_folder() -> None:
    """Raise UsageError if the current folder was removed: no path means anything there."""
    try:
        os.getcwd()  # noqa: PTH109 - the cheapest question
    except FileNotFoundError:
        raise UsageError("the current folder does not exist any more", hint="go to another folder") from None


def opened_at(jar: str | None) -> OpenJar:
    """Return the jar in a folder, or the one that is found from here; a change of it that was interrupted is completed
    first, so that nobody reads half of it.
    """
    from coinjar.actions.open_jar import open_jar
    from coinjar.jarfile.layout import JarLayout

    opened = open_jar(jar, ask=ask_passphrase, ask_consent=_ask_consent if _is_interactive() else None)
    if JarLayout(opened.folder).journal.exists():
        try:
            opened.was_interrupted = complete_interrupted(opened)
        except CoinJarError as fault:  # what writes reports it as an error
            print_status(f"coinjar: the jar may be partly changed: {fault}")
    return opened


def _is_interactive() -> bool:
    return sys.stdin.isatty() and sys.stderr.isatty()


def _ask_consent(acts: Sequence[Act]) -> bool:
    from coinjar.cli.consent_list import ask_consent

    return ask_consent(acts)


def complete_interrupted(opened: OpenJar) -> bool:
    """Complete an earlier change of several files that was interrupted, and say so; return whether there was one."""
    from coinjar.actions.editing.interrupted import finish_earlier

    finished = finish_earlier(opened)
    if finished:
        print_status(f"An interrupted change was completed; written now: {', '.join(finished)}")
    return bool(finished) or opened.was_interrupted


def ask_passphrase(what: str) -> str | None:
    """Ask on the terminal itself, so that pipes stay free; return None without a terminal."""
    from getpass import getpass

    try:
        with open("/dev/tty", "wb"):  # noqa: PTH123 - whether there is one is all that is asked
            pass
    except OSError:
        return None
    return getpass(f"Passphrase of {what}: ")


def resolved(opened: OpenJar, stage: str, service: str | None, given: list[str] | None) -> tuple[Resolver, Resolution]:
    """Return what a service gets, for `render` and `within`: the person's own values are included, and mentioned."""
    from coinjar.actions.open_jar import Resolution, service_or_only

    resolver = opened.resolver(stage, one_offs=one_offs(given), mine=True)
    service = service_or_only(resolver.jar, service)
    resolution = Resolution(stage, service, resolver.resolve(service))
    if mine := resolution.mine(resolver.jar):
        print_status(f"coinjar: your own values are used ({stage}): {', '.join(mine)}")
    return resolver, resolution


def print_status(text: str) -> None:
    """Print a message to stderr."""
    print(text, file=sys.stderr)


def one_offs(given: list[str] | None) -> dict[str, str]:
    """Return `--with NAME=VALUE` options as a map. Raises UsageError for one without '='."""
    result = {}
    for text in given or []:
        name, equals, value = text.partition("=")
        if not equals or not name:
            raise UsageError(
                "--with requires NAME=VALUE", hint="write the name, '=' and the value, in quotes if necessary"
            )
        if name in result:
            raise UsageError(f"--with gives {name} twice", hint="omit one")
        result[name] = value
    return result
