"""The reference of variables in Markdown, for a repository: what is declared, no stage's values, no dates."""

from __future__ import annotations

import re
from collections.abc import Iterator

from coinjar.actions.reporting.variable_sections import rule_words
from coinjar.core.display import visible
from coinjar.core.explain import form_of
from coinjar.core.model import Jar, Variable

_SPECIAL = re.compile(r"([\\`*_{}\[\]<>#|~&!])")


def reference_of(jar: Jar) -> str:
    """Return the page. It changes only when declarations do."""
    return "\n".join(_lines(jar)) + "\n"


def _lines(jar: Jar) -> Iterator[str]:
    yield f"# Variables of {jar.app}"
    yield ""
    yield "`coinjar report --format markdown` writes this page from jar.yaml; change that."
    yield ""
    yield "| variable | kind | required | default | what it is |"
    yield "|---|---|---|---|---|"
    for variable in jar.variables.values():
        about = _plain(variable.about) or "–"
        needed = "yes" if variable.required else ""
        cells = [
            f"[{_code(variable.name)}](#{_anchor(variable.name)})",
            _kind(variable),
            needed,
            _default(variable),
            about,
        ]
        yield f"| {' | '.join(cells)} |"
    for variable in jar.variables.values():
        yield ""
        yield f"## {_plain(variable.name)}"
        yield ""
        if variable.about:
            yield f"{_plain(variable.about)}"
            yield ""
        yield f"- Kind: {_kind(variable)}"
        for words in rule_words(variable):
            yield f"- {_plain(words[:1].upper() + words[1:])}"
        services = jar.services_with(variable)
        yield f"- Services: {'all' if len(services) == len(jar.services) else ', '.join(services) or 'none'}"
        if variable.stages is not None:
            yield f"- Stages: {', '.join(sorted(variable.stages))}, and those that follow them"
        if variable.default is not None:
            yield f"- Default: {_default(variable)}"


def _kind(variable: Variable) -> str:
    return f"{variable.kind}, secret" if variable.secret else variable.kind


def _default(variable: Variable) -> str:
    if variable.default is None:
        return ""
    form, text = form_of(variable.default)
    if text is None or variable.secret:
        return form
    shown = visible(text) if text else '""'
    return _code(shown) if form in ("text", "references") else f"{form} {_plain(shown)}"


def _code(text: str) -> str:
    """Return a text as code, which a table may contain: there even in code a bar needs a backslash."""
    fence = "``" if "`" in text else "`"
    space = " " if text[:1] == "`" or text[-1:] == "`" else ""
    return f"{fence}{space}{text.replace('|', chr(92) + '|')}{space}{fence}"


def _plain(text: str) -> str:
    """Return a text that Markdown shows as it is, on one line."""
    return _SPECIAL.sub(r"\\\1", " ".join(visible(text).replace("\\n", " ").split()))


def _anchor(name: str) -> str:
    """Return the anchor that hosts of repositories give a heading."""
    return re.sub(r"[^\w-]", "", name.lower())
