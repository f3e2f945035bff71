"""`coinjar rotate`."""

from __future__ import annotations

import asyncio
import sys
from datetime import UTC, date, datetime
from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    YesOption,
    ask_to_go_on,
    counted,
    known_stages,
    layer_names,
    named_variables,
    open_here,
    print_json,
    service_names,
    variable_names,
)
from coinjar.cli.deliver import GuardedOption
from coinjar.cli.opening import complete_interrupted, print_status
from coinjar.cli.structure import finish_plan
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from coinjar.actions.delivery.outcome import DeliveryOutcome
    from coinjar.actions.open_jar import OpenJar
    from coinjar.actions.rotation.rotate import RotationPlan
    from coinjar.actions.rotation.rotated_secret import RotatedSecret


def run(
    ctx: typer.Context,
    names: Annotated[
        list[str],
        typer.Argument(metavar="NAME...", autocompletion=variable_names, help="The secrets, also patterns."),
    ],
    stage: Annotated[
        str, typer.Option("--stage", metavar="STAGE", autocompletion=layer_names, help="Where they are set, or shared.")
    ],
    service: Annotated[
        str | None,
        typer.Option("--service", "-s", metavar="SERVICE", autocompletion=service_names, help="Only its own value."),
    ] = None,
    given: Annotated[
        bool, typer.Option("--given", help="Ask for the new value, or read it from stdin. Default: make one.")
    ] = False,
    until: Annotated[
        str | None,
        typer.Option("--until", metavar="STEP", help="Stop after: made, changed, switched or delivered."),
    ] = None,
    finish: Annotated[
        bool, typer.Option("--finish", help="All that read files have the new value: forget the old one.")
    ] = False,
    back: Annotated[bool, typer.Option("--back", help="Go back to the previous value.")] = False,
    allow_guarded: GuardedOption = None,
    wait: Annotated[
        float, typer.Option("--wait", metavar="SECONDS", min=0, help="Wait for proofs and other deliveries.")
    ] = 30,
    as_json: JsonOption = False,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only show the steps.")] = False,
    yes: YesOption = False,
    jar: JarOption = None,
) -> None:
    """Replace secrets everywhere: make, change, prove, switch, deliver, restart, confirm, forget.

    The old value is kept until the new one holds everywhere. After an interruption the same command goes on.
    """
    from coinjar.actions.rotation.rotate import plan_rotation
    from coinjar.core.rotation import STEPS

    if until is not None and until not in STEPS:
        raise UsageError(f"there is no step '{until}'", hint=f"the steps are {', '.join(STEPS)}", code="unknown-step")
    if (back and (given or until)) or (until and finish):
        raise UsageError(f"{'--back' if back else '--finish'} excludes --given and --until", hint="omit one")
    opened = open_here(ctx, jar)
    complete_interrupted(opened)
    declared = opened.load()
    allowed = known_stages(declared, allow_guarded, "--allow-guarded")
    chosen = named_variables(declared, names, among=declared.secret_names)
    if given and len(chosen) > 1:
        raise UsageError("--given takes one value", hint="rotate one secret at a time", code="usage")
    plan = plan_rotation(opened, chosen, stage, service, is_given=given or back)
    steps = _Steps(opened, plan, allowed, wait, as_json=as_json)
    if back:
        _go_back(steps, dry_run=dry_run, yes=yes, finish=finish)
    else:
        steps.show(until, is_given=given)
        steps.look_first(until)
        finish_plan(dry_run=dry_run)
        ask_to_go_on(_question(plan), yes=yes)
        steps.carry_out(_given(chosen[0]) if given else {}, until, finish=finish)
    if as_json:
        print_json(steps.as_json())
    if not steps.holds:
        raise typer.Exit(1)


def _question(plan: RotationPlan) -> str:
    names = ", ".join(secret.name for secret in plan.secrets)
    return f"{'Go on with' if plan.secrets[0].step else 'Rotate'} {names} on {plan.secrets[0].layer}?"


def _given(name: str) -> dict[str, str]:
    """Return the value that a person types, or that stdin has. Raises UsageError for none."""
    from coinjar.core.utf8 import decode_value

    if sys.stdin.isatty():
        prompt = f"New value of {name} (not shown)"
        text = str(typer.prompt(prompt, hide_input=True, default="", show_default=False, err=True))
    else:
        data = sys.stdin.buffer.read()
        text = decode_value(data, f"the input for {name}", "encode bytes first, for example as base64")
        text = text if text.lstrip().startswith("-----BEGIN ") else text.removesuffix("\n").removesuffix("\r")
    if not text:
        raise UsageError(f"there is no new value of {name}", hint="give it on stdin", code="empty")
    return {name: text}


def _go_back(steps: _Steps, *, dry_run: bool, yes: bool, finish: bool) -> None:
    from coinjar.core.rotation import SWITCHED

    switched = [secret.name for secret in steps.plan.secrets if secret.step == SWITCHED]
    names = ", ".join(secret.name for secret in steps.plan.secrets)
    if switched:
        print_status(f"{', '.join(switched)}: the previous value comes back, and is delivered")
    steps.look_first(None if switched else "made")
    finish_plan(dry_run=dry_run)
    ask_to_go_on(f"Go back with {names}?", yes=yes)
    steps.rotation.go_back()
    if switched:
        steps.carry_out({}, None, finish=finish)


class _Steps:
    """Carries the steps out, and shows them."""

    def __init__(
        self, opened: OpenJar, plan: RotationPlan, allowed: Sequence[str], wait: float, *, as_json: bool
    ) -> None:
        from coinjar.actions.rotation.rotate import Rotation
        from coinjar.core.display import Masker

        self.opened = opened
        self.plan = plan
        self.allowed = list(allowed)
        self.wait = wait
        self.masker = Masker()
        self.done: list[tuple[str, str]] = []
        self.holds = True
        self.to_stdout = not as_json
        self.rotation = Rotation(opened, plan, self.masker, self.tell)

    def tell(self, step: str, words: str) -> None:
        """Show a step that is done."""
        self.done.append((step, words))
        print_status(f"✓ {step.ljust(9)} {words}")

    def show(self, until: str | None, *, is_given: bool) -> None:
        """Show what will be done."""
        from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

        for secret in self.plan.secrets if self.to_stdout else ():
            show(styled(_heading(secret), "bold"))
        rows = [
            [StyledText(step, "dim" if is_done else "bold"), StyledText("done" if is_done else words)]
            for step, words, is_done in _planned(self.plan, until, is_given=is_given)
        ]
        for line in table(["", ""], rows, least=[10, 30], width=terminal_width()) if self.to_stdout else ():
            show(line)
        if self.plan.same:
            print_status(f"note: {', '.join(self.plan.same)} has the same text, and keeps it")

    def look_first(self, until: str | None) -> None:
        """Look at everything that will be delivered to before anything changes. Raises what cannot be done later."""
        from coinjar.actions.rotation.everywhere import check_files, deliver, guarded
        from coinjar.core.rotation import CHANGED, MADE, SWITCHED
        from coinjar.destinations.live.patience import RequestPatience

        self.opened.gate.require(*self._acts())
        if until in (MADE, CHANGED, SWITCHED):
            return
        missing = guarded(self.opened.load(), self.plan.carriers, self.allowed)
        if missing:
            words = " and ".join(missing)
            hint = " ".join(f"--allow-guarded {stage}" for stage in missing)
            raise UsageError(f"{words} is guarded; nothing was changed", hint=f"add {hint}", code="guarded")
        patience = RequestPatience(max(self.wait, RequestPatience().longest), print_status)
        for carrying in self.plan.carriers:
            check_files(self.opened, carrying, self.masker)
            if not carrying.live:
                continue
            _, outcomes = asyncio.run(
                deliver(self.opened, carrying, self.masker, patience, wait=self.wait, dry_run=True)
            )
            _raise_first(outcomes)
            for outcome in outcomes:
                others = [change.name for change in outcome.changes if change.name not in carrying.names]
                if others:
                    more = ", ".join(others[:5]) + (" …" if len(others) > 5 else "")
                    print_status(f"note: {outcome.label} also gets {counted(len(others), 'other change')}: {more}")

    def _acts(self) -> list[Any]:
        from coinjar.actions.rotation.programs import rotation_acts

        return [act for secret in self.plan.secrets for act in rotation_acts(secret.rules, self.opened.folder)]

    def carry_out(self, given: dict[str, str], until: str | None, *, finish: bool) -> None:
        """Do all steps. Raises ExternalError if the new value does not hold everywhere; where nothing tells, the old
        one is kept unless `finish`, and `holds` is false.
        """
        from coinjar.core.rotation import CHANGED, DELIVERED, MADE, SWITCHED

        self.rotation.make(given)
        if self._stops(until, MADE):
            return
        self.rotation.change()
        asyncio.run(self.rotation.prove())
        if self._stops(until, CHANGED):
            return
        self.rotation.switch()
        if self._stops(until, SWITCHED):
            return
        self._render_and_deliver()
        if self._stops(until, DELIVERED):
            return
        silent = self._confirm()
        if silent and not finish:
            print_status(f"The old value is kept: nothing shows whether {', '.join(silent)} has the new one.")
            print_status(f"Next: restart what does not have it, then `{self._again()} --finish`")
            self.holds = False
            return
        self.rotation.finish()

    def _stops(self, until: str | None, step: str) -> bool:
        if until == step:
            print_status(f"Stopped after '{step}'. Without --until the same command goes on, with --back it goes back.")
        return until == step

    def _render_and_deliver(self) -> None:
        from coinjar.actions.rotation.everywhere import deliver, not_in_effect, render
        from coinjar.cli.delivery_output import show_rest
        from coinjar.destinations.live.patience import RequestPatience

        patience = RequestPatience(max(self.wait, RequestPatience().longest), print_status)
        waiting: list[str] = []
        for carrying in self.plan.carriers:
            here, absent = render(self.opened, carrying, self.masker)
            if here:
                self.tell("rendered", f"{carrying.stage}: {', '.join(here)}")
            if absent:
                names = f"{', '.join(absent)} on {carrying.stage}"
                print_status(f"note: no file of {names} is here: `coinjar render` it where it is used")
            if not carrying.live:
                continue
            delivery, outcomes = asyncio.run(
                deliver(self.opened, carrying, self.masker, patience, wait=self.wait, dry_run=False)
            )
            show_rest(delivery, outcomes)
            if any(outcome.fault for outcome in outcomes):
                self._not_yet("a delivery failed")
            waiting += not_in_effect(outcomes)
            self.tell("delivered", f"{carrying.stage}: {', '.join(outcome.label for outcome in outcomes)}")
        if waiting:
            self._not_yet(f"{', '.join(waiting)} may still run with the old value")

    def _confirm(self) -> list[str]:
        """Ask the proofs. Return the stages of which nothing tells that the running services have the new value: they
        read files, or nothing carries the value, and no proof has asked them.
        """
        from coinjar.actions.rotation.everywhere import confirm_all

        results = asyncio.run(
            confirm_all(
                self.opened,
                self.plan.secrets,
                self.plan.carriers,
                self.masker,
                wait=self.wait,
                allowed=self.allowed,
            )
        )
        for result in results:
            if not result.holds:
                why = result.verdict.actual if result.verdict else result.fault.message if result.fault else ""
                self._not_yet(f"{result.proof.name} does not hold on {result.stage}: {why}")
        if results:
            self.tell("confirmed", ", ".join(f"{result.proof.name} on {result.stage}" for result in results))
        asked = {result.stage for result in results if result.proof.asker != "program"}
        return [
            f"{one.stage} ({', '.join(one.files) or 'no destination'})"
            for one in self.plan.carriers
            if (one.files or not one.live) and one.stage not in asked
        ]

    def _not_yet(self, why: str) -> None:
        """End the command: the new value does not hold everywhere. Always raises."""
        from coinjar.core.errors import ExternalError

        raise ExternalError(
            f"{why}; the previous value is kept",
            hint=f"`{self._again()}` goes on when that is repaired, and --back goes back",
            code="not-everywhere",
        )

    def _again(self) -> str:
        names = " ".join(secret.name for secret in self.plan.secrets)
        return f"coinjar rotate {names} --stage {self.plan.secrets[0].layer}"

    def as_json(self) -> dict[str, Any]:
        """docs/json.md"""
        return {
            "secrets": [
                {
                    "name": secret.name,
                    "layer": secret.layer,
                    "scopes": list(secret.scopes),
                    "set_on": secret.value.set_on or None,
                    "under_way": secret.step or None,
                }
                for secret in self.rotation.secrets
            ],
            "steps": [{"step": step, "words": words} for step, words in self.done],
            "stages": [
                {"stage": one.stage, "services": one.services, "live": one.live, "files": one.files}
                for one in self.plan.carriers
            ],
        }


def _raise_first(outcomes: Sequence[DeliveryOutcome]) -> None:
    for outcome in outcomes:
        if outcome.fault is not None:
            raise outcome.fault


def _heading(secret: RotatedSecret) -> str:
    scopes = "" if secret.scopes == ("all",) else f" for {', '.join(secret.scopes)}"
    since = "its age is not known"
    if secret.value.set_on:
        age = (datetime.now(UTC).date() - date.fromisoformat(secret.value.set_on)).days
        since = f"set on {secret.value.set_on}, {counted(age, 'day')} ago"
    days = secret.variable.valid_days
    until = f", good for {counted(days, 'day')}" if days else ""
    return f"{secret.name} on {secret.layer}{scopes}: {since}{until}"


def _planned(plan: RotationPlan, until: str | None, *, is_given: bool) -> list[tuple[str, str, bool]]:
    """Return the steps in order: name, what is done, whether it is done already."""
    from coinjar.core.rotation import STEPS, SWITCHED

    first = plan.secrets[0]
    is_made, is_switched = (all(s.step for s in plan.secrets), all(s.step == SWITCHED for s in plan.secrets))

    def programs(key: str) -> str:
        return ", ".join(dict.fromkeys(" ".join(getattr(s.rules, key)) for s in plan.secrets if getattr(s.rules, key)))

    change, revoke = programs("change"), programs("revoke")
    turns = [f"{turn.name}: {turn.old} → {turn.new}" for secret in plan.secrets for turn in secret.turns]
    proofs = ", ".join(dict.fromkeys(name for secret in plan.secrets for name in secret.rules.proofs))
    where = "; ".join(
        f"{one.stage} ({', '.join([*one.live, *one.files]) or 'no destination'})" for one in plan.carriers
    )
    made = (
        "takes a new value from you" if is_given else f"runs {programs('make')}" if first.rules.make else "a new value"
    )
    is_carried = any(one.live or one.files for one in plan.carriers)
    steps = [
        ("make", f"{made}, kept as the next one", is_made, 0),
        ("change", f"runs {change}" if change else "nothing: no program is declared", is_switched, 1),
        ("switch", "; ".join(["the jar has the new value, the old one is kept", *turns]), is_switched, 2),
        ("deliver", f"{where}; and restarts" if is_carried else "nothing: no destination carries it", False, 3),
        ("confirm", proofs or "nothing: no proof is declared", False, 4),
        ("forget", f"the old value, and runs {revoke}" if revoke else "the old value", False, 4),
    ]
    last = STEPS.index(until) if until else len(STEPS)
    return [(step, words, is_done) for step, words, is_done, number in steps if number <= last]
