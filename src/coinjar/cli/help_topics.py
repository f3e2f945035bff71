"""`coinjar help`: groups, topics (the pages of docs/, which are part of the package), and the rules of `check`."""

from __future__ import annotations

import re
import sys
from pathlib import Path

from coinjar.core.errors import UsageError
from coinjar.core.names import suggestion

TOPICS = {
    "guide": "From an old env file to a running service, chapter by chapter",
    "ci": "Check, render and approve in CI, and before each commit",
    "images": "Coin Jar in an image, and images without it",
    "troubleshooting": "What messages mean, and what to do",
    "formats": "The files of a jar, values, kinds, dialects, sources, destinations, proofs",
    "descriptions": "Describe a platform with an HTTP API",
    "rules": "What check finds; `coinjar help CJ020` is one of them",
    "security": "What is protected, from whom, and what is not",
    "json": "What --json prints",
    "extending": "Dialects, sources, destinations, rules and commands of your own",
}
FILES = {"descriptions": "platforms"}
"""Pages whose file has another name: that of a command, which `coinjar help` explains."""
_PACKAGE = Path(__file__).parent.parent / "docs"
_REPOSITORY = Path(__file__).parents[3] / "docs"
_RULE = re.compile(r"(?i)CJ\d{3}")
_PICTURE = re.compile(r"^!\[[^\]]*\]\([^)]*\)\n\n?", re.MULTILINE)
_HEADING = re.compile(r"^(#{1,4}) (.+)$", re.MULTILINE)


def print_topic(words: list[str]) -> bool:
    """Print a page, or the sections of it that a second word names; return whether the first word names one.

    Rendered and paged on a terminal, else as it is written. Raises UsageError for a rule or a section that does not
    exist.
    """
    first = words[0] if words else ""
    if _RULE.fullmatch(first) and len(words) == 1:
        _put_out(_section(_page("rules"), "rules", first.upper()))
        return True
    if first not in TOPICS:
        return False
    chapters = _chapters(first)
    if len(words) == 2 and words[1] in chapters:
        _put_out(_page(f"{first}/{words[1]}"))
    elif words[1:]:
        texts = [_page(f"{first}/{chapter}") for chapter in chapters] or [_page(first)]
        _put_out(_section("\n".join(texts), first, " ".join(words[1:])))
    else:
        _put_out(_page(f"{first}/index" if chapters else first))
    return True


def _chapters(topic: str) -> list[str]:
    """Return the chapters of a topic that has some, in their order."""
    index = _folder() / topic / "index.md"
    return re.findall(r"^\| \[([a-z]+)\]", index.read_text(encoding="utf-8"), re.MULTILINE) if index.is_file() else []


def _folder() -> Path:
    """Return the folder of the pages: of the package, or of the repository that this program runs from."""
    return _PACKAGE if _PACKAGE.is_dir() else _REPOSITORY


def _page(topic: str) -> str:
    """Return a page without its pictures."""
    return _PICTURE.sub("", (_folder() / f"{FILES.get(topic, topic)}.md").read_text(encoding="utf-8"))


def _section(text: str, topic: str, words: str) -> str:
    """Return the sections whose headings contain these words, with what belongs to them."""
    outside = re.sub(r"(?ms)^```.*?^```", lambda block: re.sub(r"[^\n]", " ", block[0]), text)  # `#` is a comment there
    headings = [(match.start(), len(match[1]), match[2]) for match in _HEADING.finditer(outside)]
    found = []
    end = 0
    for number, (start, level, title) in enumerate(headings):
        if words.casefold() not in title.casefold() or start < end:
            continue
        end = next((at for at, other, _ in headings[number + 1 :] if other <= level), len(text))
        found.append(text[start:end].strip())
    if not found:
        titles = [title for _, _, title in headings]
        hint = suggestion(words, titles, f"`coinjar help {topic}` shows all of it")
        raise UsageError(f"the topic {topic} has no section '{words}'", hint=hint, code="unknown-topic")
    return "\n\n".join(found) + "\n"


def _put_out(text: str) -> None:
    if not sys.stdout.isatty():
        print(text, end="")
        return
    from pydoc import pager

    from rich.console import Console
    from rich.markdown import Markdown

    console = Console(width=min(Console().width, 100), force_terminal=True)
    with console.capture() as capture:
        console.print(Markdown(text, hyperlinks=False))
    pager(capture.get())
