"""`coinjar generate`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    LabelOption,
    ServicesOption,
    YesOption,
    ask_to_go_on,
    confirm_patterns,
    label_first_reader,
    layer_names,
    named_variables,
    open_here,
    print_json,
    variable_names,
)
from coinjar.cli.opening import print_status
from coinjar.cli.structure import DryRunOption

if TYPE_CHECKING:
    from coinjar.actions.editing.generate import GenerateResult


def run(
    ctx: typer.Context,
    names: Annotated[
        list[str],
        typer.Argument(
            metavar="NAME...",
            autocompletion=variable_names,
            help="The variables; a pattern means secrets and those with `generate`.",
        ),
    ],
    stage: Annotated[
        list[str] | None,
        typer.Option(
            "--stage",
            metavar="STAGE",
            autocompletion=layer_names,
            help="The stage; may be repeated. Default: every stage without a value.",
        ),
    ] = None,
    service: ServicesOption = None,
    form: Annotated[
        str | None,
        typer.Option(
            "--form", metavar="FORM", help="The form: text, hex, base64, uuid or words. Default: text, or as declared."
        ),
    ] = None,
    length: Annotated[
        int | None,
        typer.Option(
            "--length", metavar="N", min=1, help="The length in characters; for words, in words. Default: by form."
        ),
    ] = None,
    alphabet: Annotated[
        str | None,
        typer.Option("--alphabet", metavar="CHARACTERS", help="For text: characters and ranges. Default: A-Za-z0-9."),
    ] = None,
    same: Annotated[
        bool, typer.Option("--same", help="One value for all of the stages. Default: different ones.")
    ] = False,
    replace: Annotated[
        bool, typer.Option("--replace", help="Replace values in use; asks. Default: keep them.")
    ] = False,
    as_json: JsonOption = False,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    label: LabelOption = None,
    jar: JarOption = None,
) -> None:
    """Generate strong values, different for each stage, and show their strength, never the values.

    Options override jar.yaml (generate). Values of secrets are encrypted.
    """
    from coinjar.actions.editing.generate import generate, in_use
    from coinjar.core.generators import recipe_of

    how = {"form": form, "length": length, "alphabet": alphabet}
    opened = open_here(ctx, jar)
    label_first_reader(opened, label, yes=yes)
    services = list(dict.fromkeys(service or []))
    declared = opened.load()
    fitting = [name for name, variable in declared.variables.items() if variable.secret or variable.generate]
    given, names = names, named_variables(declared, names, among=fitting)
    for name in names:  # all of them are checked before the first is generated
        used = in_use(opened, name, stage or [], how, services)
        recipe_of(declared.variables[name], how)
        if replace and used and not dry_run:
            ask_to_go_on(f"Replace the value of {name} on {', '.join(used)}?", yes=yes)

    def done(name: str, *, only_plan: bool) -> GenerateResult:
        return generate(
            opened, name, stage or [], how, services=services, same=same, replace=replace, only_plan=only_plan
        )

    if as_json:
        print_json({"variables": [_as_json(done(name, only_plan=True)) for name in names]})
    confirm_patterns(given, names, "Generate values", dry_run=dry_run, yes=yes)
    for name in names:
        _tell(done(name, only_plan=False), same=same)


def _as_json(plan: GenerateResult) -> dict[str, Any]:
    """docs/json.md"""
    recipe = plan.recipe
    strength = {"form": recipe.form, "length": recipe.length, "bits": round(recipe.bits)}
    return {
        "name": plan.variable.name,
        "secret": plan.variable.secret,
        **strength,
        "stages": plan.made,
        "kept": plan.kept,
    }


def _tell(done: GenerateResult, *, same: bool) -> None:
    from coinjar.core.generators import ENOUGH

    for note in done.notes:
        print_status(note)
    recipe = done.recipe
    size = {"uuid": "a uuid", "words": f"{recipe.length} words"}.get(recipe.form, f"{recipe.length} characters")
    verb = "encrypted" if done.variable.secret else "set"
    values = "1 value" if same or len(done.made) == 1 else f"{len(done.made)} different values"
    stages = ", ".join(done.made)
    print_status(f"{done.variable.name}: generated {values} ({size}, {recipe.bits:.0f} bits), {verb} on {stages}")
    if done.kept:
        print_status(f"kept on {', '.join(done.kept)}, where it has a value (--replace generates a new one)")
    if recipe.bits < ENOUGH:
        print_status(f"warning: {recipe.bits:.0f} bits can be guessed with enough attempts; {ENOUGH} cannot")
