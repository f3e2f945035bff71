"""The second half of the walk: deliveries to stand-ins, proofs, and a migration."""

from __future__ import annotations

import json

from coinjar.demo.steps import DemoRun

APPS = (
    *("sandling-timetable-rehearsal", "sandling-notices-rehearsal", "sandling-timetable-prod", "sandling-notices-prod"),
    *("sandling-ticketing-rehearsal", "sandling-ticketing-prod", "sandling-ticketing", "sandling-berths", "sandling"),
)
"""What the demo's jar delivers to, by the names there."""


def deliver(steps: DemoRun) -> None:
    """Deliver to stand-ins, and see what drifts and what is pending."""
    steps.title("Three platforms to deliver to, simulated on this machine: two kinds of hosting, and pipelines")
    steps.start(
        "coinjar standins saltmarsh lanternfish sluiceway --state standins "
        f"{' '.join(f'--make {app}' for app in APPS)} --exports standins/exports"
    )
    steps.source("standins/exports")
    steps.title(
        "What would a delivery change? Then deliver: it reads what is there, writes only what differs, reads back, "
        "records"
    )
    steps.run("coinjar deliver rehearsal --dry-run")
    steps.run("coinjar deliver rehearsal")
    steps.title("Saved is pending restart: one of the platforms reads its settings at the next deploy")
    steps.run("coinjar drift rehearsal", code=1)
    steps.holds("the running timetable has no title yet", "APP_TITLE" not in steps.app("timetable")["settings"])
    steps.run("coinjar deliver rehearsal --restart")
    steps.holds(
        "now it has",
        steps.app("timetable")["settings"]["APP_TITLE"]
        == steps.ask("coinjar value rehearsal APP_TITLE --service timetable"),
    )
    steps.run("coinjar drift rehearsal", note="0: all of it is up to date, and runs")
    link = steps.ask("coinjar value rehearsal TIMETABLE_LINK --service berths")
    steps.holds(
        "the address that the hosting gave is known to those who refer to it",
        link == steps.ask("coinjar value rehearsal PUBLIC_ADDRESS --service timetable"),
    )


def live(steps: DemoRun) -> None:
    """Confirm the proofs, run the pipelines, undo a delivery."""
    steps.title("Somebody changes a setting on the platform's page; drift sees it, and the next delivery puts it right")
    address = f"{steps.env['SALTMARSH_ADDRESS']}/v1/apps/sandling-timetable-rehearsal/settings"
    steps.send(
        "PATCH", address, steps.env["SALTMARSH_TOKEN"], {"settings": {"APP_TITLE": "Sandling Fairies", "SEASON": ""}}
    )
    steps.run("coinjar drift rehearsal hosting", code=1)
    steps.run("coinjar deliver rehearsal hosting --restart")
    steps.title("Is it so in the running things? Ask them, on both stages")
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
    steps.run("coinjar confirm rehearsal prod")
    steps.title(
        "The release waits for a second person; its log shows no secret, and a job without a stage gets nothing of one"
    )
    runs = f"{steps.env['SLUICEWAY_ADDRESS']}/projects/sandling/runs"
    run = steps.send("POST", runs, steps.env["SLUICEWAY_TOKEN"], {"pipeline": "release"})
    steps.holds("it waits", run["state"] == "waiting")
    run = steps.send("POST", f"{runs}/{run['id']}/yes", steps.env["SLUICEWAY_SECOND_TOKEN"], None)
    print("\n".join(run["log"]))
    steps.holds("somebody else said yes", run["state"] == "passed")
    steps.holds(
        "its log shows no secret",
        any("connects to ••••" in item for item in run["log"]) and "made-up" not in json.dumps(run),
    )
    steps.holds("a job that names no stage gets nothing of a stage's", "zones: []" in run["log"])
    steps.title("What was delivered, and back to what was before")
    steps.run("coinjar deliveries")
    number = next(
        item["number"] for item in json.loads(steps.ask("coinjar deliveries --json")) if item["changes"].get("changed")
    )
    steps.run(f"coinjar deliveries undo {number} --dry-run")


def move(steps: DemoRun) -> None:
    """Migrate a service to another platform by a sheet."""
    old, new = "ticket-hosting", "isles-tickets"
    steps.title(
        "The ticket sellers leave their hosting for another. What the years have left there, besides what the jar "
        "delivers:"
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
    steps.title("The new place is in jar.yaml already, for no stage; now it, and the proof that will show it, get some")
    steps.run("grep -B8 soon jar/jar.yaml")
    steps.run("sed -i 's/stages: ..   *# soon/stages: [rehearsal, prod]/' jar/jar.yaml")
    steps.title("A sheet says what becomes of every variable; somebody reads it, and may change it")
    steps.run(f"coinjar migrate dest:{old} dest:{new} --out move.yaml")
    sheet = (steps.folder / "move.yaml").read_text()
    secret = steps.ask("coinjar value prod TICKET_DB_PASSWORD --service ticketing")
    steps.holds("no secret's value is in it", "made-up" not in sheet and secret not in sheet)
    steps.title(
        "What would it send? Then do it: the new place is written and read back, what pointed to the old one is "
        "changed and redeployed"
    )
    steps.run("coinjar migrate --execute move.yaml --dry-run")
    steps.run("coinjar migrate --execute move.yaml --yes --restart --allow-guarded prod")
    for stage, there in (("rehearsal", "rehearsal"), ("prod", "live")):
        moved = steps.get(f"{steps.env['LANTERNFISH_ADDRESS']}/run/sandling-ticketing/{there}/")["settings"]
        title = steps.ask(f"coinjar value {stage} APP_TITLE --service ticketing")
        steps.holds(f"ticketing answers at its new address with {stage}'s title", moved["APP_TITLE"] == title)
        steps.holds(
            "it has what was set by hand, under the new name, and the banner stayed behind",
            (moved.get("FARE_TABLE"), "OLD_BANNER" in moved) == ("summer-2", False),
        )
        site = steps.get(f"{steps.env['SALTMARSH_ADDRESS']}/run/sandling-timetable-{stage}/")["settings"]
        steps.holds("the running timetable leads to the new address", site["TICKETS_LINK"] == moved["PUBLIC_ADDRESS"])
    steps.holds("the code reads the new name", "FARE_TABLE" in (steps.folder / "services/ticketing.py").read_text())
    steps.run("coinjar confirm rehearsal prod link")
    steps.title("Every difference between the two places is a line of the sheet; then the old one may be emptied")
    steps.run(f"coinjar compare dest:{old}@prod dest:{new}@prod --sheet move.yaml", note="0: all is explained")
    steps.run("coinjar migrate --execute move.yaml --yes --empty-source --allow-guarded prod")
    token, address = (
        steps.env["SALTMARSH_TOKEN"],
        f"{steps.env['SALTMARSH_ADDRESS']}/v1/apps/sandling-ticketing-prod/settings",
    )
    left = steps.get(address, token)["settings"]
    steps.holds("nothing of ours is left at the old place", set(left) == {"LISTEN_PORT", "PUBLIC_ADDRESS"})
