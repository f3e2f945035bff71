"""The example file to commit: the variables to fill in, without any values of a person or stage."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from coinjar.core.model import Jar
from coinjar.dialects.base import Entry, FileHeader
from coinjar.dialects.dotenv import DotenvDialect

CHANGE_ME = "change-me"


class ExampleDialect(DotenvDialect):
    """Names with their descriptions, kinds and defaults; secrets and variables without a default as a placeholder."""

    name = "example"
    about = "the committed example: names, descriptions, defaults, secrets as change-me"
    reads = False

    def write(self, entries: Sequence[Entry], heading: FileHeader) -> bytes:
        blocks = [f"# {heading.app}, {heading.service}: its variables. Replace every {CHANGE_ME}."]
        for entry in entries:
            assert entry.variable
            kind = "secret" if entry.variable.secret else entry.variable.kind
            needed = ", required" if entry.variable.required else ""
            about = " ".join(entry.variable.about.split()) or "(no description)"
            line = super().write([entry], heading).decode().split("\n", 1)[1].rstrip("\n")
            blocks.append(f"# {about} [{kind}{needed}]\n{line if entry.text is not None else f'#{entry.name}='}")
        return ("\n\n".join(blocks) + "\n").encode()


def example_entries(jar: Jar, services: Sequence[str], absent: Collection[str] = ()) -> list[Entry]:
    """Return what these services get, from the declarations alone; `absent` names variables to omit, such as those not
    on a stage.
    """
    entries = []
    for variable in jar.variables.values():
        if variable.name not in absent and any(map(variable.applies_to, services)):
            default = variable.default.content if variable.default else None
            shown = default if isinstance(default, str) else variable.sample
            source = CHANGE_ME if variable.secret or (variable.required and default is None and not shown) else shown
            entries.append(Entry(variable.name, source, variable))
    return entries
