"""Literal ports on which programs listen: `listen(3000)`, `run(port=5000)`, `bind("0.0.0.0:8080")`, by language."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

_PORT = r"(\d{2,5})(?![\w.])"
_HOST_PORT = r"""["'`][\w.*:/\[\]-]*:(\d{2,5})["'`]"""
_NAMED = rf"\bport\s*[=:]\s*{_PORT}"
_CALLS = r"(?:[rR]un|[sS]erve|[lL]isten|[sS]tart)\w{0,30}\([^()\n]*(?:\n[^()\n]*){0,8}?"
_ECMASCRIPT = (rf"\.listen\(\s*{_PORT}", rf"{_CALLS}{_NAMED}", rf"(?:listen|serve)\(\s*\{{[^{{}}]*?{_NAMED}")
_JVM = (
    rf"\bnew ServerSocket\(\s*{_PORT}",
    rf"\bInetSocketAddress\(\s*(?:\"[^\"]*\"\s*,\s*)?{_PORT}",
    rf"\bsetPort\(\s*{_PORT}",
    rf"\.listen\(\s*{_PORT}",
    rf"\bembeddedServer\([^()]*?{_NAMED}",
)
_LANGUAGES: Mapping[tuple[str, ...], tuple[str, ...]] = {
    (".js", ".mjs", ".cjs", ".jsx", ".ts", ".mts", ".cts", ".tsx"): _ECMASCRIPT,
    (".py", ".pyw"): (
        rf"{_CALLS}{_NAMED}",
        rf"\.bind\(\s*\(\s*[^(),]*,\s*{_PORT}",
        rf"[sS]erver\(\s*\(?\s*[\"'][^\"']*[\"']\s*,\s*{_PORT}",
    ),
    (".go",): (
        rf"\b(?:ListenAndServe(?:TLS)?|Run|Start|Listen(?:Packet)?)\(\s*(?:\"tcp[46]?\"\s*,\s*)?{_HOST_PORT}",
        rf"\bAddr:\s*{_HOST_PORT}",
    ),
    (".rs",): (
        rf"\bbind\w{{0,30}}\(\s*&?{_HOST_PORT}",
        rf"\bbind\w{{0,30}}\(\s*\(\s*[^(),]*,\s*{_PORT}",
        rf"\bSocketAddr::from\(\s*\(\[[^()\]]*\],\s*{_PORT}",
    ),
    (".java", ".kt", ".kts"): _JVM,
    (".cs",): (
        rf"\b(?:UseUrls|Run)\(\s*{_HOST_PORT}",
        rf"\bListen(?:AnyIP|Localhost)\(\s*{_PORT}",
        rf"\bListen\([^(),]*,\s*{_PORT}",
    ),
    (".rb", ".ru"): (
        rf"\bset\s+:port\s*,\s*{_PORT}",
        rf"^[ \t]*port\s+{_PORT}",
        rf"\bPort\s*(?:=>|:)\s*{_PORT}",
        rf"\bTCPServer\.new\(\s*(?:[^(),]*,\s*)?{_PORT}",
    ),
    (".php",): (rf"\bnew\s+\\?[\w\\]{{0,60}}Server\(\s*[\"'][^\"']*[\"']\s*,\s*{_PORT}",),
}
_COMMENT = re.compile(r"""("(?:[^"\\\n]|\\.)*"|'(?:[^'\\\n]|\\.)*'|`[^`]*`)|//[^\n]*|/\*.*?\*/""", re.DOTALL)
_HASH_COMMENT = re.compile(r"""("(?:[^"\\\n]|\\.)*"|'(?:[^'\\\n]|\\.)*')|#[^\n]*""")
_HASHED = (".py", ".pyw", ".rb", ".ru")
LISTENING = tuple(ending for endings in _LANGUAGES for ending in endings)
"""Endings of the programs that are looked through."""
_PATTERNS = {
    ending: re.compile("|".join(patterns), re.MULTILINE)
    for endings, patterns in _LANGUAGES.items()
    for ending in endings
}


def listened_in(name: str, text: str) -> Iterator[tuple[int, str]]:
    """Yield the position and the digits of each port that a program listens on by a literal; `name` is its file's."""
    ending = name[name.rfind(".") :].lower() if "." in name else ""
    pattern = _PATTERNS.get(ending)
    if pattern is None:
        return
    comments = _HASH_COMMENT if ending in _HASHED else _COMMENT
    shown = comments.sub(lambda match: match[1] or " " * len(match[0]), text)
    for match in pattern.finditer(shown):
        group = match.lastindex or 0
        if 0 < int(match[group]) < 1 << 16:
            yield match.start(group), match[group]
