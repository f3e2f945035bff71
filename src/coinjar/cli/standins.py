"""`coinjar standins`."""

from __future__ import annotations

import json
import os
import shlex
from pathlib import Path
from typing import Annotated

import typer

from coinjar.cli.common import standin_names
from coinjar.core.errors import ExternalError, UsageError


def run(
    names: Annotated[
        list[str],
        typer.Argument(
            metavar="NAME...", autocompletion=standin_names, help="saltmarsh, lanternfish, sluiceway, hayloft."
        ),
    ],
    state: Annotated[Path, typer.Option("--state", metavar="DIR", help="The folder for the state.")],
    port: Annotated[
        list[int] | None,
        typer.Option("--port", min=0, max=65535, help="A fixed port; once for each name. Default: a free port."),
    ] = None,
    fault: Annotated[
        str,
        typer.Option(
            "--fault",
            metavar="KIND[:N]",
            help="Inject a fault into each N-th request (default: each third): slow, drop, 500, half or 429.",
        ),
    ] = "",
    exports: Annotated[
        Path | None,
        typer.Option(
            "--exports",
            metavar="FILE",
            help="Write a file for a shell to source: SALTMARSH_ADDRESS, SALTMARSH_TOKEN and so on.",
        ),
    ] = None,
    make: Annotated[
        list[str] | None,
        typer.Option("--make", metavar="NAME", help="Create an app or project of this name in each; may be repeated."),
    ] = None,
) -> None:
    """Run simulated platforms on this machine, until stopped, to try deliveries on.

    Prints a line of JSON for each: name, address, token. Its address, opened in a browser, shows what is set.
    """
    import contextlib
    import threading

    import jinja2  # noqa: F401 - a missing extra is reported before anything listens

    from coinjar.standins import STANDINS, standin_class
    from coinjar.standins.base import FAULTS, served
    from coinjar.system.files import replace_file

    for name in names:
        if name not in STANDINS:
            raise UsageError(f"there is no stand-in '{name}'", hint=f"they are {', '.join(STANDINS)}")
    kind, _, every = fault.partition(":")
    if fault and (kind not in FAULTS or not (every or "1").isdigit() or every == "0"):
        raise UsageError(
            f"there is no fault '{fault}'",
            hint=f"the faults are {', '.join(FAULTS)}; for example drop:5 for every fifth request",
        )
    running: list[dict[str, str]] = []
    exported: list[str] = []
    ports = [*(port or []), *[0] * len(names)]
    with contextlib.ExitStack() as stack:
        for name, at in zip(names, ports, strict=False):
            standin = standin_class(name)(state, fault)
            try:
                stack.enter_context(served(standin, at))
            except OSError as raised:
                raise ExternalError(
                    f"cannot listen on port {at}: {(raised.strerror or '').lower()}",
                    hint="choose another --port, or none",
                ) from None
            for project in make or []:
                standin.make(project)
            messages = {
                "name": name,
                "address": standin.address,
                "token": standin.state["tokens"]["anna"],
                "second_token": standin.state["tokens"]["berta"],
            }
            running.append(messages | standin.more())
            exported += [
                f"export {name.upper()}_{key.upper()}={shlex.quote(str(messages[key]))}\n"
                for key in ("address", "token", "second_token")
            ]
        if exports is not None:
            replace_file(exports, "".join([*exported, f"export STANDINS_PID={os.getpid()}\n"]).encode(), private=True)
        for reported in running:
            print(json.dumps(reported), flush=True)
        with contextlib.suppress(KeyboardInterrupt):
            while not threading.Event().wait(0.5):
                pass  # a signal taken by another thread is handled now: it does not wake this one
