"""`type: file`: a service's variables in a dialect, in a file of their own; settings with a base file."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from functools import partial
from pathlib import Path

from coinjar.core.errors import CoinJarError, InputError, raise_all
from coinjar.core.layers import Resolver
from coinjar.core.model import Destination
from coinjar.core.names import SHARED, suggestion
from coinjar.destinations.base import FileDestination, Output, reading_of
from coinjar.destinations.hidden_lines import Hidden
from coinjar.destinations.options import FLAG, PHASES, SPELLING, TEXTS_BY_NAME, Option
from coinjar.destinations.stage_view import RenderContext, StageView, gets
from coinjar.dialects import carriers, get
from coinjar.dialects.base import Dialect, Entry, ReadResult, any_secret, refuse
from coinjar.dialects.example import ExampleDialect
from coinjar.dialects.settings import SettingsDialect, merged
from coinjar.dialects.shell import ExecScriptDialect
from coinjar.dialects.spelled import NOT_SPELLED, SpelledDialect
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.spelling_reader import read_spelling
from coinjar.system.files import display_path

_NUMBER = re.compile(r"[+-]?\d+(?:[.,]\d+)?")


class DialectFileDestination(FileDestination):
    """`path`, `as` (the dialect); for settings also `base` and `separator`; for exec-script also `keep_set` and `fills`
    (a templates destination).
    """

    declared: Mapping[str, Option] = {
        "path": Option(
            "The file, relative to the folder that contains jar/; {stage} and {service} are replaced.", needed=True
        ),
        "as": Option("The dialect.", needed=True),
        "base": Option("For settings: the file with the values that all stages share."),
        "separator": Option(
            "For settings: the separator that splits a name into nested keys; default: __.",
            {"type": "string", "minLength": 1},
        ),
        "names": Option(
            "How the file writes the jar's names: case (lower), separator of words, prefix, exact (single names).",
            SPELLING,
        ),
        "phases": Option("Which variables are written: those of the build, of the run; default: [run].", PHASES),
        "keep_set": Option("For exec-script: whether what the environment already sets wins.", FLAG),
        "fills": Option(
            "For exec-script: destinations of templates, each with the folder that the script fills at its start.",
            TEXTS_BY_NAME,
        ),
    }

    def __init__(self, destination: Destination, render_context: RenderContext, fields: FieldReader) -> None:
        super().__init__(destination, render_context, fields)
        self.path = self.path_pattern("path")
        self.base = self.path_pattern("base", ("service",))
        self.phases = self.phases_of("phases")
        self.fills = self._fills()
        self.dialect = self._dialect()
        for key, owner in (
            ("base", "settings"),
            ("separator", "settings"),
            ("fills", "exec-script"),
            ("keep_set", "exec-script"),
        ):
            if key in self.options and self.dialect and self.dialect.name != owner:
                fields.fault(
                    self.options[key], f"'{key}' requires as: {owner}", "remove it, or correct 'as'", "destination"
                )

    def _dialect(self) -> Dialect | None:
        name = self.text("as")
        if not name:
            return None
        try:
            dialect = get(name)
        except CoinJarError as fault:
            self.fields.fault(self.options["as"], fault.message, fault.hint, fault.code)
            return None
        dialect.parse_context = self.render_context.parse_context(self.text("separator", "__"))
        if isinstance(dialect, SettingsDialect):
            dialect.as_json = not self.path.lower().endswith((".yaml", ".yml"))
        if isinstance(dialect, ExecScriptDialect):
            dialect.keep_set = self.flag("keep_set")
        return self._spelled(dialect) if "names" in self.options else dialect

    def _spelled(self, dialect: Dialect) -> Dialect:
        """Return the dialect with the file's own names, each of which must lead back to a variable."""
        node = self.options["names"]
        if dialect.name in NOT_SPELLED:
            hint = "remove it, or use another dialect"
            self.fields.fault(node, f"'names' cannot be combined with as: {dialect.name}", hint, "destination")
            return dialect
        spelling = read_spelling(self.fields, node, "names", "destination")
        variables = self.render_context.jar.variables.values()
        own = {name for variable in variables for name in (variable.name, *variable.also_as)}
        for name in spelling.exact:
            if name not in own:
                hint = suggestion(name, own, "declare it, or remove it here")
                self.fields.fault(node, f"'exact' has {name}, which is not a variable", hint, "destination")
        for variable in variables if not self.fields.faults else ():
            if gets(self.destination, variable.name):
                for name in spelling.irreversible((variable.name, *variable.also_as)):
                    message = f"{name} would be written as {spelling.there(name)}, which does not lead back to it"
                    hint = f"write exact: {{{name}: …}}, or omit it (without: [{name}])"
                    self.fields.fault(node, message, hint, "destination")
        return SpelledDialect(dialect, spelling)

    def _fills(self) -> dict[str, str]:
        """Return the template destinations that a script renders when it starts, each with its output folder."""
        result = {}
        for name, key, node in self.fields.members(self.options["fills"], "fills") if "fills" in self.options else ():
            other = self.render_context.jar.destinations.get(name)
            if other is None or other.type != "templates":
                self.fields.fault(
                    key,
                    f"'{name}' is not a destination of type templates",
                    "name a destination of type templates",
                    "destination",
                )
            result[name] = self.fields.text(node, name)
        return result

    def outputs(self, view: StageView) -> list[Output]:
        if self.is_example:
            return self._examples(view)
        faults: list[CoinJarError] = []
        outputs: list[Output] = []
        for service in self.services_of(view, self.path):
            try:
                outputs += self._of_service(view, service, outputs)
            except CoinJarError as fault:
                faults += fault.each()
        raise_all(list({str(error): error for error in faults}.values()))
        return outputs

    @property
    def is_example(self) -> bool:
        """Return whether it is made from the declarations alone."""
        return self.dialect is not None and self.dialect.name == "example"

    def _examples(self, view: StageView) -> list[Output]:
        """Return one file per service or one for all, of one stage or of all, as the path distinguishes them."""
        from coinjar.dialects.example import example_entries

        assert self.dialect
        absent = view.resolver.absent if "{stage}" in self.path else ()
        parts = [[service] for service in view.services()] if "{service}" in self.path else [view.services()]
        outputs = []
        for services in parts:
            entries = [
                entry
                for entry in example_entries(self.render_context.jar, services, absent)
                if gets(self.destination, entry.name)
            ]
            path = self.resolve_path(self.path, view.stage, services[0] if services else "")
            data = self.dialect.write(entries, view.heading(", ".join(services)))
            outputs.append(self._output(path, data, entries))
        return outputs

    def _of_service(self, view: StageView, service: str, before: Sequence[Output]) -> list[Output]:
        """Return the files of a service; `before` are those of the services before it, which may share a base."""
        assert self.dialect
        entries = view.entries(service, self.phases)
        refuse(self.dialect, entries, carriers)
        if self.dialect.name == "csv":
            self._formulas(entries)
        if self.base:
            return self._settings(view, service, entries, {output.path: output.data for output in before})
        path = self.resolve_path(self.path, view.stage, service)
        if self.dialect.name == "settings" or (self.dialect.many_stages and "{stage}" not in self.path):
            data = self.dialect.update(
                self.render_context.current(path), display_path(path), entries, view.heading(service)
            )
            return [self._output(path, data, entries, merges=True)]
        data = (
            self._carrying(view, service, entries) if self.fills else self.dialect.write(entries, view.heading(service))
        )
        return [self._output(path, data, entries)]

    def _formulas(self, entries: list[Entry]) -> None:
        """Notice cells that a spreadsheet takes for formulas, which can run programs and send other cells away."""
        for entry in entries:
            if entry.text and entry.text[0] in "=+-@\t\r" and not _NUMBER.fullmatch(entry.text):
                self.notice(
                    "CJ044",
                    self.destination.location,
                    f"{entry.name} begins with a sign that makes it a formula in a spreadsheet",
                    "use another dialect for spreadsheets, or change the value",
                    variable=entry.name,
                )

    def _carrying(self, view: StageView, service: str, entries: list[Entry]) -> bytes:
        """Return a script that renders templates before it executes its program."""
        from coinjar.destinations import make
        from coinjar.destinations.templates import TemplatesDestination, filling_script

        script = ""
        for name, folder in self.fills.items():
            templates = make(self.render_context.jar.destinations[name], self.render_context)
            assert isinstance(templates, TemplatesDestination)
            script += filling_script(templates, {entry.name: entry for entry in entries}, folder, view.stage, service)
            self.notices += templates.notices
        assert isinstance(self.dialect, ExecScriptDialect), "only it can fill"
        return self.dialect.script(entries, view.heading(service), script)

    def _output(self, path: Path, data: bytes, entries: list[Entry], *, merges: bool = False) -> Output:
        assert self.dialect
        secrets = [entry for entry in entries if entry.secret] if any_secret(entries) else []
        return Output(
            path,
            data,
            any(entry.text is not None for entry in secrets),
            self.about(entries),
            self._hidden(path, secrets),
            program=self.dialect.name == "exec-script",
            merges=merges,
        )

    def _hidden(self, path: Path, secrets: list[Entry]) -> Hidden:
        assert self.dialect
        reader = self.dialect
        if not self.dialect.reads:
            if not isinstance(self.dialect, ExecScriptDialect | ExampleDialect):
                return _all_hidden  # from another package: it cannot mark which lines contain secrets
            reader = get("posix" if isinstance(self.dialect, ExecScriptDialect) else "dotenv")
        return self.hide_items(
            lambda data: reader.read(data, display_path(path)),
            [entry.name for entry in secrets],
        )

    def _settings(
        self, view: StageView, service: str, entries: list[Entry], before: Mapping[Path, bytes]
    ) -> list[Output]:
        """Return the base file with what all stages share, and the stage's file with what differs."""
        assert self.dialect
        assert isinstance(self.dialect, SettingsDialect)
        base, over = self.resolve_path(self.base, "", service), self.resolve_path(self.path, view.stage, service)
        shared = StageView(
            Resolver(self.render_context.jar, SHARED, fetch=view.resolver.fetch), self.destination
        ).entries(service, lenient=True)
        refuse(self.dialect, shared, carriers)
        old = before[base] if base in before else self.render_context.current(base)
        data = self.dialect.merge(old, display_path(base), shared)
        below = {item.name: item.text for item in self.dialect.read(data, display_path(base)).items}
        stuck = [entry for entry in entries if entry.text is None and entry.name in below]
        words = f"is unset on {view.stage}, but a settings file cannot remove what its base contains"
        raise_all(
            [
                InputError(f"{entry.name} {words}", hint=f"remove it from {display_path(base)}", code="cannot-carry")
                for entry in stuck
            ]
        )
        differing = [
            entry
            for entry in entries
            if entry.text is not None and self.dialect.spelled(entry) != below.get(entry.name)
        ]
        top = self.dialect.update(
            self.render_context.current(over), display_path(over), differing, view.heading(service)
        )
        return [self._output(base, data, shared, merges=True), self._output(over, top, differing)]

    def read(self, stage: str) -> ReadResult:
        reading = self.read_each(self.path, partial(self._read_one, stage))
        return ReadResult([item for item in reading.items if item.stage in (None, stage)], reading.remarks)

    def _read_one(self, stage: str, service: str) -> ReadResult:
        assert self.dialect
        if not self.dialect.reads:
            raise InputError(
                f"{self.dialect.name} can only be written",
                hint="use another destination",
                location=self.destination.location,
                code="write-only",
            )
        reading = reading_of(self.dialect, self.resolve_path(self.path, stage, service))
        if not self.base:
            return reading
        return merged(reading_of(self.dialect, self.resolve_path(self.base, "", service)), reading)


def _all_hidden(data: bytes) -> Mapping[int, str]:
    return dict.fromkeys(
        range(1, data.count(b"\n") + 2), "•••• (a dialect that can only be written cannot mark which lines are secret)"
    )
