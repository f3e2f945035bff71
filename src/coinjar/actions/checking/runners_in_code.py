"""What runners do not take as it is meant, in documents below `code:`."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from coinjar.actions.mentions.search import code_paths
from coinjar.core.diagnostics import Diagnostic
from coinjar.core.display import Masker
from coinjar.core.errors import CoinJarError
from coinjar.destinations.open_document import OpenDocument
from coinjar.destinations.runner_notices import RunnerContext, notices
from coinjar.jarfile.load import read_bytes
from coinjar.jarfile.runner_files import known_runners, load_runner
from coinjar.scanning.file_walk import FileWalk
from coinjar.system.files import display_path

if TYPE_CHECKING:
    from coinjar.actions.checking.context import FileContext

_DOCUMENTS = (".yaml", ".yml", ".json")
_LARGEST = 1 << 20


def diagnostics_in_code(context: FileContext) -> dict[str, list[Diagnostic]]:
    """Return the findings on documents below `code:` that a runner recognizes, by rule, each once; those of
    destinations are not repeated.
    """
    runners = []
    for name in known_runners(context.opened.folder):
        with suppress(CoinJarError):  # CJ017 reports a faulty description
            runners.append(load_runner(context.opened.folder, name))
    runners = [runner for runner in runners if runner.marks]
    found: dict[str, dict[Diagnostic, None]] = {}
    base = context.opened.folder.resolve().parent
    walk = FileWalk((), context.jar.code.without if context.jar.code else (), [context.opened.folder], base)
    for candidate in walk.files(code_paths(context.jar, base)):
        if candidate.size > _LARGEST or not candidate.path.endswith(_DOCUMENTS):
            continue
        document = _opened(Path(candidate.path))
        if document is None or document.root is None:
            continue
        for runner in [runner for runner in runners if runner.fits(document.root)]:
            for stage in context.stages:
                seen = RunnerContext(document, runner, context.resolver(stage), [*context.jar.services], Masker())
                for rule, diagnostic in notices(seen):
                    found.setdefault(rule, {})[diagnostic] = None
    reported = {rule: set(context.destination_diagnostics.get(rule, ())) for rule in found}
    return {rule: [one for one in found[rule] if one not in reported[rule]] for rule in found}


def _opened(path: Path) -> OpenDocument | None:
    """Return a document; None for one that cannot be read, which CJ043 reports if it mentions variables."""
    try:
        return OpenDocument(read_bytes(path), display_path(path))
    except CoinJarError:
        return None
