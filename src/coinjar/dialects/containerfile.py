"""`ENV` and `ARG` lines of a Containerfile: values in double quotes, with a backslash before `"`, `\\` and `$`."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from coinjar.core.errors import Location
from coinjar.core.names import shell_can_set
from coinjar.core.value_text import not_for_environments
from coinjar.dialects.base import Dialect, Entry, FileHeader, ReadItem, ReadRemark, ReadResult, decode

_REFERENCE = re.compile(r"\$(?:([A-Za-z_]\w*)|\{([A-Za-z_]\w*)(?::?([-+])([^}]*))?\})")


_NAME = re.compile(r"[-.\w]+")


def quoted(source: str) -> str:
    """Return a value as one word of a Containerfile."""
    return '"' + re.sub(r'["\\$]', r"\\\g<0>", source) + '"'


def lines(entries: Sequence[Entry]) -> Iterator[str]:
    """Return `ARG` for the build, `ENV` for the run, both for both: then a build argument also reaches the run."""
    for entry in entries:
        phase = entry.variable.phase if entry.variable else "run"
        if entry.text is None:
            continue
        if phase in ("build", "both"):
            yield f"ARG {entry.name}={quoted(entry.text)}\n"
        if phase == "both" and shell_can_set(entry.name):
            yield f"ENV {entry.name}=${{{entry.name}}}\n"
        elif phase in ("run", "both"):
            yield f"ENV {entry.name}={quoted(entry.text)}\n"


class ContainerfileDialect(Dialect):
    """`ENV NAME="value"` lines, and `ARG` for build-time variables."""

    name = "containerfile"
    about = "ENV and ARG lines of a Containerfile"

    def unsupported_reason(self, name: str, value: str) -> str | None:
        if not _NAME.fullmatch(name):
            return "the name has a character other than letters, digits, '_', '-' and '.'"
        if name.startswith("--"):
            return "it begins with '--', which a builder reads as an option of the instruction"
        if "\n" in value or "\r" in value:
            return "it has a line break, but an instruction is one line"
        return not_for_environments(value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        return (heading.comment + "".join(lines(entries))).encode()

    def read(self, data: bytes, file: str) -> ReadResult:
        source, remarks = decode(data, file)
        return _ContainerfileParser(file, remarks).read(source)


class Instruction:
    """One instruction: its line, its word in capitals, and the rest with continued lines joined."""

    def __init__(self, line: int, word: str, rest: str) -> None:
        self.line = line
        self.word = word
        self.rest = rest


def instructions(source: str) -> Iterator[Instruction]:
    """Return the instructions without comments.

    A backslash continues a line, unless `# escape=` sets another character.
    """
    escape = "`" if re.match(r"(?:#[^\n]*\n)*#\s*escape\s*=\s*`", source, re.IGNORECASE) else "\\"
    start, parts = 0, list[str]()
    for number, raw in enumerate(source.split("\n"), 1):
        line = raw.rstrip("\r")
        if line.lstrip().startswith("#") or (not line.strip() and parts):
            continue
        if not parts:
            start = number
        going_on = line.rstrip().endswith(escape)
        parts.append(line.rstrip()[:-1] if going_on else line)
        if not going_on:
            yield from _instruction(start, parts)
            parts = []
    yield from _instruction(start, parts)


def _instruction(start: int, parts: list[str]) -> Iterator[Instruction]:
    word, _, rest = "".join(parts).strip().partition(" ")
    if word:
        yield Instruction(start, word.upper(), rest.strip())


class _ContainerfileParser:
    """Reads what the last stage of a build sets; `ARG` counts as build-time."""

    def __init__(self, file: str, remarks: list[ReadRemark]) -> None:
        self.file = file
        self.remarks = remarks
        self.items: dict[str, ReadItem] = {}
        self.values: dict[str, str] = {}
        self.early: dict[str, str] = {}
        """What is set before the first FROM: for FROM alone, until a stage names it again."""
        self.stages: dict[str, tuple[dict[str, ReadItem], dict[str, str]]] = {}
        self.stage = ""

    def read(self, source: str) -> ReadResult:
        stages = 0
        for instruction in instructions(source):
            location = Location(self.file, instruction.line, 1)
            if instruction.word == "FROM":
                stages += 1
                self._begin(instruction.rest, first=stages == 1)
            elif instruction.word in ("ENV", "ARG"):
                self._take(instruction, location)
        if stages > 1:
            words = (
                f"of {stages} stages only the ENV of the last one and its base stages was read: the others do not "
                "reach the image"
            )
            self.remarks.append(ReadRemark(Location(self.file, 1, 1), words))
        return ReadResult(list(self.items.values()), self.remarks)

    def _begin(self, rest: str, *, first: bool) -> None:
        """Begin a stage with the final state of its base stage; build arguments from before the first FROM are not
        visible in it.
        """
        if first:
            self.early = self.values
        else:
            self.stages[self.stage] = self.items, self.values
        words = [word for word in rest.split() if not word.startswith("--")]
        base, named = (
            words[0].lower() if words else "",
            words[2].lower() if len(words) > 2 and words[1].lower() == "as" else "",
        )
        from_stage, values = self.stages.get(base, ({}, {})) if base else ({}, {})
        build = {name: item for name, item in self.items.items() if item.phase == "build"}
        self.items, self.values, self.stage = (
            {**build, **from_stage},
            {**dict.fromkeys(self.early, ""), **values},
            named,
        )

    def _take(self, instruction: Instruction, location: Location) -> None:
        for name, value in assignments(instruction.rest, bare_ok=instruction.word == "ARG"):
            if value is None:  # an ARG without a default: from before FROM, or set by the caller of the build
                if name in self.early:
                    self.values[name] = self.early[name]
                else:
                    self.values.pop(name, None)
                continue
            known = self._expanded(name, value, location)
            if known is not None:
                self.values[name] = known
                item = self.items.get(name)
                phase = (
                    "build"
                    if instruction.word == "ARG"
                    else "both"
                    if item and item.phase == "build" and f"${{{name}}}" in value
                    else "run"
                )
                self.items[name] = ReadItem(name, known, location, phase=phase)

    def _expanded(self, name: str, value: str, location: Location) -> str | None:
        """Return a word with quotes removed and references replaced; None, with a remark, if one is not known."""
        done = expand_word(value, self.values)
        if isinstance(done, str):
            return done
        self.remarks.append(
            ReadRemark(
                location,
                f"ignored: {name} needs the value of {', '.join(done)}, which this file does not set above",
                lost=True,
            )
        )
        return None


def assignments(rest: str, *, bare_ok: bool = False) -> Iterator[tuple[str, str | None]]:
    """Return the assignments of `A=1 B="2"`, or of the old form `A the rest`; values still quoted."""
    words = re.findall(r"""(?:[^\s"'\\]|\\.|"(?:[^"\\]|\\.)*"|'[^']*')+""", rest)
    if words and "=" not in words[0] and not bare_ok:
        name, _, value = rest.partition(" ")
        yield name, value.strip()
        return
    for word in words:
        name, equals, value = word.partition("=")
        unquoted = expand_word(name, {}) if name[:1] in ("'", '"') else name
        yield unquoted if isinstance(unquoted, str) else name, value if equals else None


def expand_word(word: str, values: dict[str, str]) -> str | list[str]:
    """Return a word as the builder reads it, or the names that it lacks."""
    parts: list[str] = []
    lacking: list[str] = []

    def replaced(match: re.Match[str]) -> str:
        name, operator, other = match[1] or match[2], match[3], match[4]
        if name in values:
            return other if operator == "+" else values[name]
        if operator:
            return other if operator == "-" else ""
        lacking.append(name)
        return ""

    for piece in re.finditer(r"""'([^']*)'|"((?:[^"\\]|\\.)*)"|((?:[^"'\\]|\\.)+)""", word):
        if piece[1] is not None:
            parts.append(piece[1])
            continue
        raw = piece[2] if piece[2] is not None else piece[3]
        kept = r'\\(["\\$])' if piece[2] is not None else r"\\(.)"
        for at, bit in enumerate(re.split(r"(\\.)", raw)):
            parts.append(re.sub(kept, r"\1", bit) if at % 2 else _REFERENCE.sub(replaced, bit))
    return lacking or "".join(parts)
