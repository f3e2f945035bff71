"""What POSIX shells read: a file to source, and a program that sets the variables and executes its arguments.

Written in single quotes (IEEE 1003.1, 2.2.2), which keep everything but NUL. Read without running anything.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import NamedTuple, TypeAlias

from coinjar.core.errors import location_of
from coinjar.core.names import quoted_name, shell_can_set
from coinjar.core.value_text import not_for_environments
from coinjar.dialects.base import Dialect, Entry, FileHeader, ReadItem, ReadRemark, ReadResult, decode

_KEPT_BY_SHELLS = frozenset(
    "_ BASHOPTS BASHPID BASH_ARGC BASH_ARGV BASH_COMMAND BASH_LINENO BASH_SOURCE BASH_SUBSHELL BASH_VERSINFO DIRSTACK "
    "EPOCHREALTIME EPOCHSECONDS EUID FUNCNAME GROUPS HISTCMD LINENO OPTIND PPID RANDOM SECONDS SHELLOPTS SHLVL "
    "SRANDOM UID".split()
)


def quote(value: str) -> str:
    """Return the text as one shell word."""
    return "'" + value.replace("'", "'\\''") + "'"


class PosixDialect(Dialect):
    """`export NAME='value'` lines for dash, bash and busybox sh."""

    name = "posix"
    about = "a file for sh to source, with export"

    def unsupported_reason(self, name: str, value: str) -> str | None:
        if not shell_can_set(name):
            return "shells cannot set this name"
        if name in _KEPT_BY_SHELLS:
            return "shells reserve this name"
        return not_for_environments(value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        return (heading.comment + self.lines(entries)).encode()

    def lines(self, entries: Sequence[Entry]) -> str:
        """Return the assignments alone."""
        return "".join(
            f"unset {entry.name}\n" if entry.text is None else f"export {entry.name}={quote(entry.text)}\n"
            for entry in entries
        )

    def read(self, data: bytes, file: str) -> ReadResult:
        source, remarks = decode(data, file)
        return _AssignmentParser(source, file, remarks).read()


_USAGE = '[ $# -gt 0 ] || { echo "usage: $0 PROGRAM [ARGUMENT...]" >&2; exit 2; }'


class ExecScriptDialect(PosixDialect):
    """A self-contained sh program."""

    name = "exec-script"
    about = "an sh program that sets the variables and executes its arguments"
    reads = False
    keep_set = False
    """Whether what the environment already sets wins."""

    def lines(self, entries: Sequence[Entry]) -> str:
        if not self.keep_set:
            return super().lines(entries)
        kept = (  # the assignment on a line of its own, as readers of `posix` find it
            f'if [ -z "${{{entry.name}+x}}" ]; then\nexport {entry.name}={quote(entry.text)}\nfi\n'
            for entry in entries
            if entry.text is not None
        )
        return "".join(kept)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        return self.script(entries, heading, "")

    def script(self, entries: Sequence[Entry], heading: FileHeader, before: str) -> bytes:
        """Return the program; the lines of `before` run with the variables set, just before it executes its
        arguments.
        """
        top = f"#!/bin/sh\n# {heading}: sets the variables and executes the given program.\n{_USAGE}\n"
        return (top + self.lines(entries) + before + 'exec "$@"\n').encode()

    def sealed(self, entries: Sequence[Entry], heading: FileHeader, wrap: Callable[[bytes], bytes]) -> bytes:
        """Return the program with all values in one age file, which `wrap` makes (in armor); the age program decrypts
        it at run time.
        """
        words = str(heading)
        return SEALED_SCRIPT.format(
            heading=words, usage=_USAGE, sealed=wrap(self.lines(entries).encode()).decode().strip()
        ).encode()


SEALED_SCRIPT = """\
#!/bin/sh
# {heading}: decrypts its variables with age and executes the given program.
# Needs sh, age, and the identity: a file named by COINJAR_IDENTITY_FILE, or the key itself in COINJAR_IDENTITY.
{usage}
{{ set +x; }} 2>/dev/null # a trace would show them
coinjar_sealed='{sealed}'
if [ -n "${{COINJAR_IDENTITY-}}" ]; then
  coinjar_lines=$(printf '%s\\n' "$COINJAR_IDENTITY" | age --decrypt --identity - /dev/fd/3 3<<SEALED
$coinjar_sealed
SEALED
  ) || exit 4
else
  : "${{COINJAR_IDENTITY_FILE:?names the identity that decrypts the variables}}"
  coinjar_lines=$(printf '%s\\n' "$coinjar_sealed" | age --decrypt --identity "$COINJAR_IDENTITY_FILE") || exit 4
fi
unset COINJAR_IDENTITY COINJAR_IDENTITY_FILE coinjar_sealed
eval "$coinjar_lines
unset coinjar_lines"
exec "$@"
"""


_BLANK = re.compile(r"(?:[ \t;]|\\\n)*")
_GAP = re.compile(r"(?:[ \t]|\\\n)*")
_ASSIGN = re.compile(r"([^\s=+'\"\\;#&|<>()$`]*)(\+?=)")
_WORD = re.compile(r"[^ \t\n'\"\\;&|<>()$`]+")
_PARAMETER = re.compile(r"\$(?:([A-Za-z_][A-Za-z0-9_]*)|\{([A-Za-z_][A-Za-z0-9_]*)\})")


class _NeedsShell(Exception):
    """The rest of the line needs a shell."""


class _Expansion(NamedTuple):
    """A reference that was replaced by a value."""

    name: str
    value: str


_Pieces: TypeAlias = "list[str | _Expansion]"


def _joined(pieces: _Pieces) -> str:
    return "".join(piece if isinstance(piece, str) else piece.value for piece in pieces)


def _as_reference(pieces: _Pieces) -> str | None:
    """Return the text with references instead of their values; None if there were none."""
    if all(isinstance(piece, str) for piece in pieces):
        return None
    return "".join(piece.replace("$", "$$") if isinstance(piece, str) else f"${{{piece.name}}}" for piece in pieces)


class _AssignmentParser:
    """Reads assignments; everything else is reported and skipped to the end of its line."""

    def __init__(self, source: str, file: str, remarks: list[ReadRemark]) -> None:
        self.text = source
        self.file = file
        self.at = 0
        self.items: list[ReadItem] = []
        self.remarks = remarks
        self.values: dict[str, str] = {}

    def remark(self, message: str, at: int | None = None, *, lost: bool = False) -> None:
        self.remarks.append(ReadRemark(location_of(self.text, self.at if at is None else at, self.file), message, lost))

    def read(self) -> ReadResult:
        while self.at < len(self.text):
            self._skip(_BLANK)
            if self.text.startswith("#", self.at):
                self._to_line_end()
            elif self.text.startswith("\n", self.at):
                self.at += 1
            elif self.at < len(self.text):
                self._command()
        return ReadResult(self.items, self.remarks)

    def _skip(self, pattern: re.Pattern[str]) -> None:
        match = pattern.match(self.text, self.at)
        self.at = match.end() if match else self.at

    def _to_line_end(self) -> None:
        end = self.text.find("\n", self.at)
        self.at = len(self.text) if end < 0 else end

    def _command(self) -> None:
        start, before = self.at, len(self.items)
        word = _WORD.match(self.text, self.at)
        verb = word.group() if word else ""
        try:
            if verb in ("export", "unset", "set", "readonly"):
                self.at += len(verb)
                self._arguments(verb)
            else:
                self._assignments()
        except _NeedsShell as fault:
            del self.items[before:]
            self.values = {}
            for item in self.items:
                self.values.pop(item.name, None)
                self.values |= {item.name: item.text} if item.text is not None else {}
            self.remark(f"ignored: this line {fault}", start, lost=True)
            self._to_line_end()

    def _assignments(self) -> None:
        """Read `A=1 B=2`; before a program they are for that program alone."""
        if not self._assignment():
            raise _NeedsShell("is not an assignment")
        while True:
            self._skip(_GAP)
            if self.at >= len(self.text) or self.text[self.at] in "\n;#":
                return
            if not self._assignment():
                raise _NeedsShell("would run a program: quote a value that contains a space")

    def _arguments(self, verb: str) -> None:
        while True:
            self._skip(_GAP)
            if self.at >= len(self.text) or self.text[self.at] in "\n;#":
                return
            if verb in ("export", "readonly") and self._assignment():
                continue
            start = self.at
            name = _joined(self._word())
            if verb == "unset" and shell_can_set(name):
                self.values.pop(name, None)
                self.items.append(ReadItem(name, None, location_of(self.text, start, self.file)))

    def _assignment(self) -> bool:
        match = _ASSIGN.match(self.text, self.at)
        if not match:
            return False
        start, name = self.at, match[1]
        if match[2] == "+=":
            raise _NeedsShell("appends to a value, which not every shell does")
        if not shell_can_set(name):
            raise _NeedsShell(f"sets {quoted_name(name)}, which shells cannot")
        self.at = match.end()
        if self.text[self.at : self.at + 1] in (" ", "\t") and self.text[self.at :].split("\n")[0].strip(" \t")[
            :1
        ] not in ("", "#", ";"):
            raise _NeedsShell(f"has a space after '{name}='; a shell would run what follows")
        pieces = self._word()
        value = _joined(pieces)
        if "\r" in value:
            self.remark(f"{name} ends in a carriage return, which a shell keeps", start)
        self.values[name] = value
        self.items.append(
            ReadItem(name, value, location_of(self.text, start, self.file), reference=_as_reference(pieces))
        )
        return True

    def _word(self) -> _Pieces:
        parts: _Pieces = []
        source = self.text
        while self.at < len(source) and source[self.at] not in " \t\n;":
            letter = source[self.at]
            if letter == "'":
                parts.append(self._single())
            elif letter == '"':
                parts += self._double()
            elif letter == "\\":
                parts.append("" if source.startswith("\n", self.at + 1) else source[self.at + 1 : self.at + 2] or "\\")
                self.at += 2
            elif letter in "$`":
                parts.append(self._parameter())
            elif letter in "&|<>()":
                raise _NeedsShell(f"has a bare '{letter}', which a shell acts on")
            else:
                match = _WORD.match(source, self.at)
                assert match, "every other character is part of a word"
                parts.append(match.group())
                self.at = match.end()
        return parts

    def _single(self) -> str:
        end = self.text.find("'", self.at + 1)
        if end < 0:
            raise _NeedsShell("has a quote that is not closed")
        value = self.text[self.at + 1 : end]
        self.at = end + 1
        return value

    def _double(self) -> _Pieces:
        self.at += 1
        parts: _Pieces = []
        while True:
            letter = self.text[self.at : self.at + 1]
            if letter == "":
                raise _NeedsShell("has a quote that is not closed")
            if letter == '"':
                self.at += 1
                return parts
            if letter == "\\":
                following = self.text[self.at + 1 : self.at + 2]
                parts.append(
                    "" if following == "\n" else following if following in ("$", "`", '"', "\\") else "\\" + following
                )
                self.at += 2
            elif letter in "$`":
                parts.append(self._parameter())
            else:
                end = next((at for at in range(self.at, len(self.text)) if self.text[at] in '"\\$`'), len(self.text))
                parts.append(self.text[self.at : end])
                self.at = end

    def _parameter(self) -> str | _Expansion:
        match = _PARAMETER.match(self.text, self.at)
        if match:
            name = match[1] or match[2]
            if name not in self.values:
                raise _NeedsShell(f"needs the value of {name}, which this file does not set above")
            self.remark(f"${name} was replaced by the value set above, as a shell does")
            self.at = match.end()
            return _Expansion(name, self.values[name])
        following = self.text[self.at + 1 : self.at + 2]
        if self.text[self.at] == "$" and not re.match(r"[({'\"@*#?$!0-9-]", following):
            self.at += 1
            return "$"
        raise _NeedsShell("needs a shell to expand a '$' or a '`'")
