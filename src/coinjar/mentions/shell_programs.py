"""What a command of a shell script sets for the program that it starts."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from tree_sitter import Node as Syntax

from coinjar.mentions.shell_events import CHILD, NAME, READS, NameEvent

_STARTERS = frozenset("sudo doas nohup nice exec time setsid timeout stdbuf xargs chroot".split())
"""Commands that run another one, which may be `env`."""
_IN_A_CONTAINER = frozenset({"run", "exec", "create"})
"""Words by which every container engine's client starts something with an environment."""
_GIVEN = re.compile(rb"[A-Z_][A-Z0-9_]*")
_SETTING = re.compile(rb"([A-Za-z_]\w*)=")
_WITH_VALUE = re.compile(r"-[ugphrtCRTUD]|--(?:user|group|host|prompt|role|type|chdir|chroot)")
"""Options of sudo that the next word belongs to."""
_BUILD_OPTION = "--build-arg"
"""With it, every client that builds images sets a build argument."""


def started_with(data: bytes, command: str, arguments: Sequence[Syntax]) -> Iterator[NameEvent]:
    """Yield what a command and its arguments set for another program, or pass on to it."""
    if command == "sudo":
        yield from _before_a_program(data, arguments)
    if _IN_A_CONTAINER & {_word(data, word) for word in arguments[:2]}:
        yield from _given(data, arguments, ("-e", "--env"))
    yield from _given(data, arguments, (_BUILD_OPTION,))
    inner = next((at for at, word in enumerate(arguments) if _word(data, word) in ("env", "/usr/bin/env")), None)
    if command == "env":
        yield from _for_a_child(data, arguments)
    elif command in _STARTERS and inner is not None:
        yield from _for_a_child(data, arguments[inner + 1 :])


def _word(data: bytes, node: Syntax) -> str:
    return data[node.start_byte : node.end_byte].decode(errors="replace")


def _before_a_program(data: bytes, arguments: Sequence[Syntax]) -> Iterator[NameEvent]:
    """Yield what `sudo NAME=value program` sets."""
    texts = [_word(data, node) for node in arguments]
    for before, text, node in zip(["", *texts], texts, arguments, strict=False):
        if match := _SETTING.match(text.encode()):
            yield NameEvent(CHILD, match[1].decode(), node.start_byte, node.start_byte + len(match[1]))
        elif not text.startswith("-") and not _WITH_VALUE.fullmatch(before):
            return


def _given(data: bytes, arguments: Sequence[Syntax], options: tuple[str, ...]) -> Iterator[NameEvent]:
    """Yield what an option gives a container or a build: `-e NAME` (as it is here) and `-e NAME=value`."""
    texts = [_word(data, node) for node in arguments]
    for before, text, node in zip(["", *texts], texts, arguments, strict=False):
        whole = next((f"{option}=" for option in options if text.startswith(f"{option}=")), "")
        if before not in options and not whole:
            continue
        start = node.start_byte + len(whole)
        start += data[start : start + 1] in (b'"', b"'")
        if match := _GIVEN.match(data, start, node.end_byte):
            is_set = data[match.end() : match.end() + 1] == b"="
            if is_set or match.end() == node.end_byte:
                yield NameEvent(CHILD if is_set else READS, match[0].decode(), *match.span())


def _for_a_child(data: bytes, arguments: Sequence[Syntax]) -> Iterator[NameEvent]:
    """Yield what `env` sets and removes for a program, up to its name."""
    removes = False
    for node in arguments:
        text = _word(data, node)
        if removes:
            if NAME.fullmatch(text.encode()):
                yield NameEvent(CHILD, text, node.start_byte, node.end_byte)
            removes = False
        elif match := re.match(r"([A-Za-z_]\w*)=", text):
            yield NameEvent(CHILD, match[1], node.start_byte, node.start_byte + len(match[1]))
        elif match := re.fullmatch(r"--unset=([A-Za-z_]\w*)", text):
            yield NameEvent(CHILD, match[1], node.start_byte + len("--unset="), node.end_byte)
        elif text in ("-u", "--unset"):
            removes = True
        elif not text.startswith("-"):
            return
