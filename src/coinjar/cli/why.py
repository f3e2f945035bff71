"""`coinjar why`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    SecretsOption,
    ServiceOption,
    WithOption,
    open_here,
    print_json,
    why_names,
)
from coinjar.cli.opening import one_offs
from coinjar.core.definition import date_of
from coinjar.core.errors import UsageError
from coinjar.core.explain import layer_text, value_words

if TYPE_CHECKING:
    from coinjar.cli.tables import StyledText
    from coinjar.core.display import Masker
    from coinjar.core.explain import Explanation
    from coinjar.core.model import Resolved


def run(
    ctx: typer.Context,
    where: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[STAGE] NAME",
            autocompletion=why_names,
            help="The stage and the variable; with --in the variable alone, or nothing for everything that is there.",
        ),
    ] = None,
    inside: Annotated[
        str | None,
        typer.Option(
            "--in",
            metavar="DOCUMENT",
            help="A document: a destination's name, or a file. Explains the value in its environment. Without NAME "
            "also image:NAME, container:NAME, manifests:PATH and other sources.",
        ),
    ] = None,
    at: Annotated[
        str | None,
        typer.Option("--at", metavar="POINTER", help="With --in: the environment, or the step or job that has it."),
    ] = None,
    runner: Annotated[
        str | None,
        typer.Option("--runner", metavar="NAME", help="With --in: what runs the document, for its built-in names."),
    ] = None,
    service: ServiceOption = None,
    with_: WithOption = None,
    without_mine: Annotated[
        bool, typer.Option("--without-mine", help="Ignore your own values, as a delivery does.")
    ] = False,
    show_secrets: SecretsOption = False,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Explain one value: every layer that sets it, which takes effect, which are overridden, and the references it
    uses.
    """
    if inside is not None or at is not None:
        from coinjar.cli.inside import show_inside

        question = InsideQuestion(list(where or []), inside, at, service, runner)
        show_inside(ctx, question, jar, show_secrets=show_secrets, as_json=as_json)
        return
    if runner is not None:
        raise UsageError("--runner requires --in", hint="omit it")
    if where is None or len(where) != 2:
        raise UsageError(
            "why requires a stage and a variable",
            hint="`coinjar why STAGE NAME`, or `coinjar why NAME --in DOCUMENT --at POINTER`",
        )
    stage, name = where
    from coinjar.cli.service_choice import services_that_see
    from coinjar.core.display import Masker
    from coinjar.core.explain import explain

    resolver = open_here(ctx, jar).resolver(stage, one_offs=one_offs(with_), mine=not without_mine)
    variable = resolver.jar.variable(name)
    groups = services_that_see(resolver, variable, service)
    explanations = [explain(resolver, name, services[0]) for services in groups]
    masker = Masker(show_secrets=show_secrets)
    if as_json:
        result = [_as_json(explanation, masker) for explanation in explanations]
        print_json(result[0] if len(result) == 1 else {"stage": stage, "name": name, "services": result})
        return
    for number, explanation in enumerate(explanations):
        _show(explanation, masker, groups[number] if len(groups) > 1 else [explanation.service], first=number == 0)


class InsideQuestion(NamedTuple):
    """What `why --in` is asked: names (a stage, a variable), the document, the environment, a service, a runner."""

    where: list[str]
    inside: str | None
    at: str | None
    service: str | None
    runner: str | None


def _as_json(explanation: Explanation, masker: Masker) -> dict[str, Any]:
    def value(resolved: Resolved) -> dict[str, Any]:
        hidden = resolved.secret and not masker.show_secrets
        shown: dict[str, Any] = {
            "value": None if hidden else resolved.text,
            "has_value": resolved.text is not None,
            "secret": resolved.secret,
        }
        if hidden and resolved.text is not None:
            shown["masked"] = masker.mask(resolved.text)
        if resolved.fault:
            shown["fault"] = resolved.fault.message
        return shown

    secret = explanation.variable.secret
    return {
        "stage": explanation.stage,
        "service": explanation.service,
        "name": explanation.variable.name,
        **value(explanation.resolved),
        "layers": [
            {
                "layer": layer_value.layer,
                "form": layer_value.form,
                "says": layer_text(layer_value, True, masker)
                if secret and layer_value.form in ("text", "references") and not masker.show_secrets
                else layer_value.text,
                "wins": layer_value.wins,
                "set_on": date_of(layer_value.definition) or None,
                "file": layer_value.definition.file,
                "line": layer_value.definition.line,
                "column": layer_value.definition.column,
            }
            for layer_value in explanation.layers
        ],
        "references": [
            {"name": followed.name, "service": followed.service, "depth": followed.depth, **value(followed.resolved)}
            for followed in explanation.references
        ],
        "remarks": list(explanation.remarks),
    }


def _layer_rows(explanation: Explanation, masker: Masker) -> list[list[StyledText]]:
    from coinjar.cli.tables import StyledText

    rows = []
    for layer_value in reversed(explanation.layers):
        verdict = StyledText("✓ wins", "green") if layer_value.wins else StyledText("  overridden", "dim")
        words = layer_text(layer_value, explanation.variable.secret, masker)
        if since := date_of(layer_value.definition):
            words += f", set on {since}"
        place = str(layer_value.definition.location) if layer_value.definition.line else layer_value.definition.file
        rows.append(
            [
                verdict,
                StyledText(layer_value.layer, "yellow" if layer_value.kind == "mine" else ""),
                StyledText(words, "bold" if layer_value.wins else "dim"),
                StyledText(place, "cyan"),
            ]
        )
    return rows


def _show(explanation: Explanation, masker: Masker, services: list[str], *, first: bool) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width

    width = terminal_width()
    if not first:
        show("")
    show(styled(f"{explanation.variable.name} = {value_words(explanation.resolved, masker)}", "bold"))
    show(
        f"on {explanation.stage}, for {', '.join(services)}"
        + (f": {explanation.variable.about}" if explanation.variable.about else "")
    )
    rows = _layer_rows(explanation, masker)
    if rows:
        show("")
        for row in table(["", "layer, highest first", "value", "where"], rows, least=[9, 14, 16, 24], width=width):
            show(row)
    if explanation.references:
        show("")
        follows = []
        for followed in explanation.references:
            place = str(followed.resolved.definition.location) if followed.resolved.definition else "nowhere"
            whose = f" of {followed.service}" if followed.service != explanation.service else ""
            follows.append(
                [
                    StyledText(f"{'  ' * followed.depth}└ {followed.name}{whose}"),
                    StyledText(value_words(followed.resolved, masker), "bold"),
                    StyledText(place, "cyan"),
                ]
            )
        for row in table(["computed from", "", ""], follows, least=[16, 16, 24], width=width):
            show(row)
    for remark in explanation.remarks:
        show("")
        for part in _filled(f"Note: {remark}.", width):
            show(styled(part, "yellow"))


def _filled(text: str, width: int) -> list[str]:
    from textwrap import wrap

    return wrap(text, max(width, 20), break_long_words=False, break_on_hyphens=False)
