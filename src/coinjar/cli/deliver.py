"""`coinjar deliver`."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated

import typer

from coinjar.cli.common import JarOption, JsonOption, SecretsOption, deliver_names, known_stages, open_here, print_json
from coinjar.cli.opening import print_status
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from coinjar.actions.delivery.live_stage import LiveStage
    from coinjar.actions.delivery.outcome import DeliveryOptions
    from coinjar.core.display import Masker

DryRunOption = Annotated[bool, typer.Option("--dry-run", help="Change nothing; show what would change.")]
GuardedOption = Annotated[
    list[str] | None,
    typer.Option(
        "--allow-guarded",
        metavar="STAGE",
        help="Deliver to this guarded stage without asking; may be repeated. Default: ask.",
    ),
]
RestartOption = Annotated[
    bool,
    typer.Option(
        "--restart",
        help="Restart or redeploy what must read the new values, and wait for it. Default: report it as pending.",
    ),
]
WaitOption = Annotated[
    float,
    typer.Option(
        "--wait",
        metavar="SECONDS",
        min=0,
        help="Wait up to SECONDS for another delivery to finish, and for a service that asks to try again later "
        "(for this at least 60).",
    ),
]


def run(
    ctx: typer.Context,
    where: Annotated[
        list[str],
        typer.Argument(
            metavar="STAGE [DEST]...",
            autocompletion=deliver_names,
            help="The stage (shared: values of a whole project), then destinations (default: all).",
        ),
    ],
    dry_run: DryRunOption = False,
    requests: Annotated[
        bool,
        typer.Option("--requests", help="With --dry-run: show the requests and steps, secrets and tokens masked."),
    ] = False,
    restart: RestartOption = False,
    allow_guarded: GuardedOption = None,
    wait: WaitOption = 0,
    remove_extra: Annotated[
        bool, typer.Option("--remove-extra", help="Also remove unmanaged variables. Default: keep them.")
    ] = False,
    show_secrets: SecretsOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Deliver the jar's values to running systems: hosts, containers, clusters, platforms.

    Reads the live values, shows the differences, writes only these, reads them back and records them. A failure of one
    target does not stop others. Run it again to finish an interrupted delivery.
    """
    from coinjar.actions.delivery.live_stage import LiveStage
    from coinjar.actions.delivery.outcome import DeliveryOptions
    from coinjar.core.display import Masker
    from coinjar.destinations.live.patience import RequestPatience

    if requests and not dry_run:
        raise UsageError("--requests requires --dry-run", hint="add --dry-run: then only reading requests are sent")
    if requests and as_json:
        raise UsageError("--requests has no JSON form", hint="omit --json")
    stage, *names = where
    masker = Masker(show_secrets=show_secrets)
    patience = RequestPatience(max(wait, RequestPatience().longest), print_status)
    opened = LiveStage(open_here(ctx, jar), stage, names, masker, writes=not dry_run, patience=patience)
    options = DeliveryOptions(restart=restart, patience=wait, remove_extra=remove_extra)
    carry_out(opened, options, masker, dry_run=dry_run, requests=requests, allowed=allow_guarded or [], as_json=as_json)


def carry_out(
    opened: LiveStage,
    options: DeliveryOptions,
    masker: Masker,
    *,
    dry_run: bool,
    requests: bool,
    allowed: list[str],
    as_json: bool,
) -> None:
    """Inspect, show, ask if the stage is guarded, deliver, and show the result."""
    import asyncio

    from coinjar.actions.delivery.deliver import Delivery
    from coinjar.actions.delivery.outcome import DeliveryOutcome, exit_code
    from coinjar.cli import delivery_output
    from coinjar.cli.progress import progress

    with opened:  # its records are closed whatever is refused
        allowed = known_stages(opened.jar, allowed, "--allow-guarded")
        delivery = Delivery(opened, options, progress())

        def report(planned: list[DeliveryOutcome]) -> None:
            if not as_json:
                delivery_output.show_changes(planned, masker)
                if requests:
                    delivery_output.show_requests(delivery)

        outcomes = asyncio.run(delivery.run(lambda: _ask(opened, allowed), report, dry_run=dry_run))
    if as_json:
        print_json(delivery_output.as_json(delivery, outcomes, masker, dry=dry_run))
    else:
        delivery_output.show_outcomes(outcomes, dry=dry_run)
    delivery_output.show_rest(delivery, outcomes)
    if code := exit_code(outcomes):
        raise typer.Exit(code)


def _ask(opened: LiveStage, allowed: list[str]) -> None:
    """Ask for consent on a guarded stage. Raises UsageError without it."""
    stage = opened.stage
    if not opened.is_guarded or stage in allowed:
        return
    if sys.stdin.isatty():
        print_status(f"{stage} is guarded.")
        if typer.prompt("Type its name to deliver", default="", show_default=False, err=True) == stage:
            return
    raise UsageError(f"{stage} is guarded; nothing was delivered", hint=f"add --allow-guarded {stage}", code="guarded")
