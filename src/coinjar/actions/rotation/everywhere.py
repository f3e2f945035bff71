"""Bring a switched value to everything that carries it, and confirm it: files, running systems, proofs."""

from __future__ import annotations

from collections.abc import Sequence

from coinjar.actions.delivery.deliver import Delivery
from coinjar.actions.delivery.live_stage import LiveStage
from coinjar.actions.delivery.outcome import DeliveryOptions, DeliveryOutcome
from coinjar.actions.open_jar import OpenJar
from coinjar.actions.output.render_files import NEW, plan, write
from coinjar.actions.rotation.carriers import Carriers
from coinjar.actions.rotation.rotate import proofs_of
from coinjar.actions.rotation.rotated_secret import RotatedSecret
from coinjar.actions.running.confirm import ConfirmOptions, ProofResult, confirm
from coinjar.core.display import Masker
from coinjar.core.model import Jar
from coinjar.core.names import SHARED
from coinjar.destinations.live.patience import RequestPatience
from coinjar.records.queries import ASKED, WAITS


def guarded(jar: Jar, carrying: Sequence[Carriers], allowed: Sequence[str]) -> list[str]:
    """Return the guarded stages that would be delivered to without being allowed."""
    return [
        one.stage
        for one in carrying
        if one.live and one.stage != SHARED and jar.stage(one.stage).guarded and one.stage not in allowed
    ]


async def deliver(
    opened: OpenJar,
    carrying: Carriers,
    masker: Masker,
    patience: RequestPatience,
    *,
    wait: float,
    dry_run: bool,
) -> tuple[Delivery, list[DeliveryOutcome]]:
    """Deliver to the running systems that carry a value on a stage, and restart them; with `dry_run` only read them."""
    stage = LiveStage(opened, carrying.stage, carrying.live, masker, writes=not dry_run, patience=patience)
    delivery = Delivery(stage, DeliveryOptions(restart=True, patience=wait))
    return delivery, await delivery.run(dry_run=dry_run)


def not_in_effect(outcomes: Sequence[DeliveryOutcome]) -> list[str]:
    """Return the targets whose programs may still have the earlier value."""
    return [outcome.label for outcome in outcomes if outcome.fault is None and outcome.restart in (WAITS, ASKED)]


def check_files(opened: OpenJar, carrying: Carriers, masker: Masker) -> None:
    """Raise why a destination that carries a value cannot be rendered, before anything changes."""
    if carrying.files:
        plan(opened, [carrying.stage], carrying.files, masker)


def render(opened: OpenJar, carrying: Carriers, masker: Masker) -> tuple[list[str], list[str]]:
    """Render the destinations that carry a value and were rendered here before.

    Return the names of these, and of those without a file here.
    """
    here, absent = list[str](), list[str]()
    for name in carrying.files:
        planned = plan(opened, [carrying.stage], [name], masker)
        is_here = any(file.state != NEW for file in planned.files)
        (here if is_here else absent).append(name)
        if is_here and planned.out_of_date:
            write(opened, [carrying.stage], [name], masker)
    return here, absent


async def confirm_all(
    opened: OpenJar,
    secrets: Sequence[RotatedSecret],
    carrying: Sequence[Carriers],
    masker: Masker,
    *,
    wait: float,
    allowed: Sequence[str],
) -> list[ProofResult]:
    """Ask the proofs of the secrets on every stage that gets them; wait until they hold."""
    jar = opened.load()
    results = []
    for one in carrying:
        if names := proofs_of(jar, secrets, one.stage):
            results += await confirm(opened, [one.stage], names, masker, ConfirmOptions(wait, allowed))
    return results
