"""`coinjar consent`."""

from __future__ import annotations

from typing import Annotated

import typer

from coinjar.cli.common import JarOption, JsonOption, YesOption, ask_to_go_on, counted, open_here, print_json
from coinjar.cli.consent_list import print_acts
from coinjar.cli.opening import print_status
from coinjar.core.errors import CoinJarError, UsageError


def run(
    ctx: typer.Context,
    show: Annotated[
        bool, typer.Option("--show", help="Only show; exit with 1 if something needs your consent.")
    ] = False,
    withdraw: Annotated[bool, typer.Option("--withdraw", help="Withdraw every consent to this jar.")] = False,
    yes: YesOption = False,
    json: JsonOption = False,
    jar: JarOption = None,
) -> None:
    """Show what this jar can do on your machine, and consent to it.

    A jar can name programs, servers, variables of your environment and files elsewhere, and its secrets are decrypted
    with your identity. None of that happens before you consent to it, and what changes later is asked again. The
    consents are yours: they are in your own configuration folder. Machines consent with COINJAR_CONSENT=DIGEST; the
    digest is shown here, and is another one as soon as the jar can do something else. Example: coinjar consent
    """
    from coinjar.actions.declared_acts import declared_acts
    from coinjar.core.consent import digest
    from coinjar.jarfile.consents import consent_to, consented_lines

    if (show or json) and (withdraw or yes):
        raise UsageError("--show and --json change nothing", hint="omit them, or --withdraw and --yes")
    if withdraw and yes:
        raise UsageError("--withdraw asks nothing", hint="omit --yes")
    opened = open_here(ctx, jar)
    before = consented_lines(opened.folder)
    if withdraw:
        consent_to(opened.folder, [], only=True)
        print_status(f"Withdrawn: {counted(len(before), 'consent')}.")
        return
    skipped: list[CoinJarError] = []
    acts = declared_acts(opened, skipped)
    new = [act for act in acts if act.line not in before]
    if json:
        print_json(
            {
                "digest": digest(acts),
                "acts": [
                    {
                        "verb": act.verb,
                        "object": act.object,
                        "location": str(act.location or ""),
                        "consented": act.line in before,
                    }
                    for act in acts
                ],
                "skipped": [str(fault) for fault in skipped],
            }
        )
    else:
        print_acts(acts, before)
    for fault in skipped:
        print_status(f"not looked at: {fault}")
    if acts and not json:
        print_status(f"For machines: COINJAR_CONSENT={digest(acts)}")
    if show or json:
        raise typer.Exit(1 if new or skipped else 0)
    if not acts:
        consent_to(opened.folder, [], only=True)
        return
    if new:
        ask_to_go_on("Do you consent?", yes=yes)
    consent_to(opened.folder, acts, only=True)
    print_status(f"You consent to {counted(len(new), 'new act')}." if new else "You have consented to all of it.")
