"""`coinjar declare`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from coinjar.cli.common import (
    JarOption,
    JsonOption,
    YesOption,
    confirm_patterns,
    named_variables,
    open_here,
    print_json,
    service_names,
    stage_names,
    variable_names,
)
from coinjar.cli.opening import complete_interrupted, print_status
from coinjar.cli.structure import AboutOption, DryRunOption
from coinjar.core.errors import UsageError

if TYPE_CHECKING:
    from coinjar.documents.writer import Plain


def run(
    ctx: typer.Context,
    names: Annotated[
        list[str],
        typer.Argument(metavar="NAME...", autocompletion=variable_names, help="The variables, also patterns."),
    ],
    about: AboutOption = "",
    kind: Annotated[str | None, typer.Option("--kind", metavar="KIND", help="The kind of its values.")] = None,
    choice: Annotated[
        list[str] | None,
        typer.Option("--choice", metavar="TEXT", help="An allowed value (kind choice); may be repeated."),
    ] = None,
    default: Annotated[
        str | None, typer.Option("--default", metavar="TEXT", help="The value where no stage sets one.")
    ] = None,
    secret: Annotated[bool, typer.Option("--secret", help="A secret: encrypted, and masked in all output.")] = False,
    required: Annotated[bool, typer.Option("--required", help="It must have a value wherever it exists.")] = False,
    valid: Annotated[
        str | None, typer.Option("--valid", metavar="TIME", help="How long a secret is good: 90d, 12w, 1y.")
    ] = None,
    per_stage: Annotated[bool, typer.Option("--per-stage", help="Each stage has its own: never promoted.")] = False,
    service: Annotated[
        list[str] | None,
        typer.Option(
            "--service", "-s", metavar="SERVICE", autocompletion=service_names, help="Only for it; may be repeated."
        ),
    ] = None,
    stage: Annotated[
        list[str] | None,
        typer.Option("--stage", metavar="STAGE", autocompletion=stage_names, help="Only on it; may be repeated."),
    ] = None,
    remove: Annotated[
        list[str] | None, typer.Option("--remove", metavar="KEY", help="Remove this key; may be repeated.")
    ] = None,
    as_json: JsonOption = False,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    jar: JarOption = None,
) -> None:
    """Declare variables, or change their declarations: only what is given changes. Asks about what a pattern means."""
    from coinjar.actions.editing.declare import plan_declarations
    from coinjar.jarfile.load import load_declarations

    opened = open_here(ctx, jar)
    complete_interrupted(opened)
    if secret and default is not None:
        hint = "`coinjar put NAME --stage shared` encrypts one for every stage"
        raise UsageError("a secret has no default, which would be in plain text", hint=hint)
    texts: dict[str, Plain | None] = {"about": about or None, "kind": kind, "default": default, "valid": valid}
    lists: dict[str, list[str] | None] = {"choices": choice, "services": service, "stages": stage}
    flags = {"secret": secret, "required": required, "per_stage": per_stage}
    keys: dict[str, Plain] = {key: text for key, text in texts.items() if text is not None}
    keys |= {key: [*given] for key, given in lists.items() if given}
    keys |= {key: "true" for key, given in flags.items() if given}
    names_meant = named_variables(load_declarations(opened.folder), names)
    plan = plan_declarations(opened, names_meant, keys, remove or [])
    if as_json:
        print_json({"new": plan.new, "changed": plan.changed, "same": plan.same})
    confirm_patterns(names, names_meant, "Change the declarations", dry_run=dry_run, yes=yes)
    if not list(plan.files.changes()):
        print_status(f"{', '.join(names_meant)}: already declared so")
        return
    plan.files.write(opened, "declare")
    for words, changed in (("declared", plan.new), ("changed", plan.changed)):
        if changed:
            print_status(f"{', '.join(changed)}: {words} in jar.yaml")
    if secret and plan.changed:
        print_status("Next: `coinjar readers seal` encrypts values that are still plain.")
    elif plan.changed:
        print_status("Next: `coinjar check` shows values that do not fit.")
