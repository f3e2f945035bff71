"""The second half of the example: deliveries to stand-ins, proofs, and a migration."""

from __future__ import annotations

import json

from coinjar.demo.steps import DemoRun

APPS = (
    *("sandling-timetable-rehearsal", "sandling-notices-rehearsal", "sandling-timetable-prod", "sandling-notices-prod"),
    *("sandling-ticketing-rehearsal", "sandling-ticketing-prod", "sandling-ticketing", "sandling-berths", "sandling"),
)
"""The apps and projects of the stand-ins to which the demo's jar delivers."""


def deliver(steps: DemoRun) -> None:
    """Deliver to stand-ins, and show drift and pending restarts."""
    steps.title("Start three simulated platforms on this machine: two hosting platforms and a pipeline service")
    steps.start(
        "coinjar standins saltmarsh lanternfish sluiceway --state standins "
        f"{' '.join(f'--make {app}' for app in APPS)} --exports standins/exports"
    )
    steps.source("standins/exports")
    steps.title(
        "Deliver: read the target, write only what differs, read it back, record it. The dry run shows the "
        "changes first"
    )
    steps.run("coinjar deliver rehearsal --dry-run")
    steps.run("coinjar deliver rehearsal")
    steps.title("Saved, but pending restart: one of the platforms reads its settings only at the next deploy")
    steps.run("coinjar drift rehearsal", code=1)
    steps.holds("the running timetable has no title yet", "APP_TITLE" not in steps.app("timetable")["settings"])
    steps.run("coinjar deliver rehearsal --restart")
    steps.holds(
        "the running timetable has the title",
        steps.app("timetable")["settings"]["APP_TITLE"]
        == steps.ask("coinjar value rehearsal APP_TITLE --service timetable"),
    )
    steps.run("coinjar drift rehearsal", note="0: everything is up to date and in effect")
    link = steps.ask("coinjar value rehearsal TIMETABLE_LINK --service berths")
    steps.holds(
        "variables that refer to the supplied address have it",
        link == steps.ask("coinjar value rehearsal PUBLIC_ADDRESS --service timetable"),
    )


def live(steps: DemoRun) -> None:
    """Confirm the proofs, run the pipelines, undo a delivery."""
    steps.title("Somebody changes a setting on the platform; drift shows it, and the next delivery corrects it")
    address = f"{steps.env['SALTMARSH_ADDRESS']}/v1/apps/sandling-timetable-rehearsal/settings"
    steps.send(
        "PATCH", address, steps.env["SALTMARSH_TOKEN"], {"settings": {"APP_TITLE": "Sandling Fairies", "SEASON": ""}}
    )
    steps.run("coinjar drift rehearsal hosting", code=1)
    steps.run("coinjar deliver rehearsal hosting --restart")
    steps.title("Do the running services have the values? Confirm it on both stages")
    steps.run("coinjar deliver prod", code=2, note="2: prod is guarded")
    steps.run("coinjar deliver prod --allow-guarded prod --restart")
    for name in ("smoke", "release"):
        text = (steps.folder / f"sluiceway/{name}.yaml").read_text()
        steps.send(
            "PUT",
            f"{steps.env['SLUICEWAY_ADDRESS']}/projects/sandling/pipelines/{name}",
            steps.env["SLUICEWAY_TOKEN"],
            text,
        )
    steps.title("The proofs have an address now, which is new: it is shown, and asked again")
    steps.run("coinjar consent --yes")
    steps.run("coinjar confirm rehearsal prod")
    steps.title(
        "The release waits for a second person; its log contains no secret; a job without a stage gets no stage's "
        "variables"
    )
    runs = f"{steps.env['SLUICEWAY_ADDRESS']}/projects/sandling/runs"
    run = steps.send("POST", runs, steps.env["SLUICEWAY_TOKEN"], {"pipeline": "release"})
    steps.holds("the release waits for approval", run["state"] == "waiting")
    run = steps.send("POST", f"{runs}/{run['id']}/yes", steps.env["SLUICEWAY_SECOND_TOKEN"], None)
    print("\n".join(run["log"]))
    steps.holds("the release passes after the approval", run["state"] == "passed")
    steps.holds(
        "its log contains no secret",
        any("connects to ••••" in item for item in run["log"]) and "made-up" not in json.dumps(run),
    )
    steps.holds("a job without a stage gets no variable of a stage", "zones: []" in run["log"])
    steps.title("List the deliveries, and undo one")
    steps.run("coinjar deliveries")
    number = next(
        item["number"] for item in json.loads(steps.ask("coinjar deliveries --json")) if item["changes"].get("changed")
    )
    steps.run(f"coinjar deliveries undo {number} --dry-run")


def rotate(steps: DemoRun) -> None:
    """Rotate a secret, and go back in the middle of it."""
    steps.title("How old are the secrets? The database's password is good for 90 days")
    steps.run("coinjar declare TICKET_DB_PASSWORD --valid 90d")
    steps.run("coinjar overdue --all")
    steps.title("Rotate it: the old value is kept until the new one is in use everywhere; go back in the middle, once")
    value = "coinjar value rehearsal TICKET_DB_PASSWORD --service ticketing"
    old = steps.ask(value)
    rotation = "coinjar rotate TICKET_DB_PASSWORD --stage rehearsal --yes"
    steps.run(f"{rotation} --until switched")
    steps.holds("the jar has another value", steps.ask(value) != old)
    steps.run(f"{rotation} --back --finish")
    steps.holds("the jar has the old value again", steps.ask(value) == old)
    steps.run(rotation, code=1, note="1: nothing shows whether those who read files have it")
    steps.run(f"{rotation} --finish", note="they have")
    steps.holds("the value is new", steps.ask(value) != old)
    steps.run("coinjar drift rehearsal ticket-hosting")


def report(steps: DemoRun) -> None:
    """Show all of it on a page."""
    steps.title("Show the whole configuration to a colleague: one page for a browser")
    steps.run("coinjar report --live --out report.html", note="what was not looked at is listed")
    page = (steps.folder / "report.html").read_text()
    secret = steps.ask("coinjar value rehearsal TICKET_DB_PASSWORD --service ticketing")
    steps.holds("it has the variables of every stage, and no secret", "FARE_ZONES" in page and secret not in page)


def move(steps: DemoRun) -> None:
    """Migrate a service to another platform by a sheet."""
    old, new = "ticket-hosting", "isles-tickets"
    steps.title(
        "Migrate the ticketing service to another platform. Before that, somebody sets variables by hand on "
        "the old one:"
    )
    for stage in ("rehearsal", "prod"):
        address = f"{steps.env['SALTMARSH_ADDRESS']}/v1/apps/sandling-ticketing-{stage}/settings"
        steps.send(
            "PATCH",
            address,
            steps.env["SALTMARSH_TOKEN"],
            {"settings": {"fareTable": "summer-2", "OLD_BANNER": "made of paper"}},
        )
        link = steps.ask(f"coinjar value {stage} PUBLIC_ADDRESS --service ticketing")
        steps.run(f"coinjar put TICKETS_LINK={link} --stage {stage}")
        steps.run(f"coinjar deliver {stage} hosting --allow-guarded prod --restart")
    steps.title("The new destination and its proof are declared for no stage yet; declare them for two")
    steps.run("grep -B8 soon jar/jar.yaml")
    steps.run("sed -i 's/stages: ..   *# soon/stages: [rehearsal, prod]/' jar/jar.yaml")
    steps.title("A sheet lists what happens to every variable; a person reviews and edits it")
    steps.run(f"coinjar migrate dest:{old} dest:{new} --out move.yaml")
    sheet = (steps.folder / "move.yaml").read_text()
    secret = steps.ask("coinjar value prod TICKET_DB_PASSWORD --service ticketing")
    steps.holds("the sheet contains no secret", "made-up" not in sheet and secret not in sheet)
    steps.title(
        "Show what the migration would send, then apply it: write the new platform, read it back, update and "
        "redeploy what referred to the old one"
    )
    steps.run("coinjar migrate --execute move.yaml --dry-run")
    steps.run("coinjar migrate --execute move.yaml --yes --restart --allow-guarded prod")
    for stage, there in (("rehearsal", "rehearsal"), ("prod", "live")):
        moved = steps.get(f"{steps.env['LANTERNFISH_ADDRESS']}/run/sandling-ticketing/{there}/")["settings"]
        title = steps.ask(f"coinjar value {stage} APP_TITLE --service ticketing")
        steps.holds(f"ticketing answers at its new address with the title of {stage}", moved["APP_TITLE"] == title)
        steps.holds(
            "it has the variable that was set by hand, under its new name, and not the old banner",
            (moved.get("FARE_TABLE"), "OLD_BANNER" in moved) == ("summer-2", False),
        )
        site = steps.get(f"{steps.env['SALTMARSH_ADDRESS']}/run/sandling-timetable-{stage}/")["settings"]
        steps.holds("the running timetable links to the new address", site["TICKETS_LINK"] == moved["PUBLIC_ADDRESS"])
    steps.holds("the code reads the new name", "FARE_TABLE" in (steps.folder / "services/ticketing.py").read_text())
    steps.run("coinjar confirm rehearsal prod link")
    steps.title("The sheet explains every difference between the two platforms; then empty the old one")
    steps.run(
        f"coinjar compare dest:{old}@prod dest:{new}@prod --sheet move.yaml", note="0: every difference is explained"
    )
    steps.run("coinjar migrate --execute move.yaml --yes --empty-source --allow-guarded prod")
    token, address = (
        steps.env["SALTMARSH_TOKEN"],
        f"{steps.env['SALTMARSH_ADDRESS']}/v1/apps/sandling-ticketing-prod/settings",
    )
    left = steps.get(address, token)["settings"]
    steps.holds("no variable of the jar is left on the old platform", set(left) == {"LISTEN_PORT", "PUBLIC_ADDRESS"})
