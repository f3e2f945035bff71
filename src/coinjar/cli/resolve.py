"""`coinjar resolve`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from coinjar.cli.common import JarOption, JsonOption, ServiceOption, counted, layer_names, open_here, print_json
from coinjar.cli.opening import print_status
from coinjar.core.errors import UsageError
from coinjar.core.names import ALL, SHARED

if TYPE_CHECKING:
    from coinjar.actions.secrets.resolve_merge import MergedValue


def run(
    ctx: typer.Context,
    name: Annotated[str | None, typer.Argument(metavar="[NAME]", help="The variable. Default: list all.")] = None,
    stage: Annotated[
        str | None, typer.Option("--stage", metavar="STAGE", autocompletion=layer_names, help="The stage, or shared.")
    ] = None,
    service: ServiceOption = None,
    take: Annotated[
        int | None, typer.Option("--take", metavar="N", help="Keep this version, and remove the others.")
    ] = None,
    as_json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """After a merge: show the secrets that both branches changed, masked, and take one version of each.

    Equal secrets have the same number. Exit code 1 while there are any.
    """
    from coinjar.actions.secrets.resolve_merge import merged_values
    from coinjar.actions.secrets.resolve_merge import take as take_version
    from coinjar.jarfile.load import load_declarations

    opened = open_here(ctx, jar)
    declared = load_declarations(opened.folder)
    if name is not None:
        declared.variable(name)
    if service is not None and service != ALL:
        declared.service(service)
    if stage is not None and stage != SHARED:
        declared.stage(stage)
    found = merged_values(opened)
    chosen = [
        value
        for value in found
        if name in (None, value.name) and stage in (None, value.stage) and service in (None, value.scope)
    ]
    if take is None:
        if name and not chosen:
            raise UsageError(f"{name} has one version everywhere", hint="`coinjar resolve` lists those with several")
        print_json(_as_json(chosen)) if as_json else _show(chosen, len(found))
        if chosen:
            raise typer.Exit(1)
        return
    if len(chosen) != 1:
        where = ", ".join(f"{value.name} on {value.stage} for {value.scope}" for value in chosen or found)
        hint = f"name the variable, --stage and --service: {where}" if where else "there is nothing to resolve"
        raise UsageError("which value?", hint=hint, code="which-value")
    take_version(opened, chosen[0], take)
    left = len(found) - 1
    print_status(
        f"{chosen[0].name} on {chosen[0].stage}: kept version {take}."
        + (f" {counted(left, 'value')} left: `coinjar resolve`" if left else " Commit jar/.")
    )


def _as_json(values: list[MergedValue]) -> dict[str, Any]:
    return {
        "values": [
            {
                "name": value.name,
                "stage": value.stage,
                "scope": value.scope,
                "versions": [
                    {"number": number, "set_on": version.value.set_on or None, "from": version.origin or None}
                    for number, version in enumerate(value.versions, 1)
                ],
            }
            for value in values
        ]
    }


def _show(values: list[MergedValue], of: int) -> None:
    from coinjar.cli.tables import StyledText, show, styled, table, terminal_width
    from coinjar.core.definition import Undecryptable, Unset
    from coinjar.core.display import Masker
    from coinjar.core.references import Template

    if not values:
        where = (
            f" here; {counted(of, 'value')} elsewhere: `coinjar resolve`"
            if of
            else ": every encrypted value has one version."
        )
        print_status(f"Nothing to resolve{where}")
        return
    masker = Masker()
    show(styled(f"{counted(len(values), 'value')} changed on both branches", "bold"))
    rows = []
    for value in values:
        for number, version in enumerate(value.versions, 1):
            content = version.value.content
            if isinstance(content, Undecryptable):
                words = "(cannot be decrypted by you)"
            elif isinstance(content, Unset):
                words = "(unset on purpose)"
            else:
                assert isinstance(content, str | Template), "what can be encrypted"
                words = masker.mask(content.source if isinstance(content, Template) else content)
            first = number == 1
            whom = "" if value.scope == "all" else f" ({value.scope})"
            rows.append(
                [
                    StyledText(value.name if first else ""),
                    StyledText(value.stage + whom if first else ""),
                    StyledText(str(number), "bold"),
                    StyledText(words),
                    StyledText(version.value.set_on, "dim"),
                    StyledText(version.origin, "dim"),
                ]
            )
    titles = ["variable", "where", "", "value", "set on", "from"]
    for line in table(titles, rows, least=[16, 10, 2, 16, 10, 6], width=terminal_width()):
        show(line)
    first_value = values[0]
    print_status(f"Take one: `coinjar resolve {first_value.name} --stage {first_value.stage} --take 1`")
