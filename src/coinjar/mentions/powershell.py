"""PowerShell: variables of the drive `env:`, calls of `[Environment]`, and what other programs are given."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator

from coinjar.mentions.base import PRESENCE, READ, SET, ComputedName, Mention, TextMentions, in_order
from coinjar.mentions.powershell_texts import ScriptTexts, script_texts

_OF_DRIVE = re.compile(rb"\$(?:\{env:[\\/]?([^}\s]+)\}|env:([A-Za-z_]\w*))", re.IGNORECASE)
_ITEM = re.compile(
    rb"(?:(?<=[\s\"',(=])|\A)env:[\\/]?(?:([A-Za-z_]\w*)(?![\w$*?\[])|(?:\w*\$|\w+[*?\[])[^\s\"',;)]*)", re.IGNORECASE
)
"""Its group is a name; without it the name is computed, or a pattern."""
_COMMAND = re.compile(rb"(?:\A|[;{}|(\n])\s*([A-Za-z]+(?:-[A-Za-z]+)?)\b(?:`\r?\n|[^;{}|(\n])*\Z")
"""The command whose argument begins where the text ends."""
_SETTING = frozenset(
    {b"set-item", b"new-item", b"remove-item", b"clear-item", b"set-content", b"ri", b"rm", b"si", b"ni", b"del"}
)
_CALL = re.compile(
    rb"\[(?:System\.)?Environment\]::(Get|Set)EnvironmentVariable\("
    rb"\s*(?:([\"'])([^\"'$]+)\2|\"?\$((?:\w+:)?\w+)\"?(?=\s*[,)\]])|([^\s,)\"']+))",
    re.IGNORECASE,
)
"""Its third group is a name, the fourth a variable, the fifth something else."""
_ALL = re.compile(rb"GetEnvironmentVariables\([^()]*\)(?:\[\s*[\"']|\.)([A-Za-z_]\w*)(?![\w(])", re.IGNORECASE)
_EXPANDED = re.compile(rb"ExpandEnvironmentVariables\(\s*[\"']([^\"'$]*)[\"']", re.IGNORECASE)
_PLACEHOLDER = re.compile(rb"%([^%\s]+)%")
_OF_ANOTHER = re.compile(
    rb"\.Environment(?:Variables)?(?:\[\s*|\.(?:Add|TryAdd|Remove)\(\s*)[\"']([A-Za-z_]\w*)[\"']", re.IGNORECASE
)
_INDEX = re.compile(rb"\s*\]\s*=(?!=)|\s*[,)]")
_FOR_ANOTHER = re.compile(rb"-Environment\s+@\{([^{}]*)\}", re.IGNORECASE)
_KEY = re.compile(rb"(?<=[{;\n])\s*[\"']?([A-Za-z_]\w*)[\"']?\s*=")

_ASSIGNED = re.compile(rb"\s*[-+*/]?=(?!=)")
_VALUE = rb"\s*(\"[^\"$`\n]*\"|'[^'\n]*'|\d+)"
_FALLBACK = re.compile(rb"\)*\s*\?\?" + _VALUE)
_OTHERWISE = re.compile(rb"\"?\s*(?:\}\s*else\s*\{" + _VALUE + rb"\s*\}|:" + _VALUE + rb")", re.IGNORECASE)
_CHOSEN = re.compile(rb"[{?]\s*\"?\Z")
_ASKING = re.compile(
    rb"(?:-not\s*|!\s*|\b(?:if|elseif|while)\s*\(\s*|-(?:and|or)\s+|(?:\$null\s+-(?:eq|ne)\s+)|"
    rb"::IsNullOr(?:Empty|WhiteSpace)\(\s*\"?)\Z",
    re.IGNORECASE,
)
_ASKED = re.compile(rb"\"?\s*(?:\)|[\r\n;}]|\Z|-(?:and|or)\b|-(?:eq|ne)\s+\$null\b)", re.IGNORECASE)
_TERNARY = re.compile(rb"\s*\?(?![?.\[])")
_IS_NULL = re.compile(rb"\s*-(?:eq|ne)\s+\$null\b", re.IGNORECASE)

_CONSTANT = re.compile(
    rb"(?:^|[;{])[ \t]*(?:\[[\w.]+\][ \t]*)?\$(?:\w+:)?(\w+)[ \t]*=[ \t]*([\"'])([A-Za-z_]\w*)\2[ \t]*(?=\r?$|[;}#])",
    re.MULTILINE,
)
_BINDING = re.compile(rb"\$(?:\w+:)?(\w+)(?:\s*[-+*/]?=(?!=)|\s+in\b)", re.IGNORECASE)
_PARAMETERS = re.compile(rb"(?:\bparam|\bfunction\s+[\w:-]+)\s*\(([^()]*)\)", re.IGNORECASE)
_TYPED = re.compile(rb"\][ \t\r\n]*\$(\w+)\s*[,)]")
_LOOKS_SO = re.compile(rb"(?i)\$\{?env:[a-z]|(?m:^)[ \t]*\$\w+[ \t]*=[ \t]")
"""What no other shell has: a variable of the drive, or an assignment with a dollar sign."""


def looks_like_powershell(data: bytes, start: int, end: int) -> bool:
    """Return whether a script in a text is one of PowerShell."""
    return _LOOKS_SO.search(data, start, end) is not None


def find(data: bytes, helpers: frozenset[str]) -> TextMentions:
    """Return the mentions of a script."""
    del helpers
    found = list(find_in(data, 0, len(data)))
    return in_order(
        (one for one in found if isinstance(one, Mention)), (one for one in found if isinstance(one, ComputedName))
    )


def find_in(data: bytes, start: int, end: int) -> Iterator[Mention | ComputedName]:
    """Yield the mentions of a script in a text."""
    texts = script_texts(data[start:end])
    for found in (*_of_drive(texts), *_items(texts.bare), *_calls(texts), *_for_others(texts)):
        yield found._replace(start=found.start + start, end=found.end + start)


def _of_drive(texts: ScriptTexts) -> Iterator[Mention]:
    """Yield `$env:NAME` and `${env:NAME}`."""
    code = texts.code
    for match in _OF_DRIVE.finditer(texts.plain):
        at, after = match.span()
        how, default = READ, None
        in_text = texts.bare[at : at + 1] == b" " and code[at - 1 : at] != b"`"
        if _ASSIGNED.match(code, after) and not in_text:
            how = SET
        elif fallback := _FALLBACK.match(code, after):
            default = fallback[1].decode().strip("\"'")
        elif _CHOSEN.search(code, max(0, at - 40), at) and (chosen := _OTHERWISE.match(code, after)):
            default = (chosen[1] or chosen[2]).decode().strip("\"'")
        elif _is_asked(code, at, after):
            how = PRESENCE
        yield _mention(match, match.lastindex or 0, how, default)


def _is_asked(code: bytes, start: int, end: int) -> bool:
    """Return whether a value is only tested: for truth, or compared with nothing."""
    if _TERNARY.match(code, end) or _IS_NULL.match(code, end):
        return True
    return _ASKED.match(code, end) is not None and _ASKING.search(code, max(0, start - 40), start) is not None


def _items(bare: bytes) -> Iterator[Mention | ComputedName]:
    """Yield the items of the drive that a command is given: `Env:NAME`."""
    for match in _ITEM.finditer(bare):
        if match[1] is None:
            yield ComputedName(*match.span())
            continue
        command = _COMMAND.search(bare, max(0, match.start() - 500), match.start())
        name = command[1].lower() if command else b""
        yield _mention(match, 1, SET if name in _SETTING else PRESENCE if name == b"test-path" else READ)


def _calls(texts: ScriptTexts) -> Iterator[Mention | ComputedName]:
    """Yield what the methods of `[Environment]` read and set."""
    code = texts.code
    constants = _constants(code)
    for match in _CALL.finditer(code):
        how = SET if match[1].lower() == b"set" else READ
        constant = constants.get((match[4] or b"").rpartition(b":")[2].lower())
        if match[3]:
            yield _mention(match, 3, how)
        elif constant:
            yield _mention(constant, 3, how)
        else:
            yield ComputedName(*match.span(4 if match[4] else 5))
    yield from (_mention(match, 1) for match in _ALL.finditer(code))
    for match in _EXPANDED.finditer(code):
        yield from (_mention(name, 1) for name in _PLACEHOLDER.finditer(code, *match.span(1)))


def _constants(code: bytes) -> dict[bytes, re.Match[bytes]]:
    """Return the variables that a script gives one name and no other value: where it does so."""
    bound = [match[1].lower() for match in _BINDING.finditer(code)]
    others = {match[1].lower() for match in _TYPED.finditer(code)}
    for match in _PARAMETERS.finditer(code):
        others.update(name.lower() for name in re.findall(rb"\$(\w+)", match[1]))
    often = {name for name, count in Counter(bound).items() if count > 1}
    found = {match[1].lower(): match for match in _CONSTANT.finditer(code)}
    return {name: match for name, match in found.items() if name not in others | often}


def _for_others(texts: ScriptTexts) -> Iterator[Mention]:
    """Yield what another program's environment is given."""
    for match in _OF_ANOTHER.finditer(texts.code):
        is_read = not _INDEX.match(texts.code, match.end())
        yield _mention(match, 1, READ if is_read else SET)
    for match in _FOR_ANOTHER.finditer(texts.code):
        yield from (_mention(key, 1, SET) for key in _KEY.finditer(texts.code, *match.span(1)))


def _mention(match: re.Match[bytes], group: int, how: str = READ, default: str | None = None) -> Mention:
    return Mention(match[group].decode(errors="replace"), *match.span(group), how, default)
