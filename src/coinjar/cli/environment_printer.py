"""What `render --as` writes to stdout: one service's variables in a dialect."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from coinjar.actions.open_jar import OpenJar, Resolution, service_or_only
from coinjar.actions.output.render_text import rendered, rendered_example, rendered_sealed, rendered_stages
from coinjar.cli.common import print_by_default
from coinjar.cli.opening import one_offs, print_status, resolved
from coinjar.core.errors import UsageError
from coinjar.dialects import BUILT_IN, get

if TYPE_CHECKING:
    from coinjar.dialects.shell import ExecScriptDialect


class EnvironmentPrinter:
    """Prints one service's variables in one dialect."""

    def __init__(
        self,
        opened: OpenJar,
        dialect: str,
        service: str | None,
        given: Sequence[str],
        *,
        show_secrets: bool,
        by_default: bool = False,
        keep_set: bool = False,
    ) -> None:
        self.opened = opened
        self.dialect = get(dialect)
        if keep_set:
            self._script().keep_set = True
        self.service = service
        self.given = list(given)
        self.show_secrets = show_secrets
        self.by_default = by_default

    def run(self, names: Sequence[str] | None, recipients: Sequence[str]) -> None:
        """Print the first named stage (None: every stage); encrypted, if there are recipients."""
        if recipients and (self.dialect.name != "exec-script" or not names):
            hint = "`coinjar render STAGE --as exec-script --encrypt-to RECIPIENT`"
            raise UsageError("--encrypt-to requires --as exec-script and one stage", hint=hint)
        if names is None:
            self._stages()
            return
        if not names:
            raise UsageError("which stage?", hint="name one")
        if self.by_default:
            resolver = self.opened.resolver(names[0], one_offs=one_offs(self.given), mine=True)
            print_by_default(resolver, service_or_only(resolver.jar, self.service))
        if recipients:
            self._sealed(names[0], recipients)
        else:
            self._one(names[0])

    def _script(self) -> ExecScriptDialect:
        """Return the dialect. Raises UsageError for another than exec-script."""
        from coinjar.dialects.shell import ExecScriptDialect

        if not isinstance(self.dialect, ExecScriptDialect):
            raise UsageError("--keep-set requires --as exec-script", hint="omit it, or add --as exec-script")
        return self.dialect

    def _one(self, stage: str) -> None:
        if self.dialect.name == "example":  # made from the declarations: values may be missing
            resolver = self.opened.resolver(stage)
            _put_out(rendered_example(resolver, service_or_only(resolver.jar, self.service)))
            return
        resolver, resolution = resolved(self.opened, stage, self.service, self.given)
        _put_out(rendered(resolver.jar, self._for_eyes(resolution), self.dialect))

    def _sealed(self, stage: str, recipients: Sequence[str]) -> None:
        """Print a script that contains its values encrypted: safe on a terminal too."""
        resolver, resolution = resolved(self.opened, stage, self.service, self.given)
        _put_out(rendered_sealed(resolver.jar, resolution, self._script(), recipients))

    def _stages(self) -> None:
        if not self.dialect.many_stages:
            able = ", ".join(name for name in BUILT_IN if get(name).many_stages)
            raise UsageError(f"{self.dialect.name} supports one stage", hint=f"these support several: {able}")
        jar = self.opened.load()
        service, given = service_or_only(jar, self.service), one_offs(self.given)
        names = [self.opened.resolve(stage, service=service, one_offs=given) for stage in jar.stage_names()]
        _put_out(rendered_stages(jar, [self._for_eyes(resolution) for resolution in names], self.dialect))

    def _for_eyes(self, resolution: Resolution) -> Resolution:
        """Print for a terminal: a mask instead of every secret."""
        if self.show_secrets or not sys.stdout.isatty():
            return resolution
        from coinjar.core.display import Masker
        from coinjar.core.model import Resolved

        masker = Masker()
        shown = {
            name: Resolved(resolved.variable, resolved.definition, masker.mask(resolved.text), secret=True)
            if resolved.secret and resolved.text is not None
            else resolved
            for name, resolved in resolution.items()
        }
        print_status("coinjar: secrets are masked on a terminal (use --show-secrets, a pipe or a file to get them)")
        return Resolution(resolution.stage, resolution.service, shown)


def _put_out(data: bytes) -> None:
    sys.stdout.flush()
    sys.stdout.buffer.write(data)
    sys.stdout.buffer.flush()
