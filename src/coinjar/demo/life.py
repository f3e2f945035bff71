"""What happens to a jar over time, in the example: sources by stage, a watched program, stages, history."""

from __future__ import annotations

import json
import shutil

from coinjar.demo.steps import DemoRun, free_ports

_WHO = "-c user.name=anna -c user.email=anna@sandling.example"


def adopt_by_stage(steps: DemoRun) -> None:
    """Adopt a base settings file with those of its stages, and take it back."""
    steps.title("The boards on the piers have a settings file, and one more for each stage: adopt all of them at once")
    board = {"board": {"lines": 12, "language": "en"}, "refresh_seconds": 30}
    for name, settings in (
        ("base", board),
        ("rehearsal", {"refresh_seconds": 5}),
        ("prod", {"board": {"language": "de"}}),
    ):
        steps.write(f"board-{name}.json", json.dumps(settings))
    steps.run("coinjar adopt shared=board-base.json rehearsal=board-rehearsal.json prod=board-prod.json --yes")
    seen = [
        json.loads(steps.ask(f"coinjar render {stage} --service timetable --as json"))
        for stage in ("rehearsal", "prod")
    ]
    steps.holds(
        "each stage has its own settings, and those of the base",
        [(values["refresh_seconds"], values["board__language"], values["board__lines"]) for values in seen]
        == [("5", "en", "12"), ("30", "de", "12")],
    )
    steps.run("coinjar undo --yes", note="takes the last change back")


def watch(steps: DemoRun) -> None:
    """Restart a program when one of its values changes."""
    steps.title("While one develops: the program restarts when one of its values changes, and only then")
    port = free_ports(1)[0]
    steps.run(f"coinjar put LISTEN_PORT={port} --stage dev --service timetable")
    process = steps.start("coinjar within dev --service timetable --watch -- python3 services/timetable.py")
    before = steps.answer(port)
    steps.run("coinjar put 'APP_TITLE=Sandling Ferries (new colours)' --stage dev")
    after = steps.answer(port, other_than=before["pid"])
    steps.holds("it was started again, with the new title", "new colours" in after["settings"]["APP_TITLE"])
    steps.end(process)
    steps.run("coinjar undo --yes")


def parts(steps: DemoRun) -> None:
    """Rename, copy and remove a stage; promote a value."""
    steps.title("The release manager calls prod 'live': rename it, and copy rehearsal for a branch under test")
    steps.run("coinjar stages list")
    password = steps.ask("coinjar value prod TICKET_DB_PASSWORD --service ticketing")
    steps.run("coinjar stages rename prod live --yes")
    steps.holds(
        "live has the secrets of prod",
        steps.ask("coinjar value live TICKET_DB_PASSWORD --service ticketing") == password,
    )
    steps.run("coinjar stages rename live prod --yes", note="and back")
    steps.run("coinjar stages copy rehearsal trial-9 --yes")
    steps.holds(
        "the copy has the values of rehearsal",
        steps.ask("coinjar value trial-9 PUBLIC_URL --service timetable")
        == steps.ask("coinjar value rehearsal PUBLIC_URL --service timetable"),
    )
    steps.title("Promote a value that was tried on the branch, then remove the branch's stage")
    steps.run("coinjar put SEASON=1.20 --stage trial-9")
    steps.run("coinjar promote trial-9 rehearsal SEASON --yes")
    steps.holds("rehearsal has it", steps.ask("coinjar value rehearsal SEASON --service timetable") == "1.20")
    steps.run("coinjar drop SEASON --stage rehearsal")
    steps.run("coinjar stages remove trial-9 --yes")


def history(steps: DemoRun) -> None:
    """Look values up in version control, and resolve a merge."""
    if shutil.which("git", path=steps.env["PATH"]) is None:
        steps.title("git is not installed: skip its part")
        return
    steps.title("The history is in version control: who changed the season, and how was prod before?")
    steps.run("git init -q -b spring .")
    steps.run("git add jar")
    steps.run(f"git {_WHO} commit -qm 'Values of spring'")
    steps.run("coinjar put SEASON=1.30 --stage prod")
    steps.run("coinjar compare prod commit:HEAD --only different", code=1)
    steps.run("coinjar history SEASON --stage prod")
    told = json.loads(steps.ask("coinjar history SEASON --stage prod --json"))["events"]
    steps.holds("the change that is not committed is among the story", any(event["when"] is None for event in told))
    steps.run("coinjar undo --yes", note="takes the last change back")
    steps.run("git diff --exit-code --stat", note="0: every byte of the jar is as committed")
    steps.title("Two branches change one secret: git shows it as text, and a command takes one of the versions")
    steps.run("coinjar textconv --setup")
    steps.ask("git add jar")
    steps.ask(f"git {_WHO} commit -qm 'Show secrets as text'")
    steps.ask("git branch night-ferry")
    for branch in ("night-ferry", "spring"):
        steps.run(f"git checkout -q {branch}")
        steps.run("coinjar generate MAIL_PASSWORD --stage dev --replace --yes")
        steps.ask(f"git {_WHO} commit -qam 'Another password, on {branch}'")
    steps.run("git diff HEAD~ --unified=0 -- jar/coins/dev.coins")
    steps.run(f"git {_WHO} merge --no-edit night-ferry", note="no version is lost")
    steps.run("coinjar resolve", code=1)
    steps.run("coinjar resolve MAIL_PASSWORD --take 1")
    steps.run("coinjar resolve", note="0: every secret has one version")
    shutil.rmtree(steps.folder / ".git")
