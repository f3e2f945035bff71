"""`type: templates`: a folder of templates, rendered to a folder of outputs.

Only declared names in `${NAME}` (and `$NAME`, with `bare: true`) are replaced; everything else is the file's own
language.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import NamedTuple

from yaml.nodes import ScalarNode

from coinjar.core.diagnostics import PortUse
from coinjar.core.errors import CoinJarError, InputError, Location, location_of, raise_all
from coinjar.core.model import Destination
from coinjar.core.names import suggestion
from coinjar.core.patterns import fullmatch
from coinjar.destinations.base import FileDestination, Output
from coinjar.destinations.hidden_lines import Hidden
from coinjar.destinations.options import FLAG, Option
from coinjar.destinations.stage_view import RenderContext, StageView
from coinjar.dialects.base import Entry, ReadResult, decode
from coinjar.dialects.shell import quote
from coinjar.documents.field_reader import FieldReader
from coinjar.jarfile.load import read_bytes
from coinjar.system.files import display_path

_BRACED = r"\$\{([A-Za-z_][A-Za-z0-9_]*)\}"
_BARE = r"|\$([A-Za-z_][A-Za-z0-9_]*)"
_OPERATED = re.compile(r"\$\{([A-Za-z_][A-Za-z0-9_]*)(:?[-+?=]|@)")
_UPPER = re.compile(r"[A-Z][A-Z0-9_]*[A-Z0-9]")


class TemplateMention(NamedTuple):
    """A name in a template, and its range in characters."""

    name: str
    location: Location
    start: int
    end: int


class TemplateFile(NamedTuple):
    """One template: its name below the folder, the file, its text, and the declared names it uses."""

    name: str
    path: Path
    text: str
    mentions: list[TemplateMention]


class TemplatesDestination(FileDestination):
    """`from`, `to`, `suffix`; `bare: true` replaces `$NAME` too; `allow` limits the characters of values."""

    input_option = "from"
    suffix_option = "suffix"
    declared: Mapping[str, Option] = {
        "from": Option("The folder of templates, relative to the folder that contains jar/.", needed=True),
        "to": Option("The folder to write; {stage} and {service} are replaced.", needed=True),
        "suffix": Option("The suffix of a template's file name.", {"type": "string", "minLength": 1}, needed=True),
        "bare": Option("Whether to replace $NAME as well as ${NAME}.", FLAG),
        "allow": Option(
            "A regular expression that every value must match, or one for each template.",
            {"type": ["string", "object"], "additionalProperties": {"type": "string"}},
        ),
    }

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.source = self.path_pattern("from", ())
        self.target = self.path_pattern("to")
        self.suffix = self.text("suffix")
        self.mention = re.compile(_BRACED + (_BARE if self.flag("bare") else ""))
        self.allow = self._allowed()

    def _allowed(self) -> dict[str, re.Pattern[str]]:
        """Return a pattern for each template's name; `*` for all of them."""
        node = self.options.get("allow")
        if node is None:
            return {}
        pairs = (
            [("*", node)]
            if isinstance(node, ScalarNode)
            else [(name, child) for name, _, child in self.fields.members(node, "allow")]
        )
        result = {}
        for name, child in pairs:
            try:
                result[name] = re.compile(self.fields.text(child, "allow"))
            except re.error as fault:
                self.fields.fault(
                    child,
                    f"this pattern is not a regular expression: {fault.msg}",
                    "write it in the syntax of Python's re",
                )
        return result

    def templates(self) -> list[TemplateFile]:
        """Return the templates in the folder; faults are added to the notices.

        Raises InputError if there is no folder.
        """
        folder = self.resolve_path(self.source, "")
        if not folder.is_dir():
            raise InputError(
                f"there is no folder {self.source}",
                hint="correct 'from'",
                location=self.destination.location,
                code="destination",
            )
        templates = []
        for path in sorted(path for path in folder.rglob("*") if path.is_file()):
            file = display_path(path)
            if not path.name.endswith(self.suffix) or path.name == self.suffix:
                self.notice(
                    "CJ018",
                    Location(file),
                    f"its name does not end in {self.suffix}, so it is not a template, and was skipped",
                    f"rename it to {path.name}{self.suffix}, or move it away",
                )
                continue
            text, _ = decode(read_bytes(path), file)
            template = TemplateFile(str(path.relative_to(folder)), path, text, list(self._mentions(text, file)))
            if not template.mentions:
                self.notice(
                    "CJ018",
                    Location(file),
                    "this template uses no declared name",
                    "write ${NAME} for a value, or remove it from the folder",
                )
            templates.append(template)
        return templates

    def _mentions(self, text: str, file: str) -> Iterator[TemplateMention]:
        """Return the declared names that a text uses, and notice similar ones."""
        jar = self.render_context.jar
        declared = {*jar.variables, *jar.second_names}
        folded = {name.casefold(): name for name in declared}
        for match in self.mention.finditer(text):
            name = match[1] or match[2]
            location = location_of(text, match.start(), file)
            if name in declared:
                yield TemplateMention(name, location, match.start(), match.end())
            elif name.casefold() in folded and (match[1] or name.isupper()):
                self.notice(
                    "CJ018",
                    location,
                    f"{match[0]} was left unchanged: the declared name is {folded[name.casefold()]}",
                    "write it as declared",
                    variable=folded[name.casefold()],
                )
            elif match[1] and _UPPER.fullmatch(name):
                self.notice(
                    "CJ018",
                    location,
                    f"{match[0]} was left unchanged: {name} is not declared",
                    suggestion(name, declared, "declare it, or correct the name"),
                )
        for operated in _OPERATED.finditer(text):
            if operated[1] in declared:
                location = location_of(text, operated.start(), file)
                self.notice(
                    "CJ018",
                    location,
                    f"${{{operated[1]}{operated[2]}…}} was left unchanged: templates support only ${{NAME}}",
                    "declare a default for the variable in the jar",
                    variable=operated[1],
                )

    def outputs(self, view: StageView) -> list[Output]:
        templates = self.templates()
        faults: list[CoinJarError] = []
        outputs: list[Output] = []
        for service in self.services_of(view, self.target):
            values = {entry.name: entry for entry in view.entries(service)}
            folder = self.resolve_path(self.target, view.stage, service)
            for template in templates:
                try:
                    outputs.append(self._filled(template, values, folder, view.stage, service))
                except CoinJarError as fault:
                    faults += fault.each()
            self._left_over(folder, {output.path for output in outputs})
        raise_all(faults)
        return outputs

    def _left_over(self, folder: Path, created: set[Path]) -> None:
        for path in sorted(folder.rglob("*")) if folder.is_dir() else ():
            if path.is_file() and path not in created:
                self.notice(
                    "CJ018",
                    Location(display_path(path)),
                    "no template produces this file any more",
                    "remove it, if nobody else creates it",
                )

    def pieces(
        self, template: TemplateFile, values: Mapping[str, Entry], stage: str, service: str
    ) -> list[str | Entry]:
        """Return the template as texts and values in turn.

        Raises InputError for every value that is missing or not allowed.
        """
        faults: list[CoinJarError] = []
        parts: list[str | Entry] = []
        at = 0
        allowed = self.allow.get(template.name) or self.allow.get("*")
        for mention in template.mentions:
            entry = values.get(mention.name)
            if entry is None or entry.text is None:
                faults.append(
                    InputError(
                        f"{mention.name} has no value for {service} on {stage}",
                        hint="set one, or remove it from the template",
                        location=mention.location,
                        code="no-value",
                    )
                )
                continue
            if allowed and not fullmatch(allowed.pattern, entry.text):
                message = (
                    f"the value of {mention.name} for {service} on {stage} does not match what this template allows "
                    f"({allowed.pattern})"
                )
                faults.append(
                    InputError(
                        message,
                        hint="change the value, or the template's rule under 'allow'",
                        location=mention.location,
                        code="not-allowed",
                    )
                )
            parts += [template.text[at : mention.start], entry]
            at = mention.end
        raise_all(faults)
        return [*parts, template.text[at:]]

    def _filled(
        self, template: TemplateFile, values: Mapping[str, Entry], folder: Path, stage: str, service: str
    ) -> Output:
        pieces = self.pieces(template, values, stage, service)
        texts = [piece if isinstance(piece, str) else piece.text or "" for piece in pieces]
        used = {piece.name: piece for piece in pieces if isinstance(piece, Entry)}
        data = "".join(texts).encode()
        path = folder / template.name.removesuffix(self.suffix)
        secret = any(entry.secret for entry in used.values())
        return Output(
            path,
            data,
            secret,
            self.about(used.values()),
            _hidden(data, pieces),
            program=bool(template.path.stat().st_mode & 0o100),
        )

    def port_uses(self, view: StageView) -> Iterator[PortUse]:
        from coinjar.destinations.linked_places import listened

        return listened(self, view)

    def read(self, stage: str) -> ReadResult:
        del stage
        raise InputError(
            "templates can only be written",
            hint="use another destination",
            location=self.destination.location,
            code="write-only",
        )


def _hidden(data: bytes, pieces: list[str | Entry]) -> Hidden:
    """Return the lines that contain a secret; of another text, all lines that this template does not produce, since
    they may.
    """
    lines: dict[int, str] = {}
    number = 1
    for piece in pieces:
        text = piece if isinstance(piece, str) else piece.text or ""
        if isinstance(piece, Entry) and piece.secret:
            for more in range(text.count("\n") + 1):
                lines[number + more] = f"•••• (a line that contains {piece.name})"
        number += text.count("\n")
    safe = {line for at, line in enumerate(data.split(b"\n"), 1) if at not in lines}

    def hidden(other: bytes) -> Mapping[int, str]:
        if not lines or other == data:
            return lines
        return {
            at: "•••• (a line that may contain a secret)"
            for at, line in enumerate(other.split(b"\n"), 1)
            if line not in safe
        }

    return hidden


def filling_script(
    templates: TemplatesDestination, values: Mapping[str, Entry], folder: str, stage: str, service: str
) -> str:
    """Return shell lines that render the templates into a folder when they run. Raises as `pieces` does."""
    lines = []
    for template in templates.templates():
        target = f"{folder.rstrip('/')}/{template.name.removesuffix(templates.suffix)}"
        words = [
            quote(piece) if isinstance(piece, str) else f'"${piece.name}"'
            for piece in templates.pieces(template, values, stage, service)
            if piece != ""
        ]
        secret = any(
            isinstance(piece, Entry) and piece.secret for piece in templates.pieces(template, values, stage, service)
        )
        folder_word, unfinished = quote(target.rpartition("/")[0] or "/"), quote(target + ".unfinished")
        mask = "umask 077; " if secret else ""
        lines.append(
            f"mkdir -p {folder_word} && ({mask}printf %s {' '.join(words)} >{unfinished}) && mv {unfinished} "
            f"{quote(target)} || exit 1\n"
        )
    return "".join(lines)
