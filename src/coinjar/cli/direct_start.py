"""`within` in its usual form, read without the library for command lines: a program starts in half of the time."""

from __future__ import annotations

import gc
import os
from typing import NamedTuple, NoReturn

gc.disable()  # imported objects never become garbage; see docs/decisions.md

from coinjar.cli.visible_output import visible_output  # noqa: E402 - only after the collector is off
from coinjar.system.process_secrets import take  # noqa: E402


class _Start(NamedTuple):
    """`[--jar PATH] within STAGE [--service SERVICE] -- CMD [ARGUMENT...]`."""

    jar: str | None
    stage: str
    service: str | None
    command: list[str]


def start_directly(given: list[str]) -> int | None:
    """Start the program that the words name, which replaces this one; return the exit code if it cannot be started, and
    None if the words have another form: then nothing was done.
    """
    form = _usual_form(given)
    if form is None or "_COINJAR_COMPLETE" in os.environ:
        return None
    take()
    with visible_output():
        try:
            return _start(form)
        except (Exception, KeyboardInterrupt) as error:  # noqa: BLE001 - as for every command
            from coinjar.cli.main import print_end

            return print_end(error)


def _usual_form(given: list[str]) -> _Start | None:
    jar = os.environ.get("COINJAR_JAR")
    if given[:1] == ["--jar"]:
        jar, given = given[1] if len(given) > 1 else "", given[2:]
    if given[:1] != ["within"] or "--" not in given or (jar or "").startswith("-"):
        return None
    end = given.index("--")
    words, command = given[1:end], given[end + 1 :]
    service = None
    if len(words) == 3 and (name := next((at for at in (0, 1) if words[at] in ("--service", "-s")), None)) is not None:
        service = words.pop(name + 1)
        words.pop(name)
    is_usual = len(words) == 1 and command and not any(word.startswith("-") for word in (*words, service or ""))
    return _Start(jar or None, words[0], service, command) if is_usual else None


def _start(form: _Start) -> NoReturn:
    from coinjar.actions.output.exec_program import environment, exec_program
    from coinjar.cli.opening import opened_at, require_folder, resolved

    require_folder()
    _, resolution = resolved(opened_at(form.jar), form.stage, form.service, None)
    exec_program(form.command, environment(resolution, os.environ, bare=False))
