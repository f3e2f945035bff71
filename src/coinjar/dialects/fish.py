"""What fish reads: a file to source, `set -gx NAME 'value'` (its documentation: Quotes, Variables).

In single quotes only `\\'` and `\\\\` are escapes. Read without running anything.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from coinjar.core.names import shell_can_set
from coinjar.core.value_text import not_for_environments
from coinjar.dialects.base import Dialect, Entry, FileHeader, ReadItem, ReadRemark, ReadResult, decode
from coinjar.dialects.statements import statements

_RESERVED = frozenset(
    "_ argv fish_pid fish_kill_signal fish_killring FISH_VERSION history hostname pipestatus PWD SHLVL status umask "
    "version".split()
)
_OWN_CHARACTERS = re.compile("[\ue000-\uf8ff\ufdd0-\ufdef]")
"""What fish uses for its own purposes inside of texts: parts of the private use area, and noncharacters."""
_LINE = re.compile(
    r"[ \t]*(?:"
    r"set[ \t]+(?P<options>(?:-\w+[ \t]+|--(?:export|global|universal|path|unpath)[ \t]+)*)(?P<name>[A-Za-z_]\w*)"
    r"[ \t]+(?:'(?P<single>(?:[^'\\]|\\.)*)'|\"(?P<double>(?:[^\"\\$]|\\.)*)\"|(?P<bare>[^\s'\"\\$(){}<>;&|*?~#\[\]]+))"
    r"|set[ \t]+(?:-\w*e\w*|--erase)[ \t]+(?:-\w+[ \t]+)*(?P<erased>[A-Za-z_]\w*)"
    r"|(?P<comment>#[^\n]*))?[ \t]*(?:;|\r?\n|\Z)",
    re.DOTALL,
)
_SINGLE_ESCAPE = re.compile(r"\\(['\\])")
_DOUBLE_ESCAPE = re.compile(r"\\([\"\\$]|\n)")


class FishDialect(Dialect):
    """`set -gx NAME 'value'` lines."""

    name = "fish"
    about = "a file for fish to source, with set -gx"

    def unsupported_reason(self, name: str, value: str) -> str | None:
        if not shell_can_set(name):
            return "shells cannot set this name"
        if name in _RESERVED:
            return "fish reserves this name"
        if _OWN_CHARACTERS.search(value):
            return "fish uses one of its characters for itself"
        return not_for_environments(value)

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        lines = [
            f"set -e {entry.name}\n" if entry.text is None else f"set -gx {entry.name} {_quoted(entry.text)}\n"
            for entry in entries
        ]
        return (heading.comment + "".join(lines)).encode()

    def read(self, data: bytes, file: str) -> ReadResult:
        text, remarks = decode(data, file)
        items: list[ReadItem] = []
        found = [*remarks]
        for match, where in statements(text, file, _LINE, "fish", found):
            if match["erased"]:
                items.append(ReadItem(match["erased"], None, where))
            elif match["name"] and "e" in match["options"].replace("--export", ""):
                found.append(ReadRemark(where, "it needs fish: the line was skipped", lost=True))
            elif match["name"]:
                items.append(ReadItem(match["name"], _value(match), where))
                if "x" not in match["options"]:
                    found.append(ReadRemark(where, f"{match['name']} is set, but not exported"))
        return ReadResult(items, found)


def _quoted(text: str) -> str:
    return "'" + text.replace("\\", "\\\\").replace("'", "\\'") + "'"


def _value(match: re.Match[str]) -> str:
    if match["single"] is not None:
        return _SINGLE_ESCAPE.sub(r"\1", match["single"])
    if match["double"] is not None:
        return _DOUBLE_ESCAPE.sub(lambda escape: "" if escape[1] == "\n" else escape[1], match["double"])
    return str(match["bare"])
