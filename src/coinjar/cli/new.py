"""`coinjar new`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from coinjar.cli.opening import print_status


def run(
    ctx: typer.Context,
    service: Annotated[
        list[str] | None,
        typer.Option(
            "--service",
            "-s",
            metavar="NAME",
            help="A service; may be repeated. Default: one, named like the application.",
        ),
    ] = None,
    stage: Annotated[
        list[str] | None,
        typer.Option(
            "--stage",
            metavar="NAME[:FOLLOWED]",
            help="A stage, and the one it follows; may be repeated. Default: dev, prod.",
        ),
    ] = None,
    app: Annotated[
        str | None, typer.Option("--app", metavar="NAME", help="The application's name. Default: this folder's.")
    ] = None,
    jar: Annotated[
        Path | None, typer.Option("--jar", metavar="PATH", help="Where to create it. Default: ./jar.")
    ] = None,
) -> None:
    """Create a jar here: services, stages, .gitignore for local files.

    Never overwrites. Example: coinjar new --service web --service mailer --stage dev --stage prod --stage
    prod-isles:prod
    """
    from coinjar.actions.editing.new import app_name, make_jar
    from coinjar.core.consent import decrypting
    from coinjar.jarfile.consents import consent_to
    from coinjar.jarfile.locate import has_identity
    from coinjar.system.files import home_path

    named = jar or ctx.find_root().params.get("jar")
    folder = Path(named) if named else Path("jar")
    name = app or app_name(folder.resolve().parent)
    services, stages = service or [name], stage or ["dev", "prod"]
    paths = make_jar(folder, name, services, stages)
    shown = ", ".join(stage.replace(":", " (follows ") + ")" if ":" in stage else stage for stage in stages)
    print_status(f"Created a jar for {name}: {', '.join(services)} on {shown}.")
    for path in paths:
        print_status(f"  {home_path(path)}")
    act = decrypting(name)
    consent_to(folder, [act])
    print_status(f"You consent to this, because you created the jar: {act.line}.")
    if not has_identity():
        print_status("First, once for you: `coinjar identity new` creates the identity that decrypts your secrets.")
    print_status(
        "Next: `coinjar adopt file:PATH --stage STAGE` imports existing variables, `coinjar put NAME=VALUE --stage "
        "STAGE --declare` sets the first one."
    )
