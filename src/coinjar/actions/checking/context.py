"""The input of all rules: a jar, and the files, destinations and code beside it, each read when a rule needs it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from functools import cached_property
from typing import TYPE_CHECKING

from coinjar.actions.open_jar import OpenJar
from coinjar.core.code_uses import CodeLiteral, CodeUse, has_code
from coinjar.core.definition import Undecryptable, Unset
from coinjar.core.diagnostics import Diagnostic, PortUse
from coinjar.core.layers import Fetch
from coinjar.core.model import Jar
from coinjar.core.references import Template
from coinjar.core.rules.base import CheckContext
from coinjar.jarfile.layout import JarLayout
from coinjar.sources.base import SET_BY_EVERYBODY

if TYPE_CHECKING:
    from coinjar.actions.checking.destination_checks import DestinationChecks
    from coinjar.actions.mentions.search import MentionReport


_PRESENT = frozenset({str, Template, Unset, Undecryptable})
"""Contents for which nothing is asked elsewhere."""


class FileContext(CheckContext):
    """A context that reads files. `with_history` also searches every commit for secrets."""

    not_ours = frozenset(SET_BY_EVERYBODY)

    def __init__(self, opened: OpenJar, jar: Jar, fetch: Fetch, *, with_history: bool = False) -> None:
        super().__init__(jar, fetch)
        self.opened = opened
        self.today = datetime.now(UTC).date()
        self.with_history = with_history
        self.is_alone = True
        """Whether no second process works on other rules."""

    @cached_property
    def has_every_value(self) -> bool:
        """Whether no value comes from elsewhere, where nothing should be asked for twice."""
        return all(type(each.content) in _PRESENT for _, _, values in self.scopes for each in values.values())

    @cached_property
    def _inspection(self) -> DestinationChecks | None:
        layout = JarLayout(self.opened.folder)
        if not self.jar.destinations and not layout.platform_files() and not layout.runner_files():
            return None
        from coinjar.actions.checking.destination_checks import DestinationChecks

        return DestinationChecks(self.opened, self)

    def start(self) -> None:
        """Let a second process begin with the destinations, if it is worth it, before other rules run here."""
        if self._inspection is not None:
            self._inspection.start()

    @cached_property
    def _destinations(self) -> DestinationChecks | None:
        return self._inspection.run() if self._inspection is not None else None

    @property
    def destination_diagnostics(self) -> Mapping[str, Sequence[Diagnostic]]:
        """What the destinations report by rule, as files would be rendered and running systems delivered to."""
        return self._destinations.diagnostics if self._destinations else {}

    @cached_property
    def _report(self) -> MentionReport | None:
        if not has_code(self.jar):
            return None
        from coinjar.actions.mentions.search import code_paths, find

        return find(self.opened, self.jar, code_paths(self.jar, self.opened.folder.resolve().parent))

    @cached_property
    def port_uses(self) -> Sequence[PortUse]:  # type: ignore[override]  # computed here, a plain attribute above
        """The ports in the files of destinations, and in the code."""
        ports = self._destinations.port_uses if self._destinations else ()
        if not has_code(self.jar):
            return ports
        from coinjar.actions.checking.port_checks import ports_in_code

        return [*ports, *ports_in_code(self.opened, self, ports)]

    @cached_property
    def runner_diagnostics(self) -> Mapping[str, Sequence[Diagnostic]]:
        """What runners do not take as it is meant, in documents below `code:`, by rule."""
        if not has_code(self.jar):
            return {}
        from coinjar.actions.checking.runners_in_code import diagnostics_in_code

        return diagnostics_in_code(self)

    @cached_property
    def uses(self) -> Sequence[CodeUse]:  # type: ignore[override]  # as above
        """Where the code uses variables. Raises InputError for a missing path of jar.yaml."""
        if self._report is None:
            return ()
        from coinjar.actions.mentions.search import uses

        return list(uses(self._report))

    @cached_property
    def literals(self) -> Sequence[CodeLiteral]:  # type: ignore[override]  # as above
        """Values that the code contains as literals."""
        if self._report is None:
            return ()
        from coinjar.actions.mentions.search import literals

        return list(literals(self, self._report))

    @cached_property
    def unreadable(self) -> Sequence[Diagnostic]:  # type: ignore[override]  # as above
        """Code whose mentions are not known."""
        if self._report is None:
            return ()
        from coinjar.actions.mentions.search import unread_files

        return unread_files(self._report)
