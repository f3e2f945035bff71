"""Run the whole job on the data of the example. Each step prints its command; the statements after it are
checked.
"""

from __future__ import annotations

import json
import shlex
import shutil
import sys
import tempfile
import time
from pathlib import Path

from coinjar.demo.life import adopt_by_stage, history, parts, watch
from coinjar.demo.platforms import deliver, live, move, report, rotate
from coinjar.demo.steps import DemoFailure, DemoRun, copy_app, free_ports


def walk(keep: Path | None) -> int:
    """Run the whole example; return 0 if every statement is true, else 1. `keep` is a folder to keep."""
    started = time.monotonic()
    folder = keep or Path(tempfile.mkdtemp(prefix="coinjar-demo-"))
    steps = DemoRun(folder)
    try:
        copy_app(folder)
        for part in (
            _gather,
            _look,
            _mend,
            adopt_by_stage,
            _share,
            _run_for_real,
            watch,
            _without_coinjar,
            _render,
            _pipeline,
            _manifests,
            _web_server,
            _mentions,
            parts,
            history,
            deliver,
            live,
            rotate,
            report,
            move,
        ):
            part(steps)
    except DemoFailure as fault:
        print(f"\nThe demo failed: {fault}", file=sys.stderr)
        return 1
    finally:
        steps.stop()
        if keep is None:
            shutil.rmtree(folder)
    print(f"\nAll {steps.held} statements are true, after {time.monotonic() - started:.1f} s.")
    print(
        "`coinjar demo --keep DIR` keeps the folder for experiments."
        if keep is None
        else f"Continue in the folder: cd {shlex.quote(str(folder))}"
    )
    if keep is not None:
        print("To decrypt its secrets: export COINJAR_IDENTITY_FILE=$PWD/anna.identity; coinjar consent")
    return 0


def _gather(steps: DemoRun) -> None:
    steps.title("Sandling Ferries has a jar with three stages, and an old env file for dev")
    steps.run("cat jar/plain/dev.yaml")
    steps.title(
        "Secrets are encrypted in the jar, so Anna creates an identity to decrypt them (COINJAR_IDENTITY_FILE names "
        "it here)"
    )
    steps.run("coinjar identity new --out anna.identity")
    steps.title("A jar does nothing on a machine without consent: Anna reads what this one can do")
    steps.run("coinjar consent --yes")
    steps.run("coinjar adopt file:old.env --stage dev --yes")
    again = steps.ask("coinjar adopt file:old.env --stage dev")  # 0 without --yes: there is nothing to write
    steps.holds("adopting the file again changes nothing", "to declare" not in again)
    text = (steps.folder / "jar/coins/dev.coins").read_text() + (steps.folder / "jar/plain/dev.yaml").read_text()
    steps.holds(
        "its secrets are encrypted, and nowhere readable in the jar",
        "made-up" not in text and "all SESSION_SECRET " in text,
    )


def _look(steps: DemoRun) -> None:
    steps.title("Which value is set on which stage?")
    steps.run("coinjar grid")
    steps.title("What differs between rehearsal and prod?")
    steps.run("coinjar compare rehearsal prod", code=1, note="1: they differ")
    steps.title("What is wrong?")
    steps.run("coinjar check", code=1, note="1: there are errors")
    names = {finding["rule"] for finding in json.loads(steps.ask("coinjar check --format json", code=1))["findings"]}
    planted = {"CJ003", "CJ005", "CJ006", "CJ007", "CJ008", "CJ010", "CJ011", "CJ012", "CJ013", "CJ015"}
    steps.holds(f"check reports the planted faults ({', '.join(sorted(planted))})", planted <= names)
    steps.title("timetable has its own log level, so why does prod not use it?")
    steps.run("coinjar why prod LOG_LEVEL --service timetable")


def _mend(steps: DemoRun) -> None:
    steps.title("Correct some of it")
    steps.run("coinjar drop 2ND_PIER log_level --everywhere --yes")
    steps.run("coinjar put LOG_LEVEL=warning --stage dev --stage prod --service timetable")
    steps.run("coinjar put FARE_ZONES=9 --stage prod-isles --service ticketing")
    steps.run("coinjar readers seal", note="encrypts what is still plain")
    steps.run(
        "coinjar put MAIL_PASSWORD --stage dev",
        stdin="made-up-mail-password",
        note="a secret is never an argument",
    )
    steps.run("coinjar put LISTEN_PORT=8084 --stage dev --service berths")
    steps.holds(
        "timetable's log level on prod is its own",
        steps.ask("coinjar value prod LOG_LEVEL --service timetable") == "warning",
    )
    rest = json.loads(steps.ask("coinjar check --format json", code=1))["findings"]
    gone = ["CJ003", "CJ006", "CJ010", "CJ011", "CJ012", "CJ015"]
    steps.holds(f"{', '.join(gone)} are gone", not {*gone} & {finding["rule"] for finding in rest})


def _share(steps: DemoRun) -> None:
    steps.title("The database's passwords are weak: generate a strong one for each stage")
    steps.run("coinjar generate TICKET_DB_PASSWORD --stage rehearsal --stage prod --replace --yes")
    steps.title(
        "Add three readers: a colleague, the ticketing service, and a recovery recipient that is stored offline"
    )
    recipients = {
        name: steps.ask(f"coinjar identity new --out {name}.identity").strip()
        for name in ("berta", "ticketing", "recovery")
    }
    steps.run(f"coinjar readers add {recipients['berta']} --label berta --stage prod-isles --stage rehearsal --yes")
    steps.run(
        f"coinjar readers add {recipients['ticketing']} --label ticketing-prod --stage prod --service ticketing --yes"
    )
    steps.run(
        f"coinjar readers add {recipients['recovery']} --label recovery --stage prod-isles --stage rehearsal --stage "
        "dev --offline --yes"
    )
    steps.run("coinjar readers list")
    password = steps.ask("coinjar value prod TICKET_DB_PASSWORD --service ticketing")
    steps.holds(
        "Berta can decrypt prod's password",
        steps.ask("coinjar value prod TICKET_DB_PASSWORD --service ticketing", identity="berta.identity") == password,
    )
    own = steps.ask(
        "coinjar within prod --service ticketing -- printenv TICKET_DB_PASSWORD", identity="ticketing.identity"
    ).strip()
    steps.holds("the service can decrypt its own secret", own == password)
    steps.holds(
        "the service cannot decrypt the secret of notices",
        steps.code_of("coinjar value prod TICKET_DB_PASSWORD --service notices", "ticketing.identity") == 4,
    )
    steps.title("Berta leaves: replace the keys, and generate the secrets again that she could decrypt")
    steps.run("coinjar readers remove berta --everywhere --generate --yes")
    steps.holds(
        "she can no longer decrypt it",
        steps.code_of("coinjar value prod TICKET_DB_PASSWORD --service ticketing", "berta.identity") == 4,
    )
    steps.holds(
        "the password has changed",
        steps.ask("coinjar value prod TICKET_DB_PASSWORD --service ticketing") != password,
    )
    steps.title("Mask secrets in a log that others read; write an example file to commit")
    steps.run("coinjar within prod --service ticketing --mask -- sh -c 'echo connecting to $TICKET_DB_URL'")
    steps.run("coinjar render dev example")
    steps.run("head -9 env.example")


def _run_for_real(steps: DemoRun) -> None:
    steps.title("Start two services on two stages, each with its own values, on free ports")
    ports = free_ports(4)
    places = [("dev", "timetable"), ("dev", "ticketing"), ("rehearsal", "timetable"), ("rehearsal", "ticketing")]
    for port, (stage, service) in zip(ports, places, strict=True):
        steps.run(f"coinjar put LISTEN_PORT={port} --stage {stage} --service {service}")
    processes = [
        steps.start(f"coinjar within {stage} --service {service} -- python3 services/{service}.py")
        for stage, service in places
    ]
    answers = [steps.answer(port) for port in ports]
    for (stage, service), process, answer in zip(places, processes, answers, strict=True):
        settings = answer["settings"]
        steps.holds(f"{service} on {stage} is the started process, pid {process.pid}", answer["pid"] == process.pid)
        for name in ("PUBLIC_URL", "APP_TITLE"):
            steps.holds(
                f"its {name} is the value of {stage}",
                settings[name] == steps.ask(f"coinjar value {stage} {name} --service {service}"),
            )
    seen = [answer["settings"] for answer in answers]
    steps.holds(
        "the stages answer with different values",
        all(seen[0][name] != seen[2][name] for name in ("PUBLIC_URL", "APP_TITLE", "OPEN_PIERS")),
    )
    steps.holds(
        "ticketing has its database's host, timetable does not",
        "TICKET_DB_HOST" in seen[1] and "TICKET_DB_HOST" not in seen[0],
    )


def _without_coinjar(steps: DemoRun) -> None:
    steps.title("Start the same service with a script, on a machine without Coin Jar")
    port = free_ports(1)[0]
    print(
        f"$ coinjar render rehearsal --service timetable --as exec-script --with LISTEN_PORT={port} > start-timetable"
    )
    script = steps.folder / "start-timetable"
    script.write_text(
        steps.ask(f"coinjar render rehearsal --service timetable --as exec-script --with LISTEN_PORT={port}")
    )
    script.chmod(0o700)
    steps.run("head -5 start-timetable")
    steps.start("sh ./start-timetable python3 services/timetable.py")
    wanted = steps.ask("coinjar value rehearsal APP_TITLE --service timetable")
    steps.holds("it answers with the values of rehearsal", steps.answer(port)["settings"]["APP_TITLE"] == wanted)
    steps.title("What the caller's environment has can win; other shells read the values in their own form")
    keeping = steps.ask("coinjar render rehearsal --service timetable --as exec-script --keep-set")
    print("$ coinjar render rehearsal --service timetable --as exec-script --keep-set > start-timetable")
    script.write_text(keeping)
    steps.env["APP_TITLE"] = "from the caller"
    steps.holds("the caller's title wins", steps.ask("./start-timetable printenv APP_TITLE") == "from the caller\n")
    del steps.env["APP_TITLE"]
    steps.run("coinjar render rehearsal --service timetable --as powershell")


def _render(steps: DemoRun) -> None:
    steps.title("Render every file that a consumer of rehearsal reads")
    steps.run("coinjar render rehearsal")
    steps.run("coinjar render rehearsal --verify", note="0: every file is up to date")
    files = [steps.folder / "build/rehearsal" / name for name in ("ticketing.env", "timetable.env")]
    steps.holds(
        "the file with a secret is readable only by its owner, the other file by everyone",
        [path.stat().st_mode & 0o77 for path in files] == [0, 0o44],
    )
    steps.run("cat notices/base.json")
    steps.run("coinjar render prod notice-settings")
    steps.run("cat notices/prod.json")
    overlay = json.loads((steps.folder / "notices/prod.json").read_text())
    steps.holds(
        "prod's settings contain only what differs from the base, with types",
        overlay["mail"]["enabled"] is True and "framework" not in overlay,
    )


def _pipeline(steps: DemoRun) -> None:
    steps.title("The pipeline has environments on three levels; show what render would change for prod")
    steps.run("coinjar render prod pipeline --dry-run")
    before = (steps.folder / "pipeline.yaml").read_text()
    steps.run("coinjar render prod pipeline")
    after = (steps.folder / "pipeline.yaml").read_text()
    steps.holds(
        "the comments of the file are preserved",
        all(line.partition("#")[2] in after for line in before.splitlines() if "#" in line),
    )
    steps.holds("the file contains no secret", "made-up" not in after)
    steps.title(
        "The release job sets its own title, but the level of the whole pipeline overrides it. Which one does "
        "the last line get?"
    )
    step = "--in pipeline --at '/jobs/[name=release]/lines/[name=announce]'"
    steps.run(f"coinjar why APP_TITLE {step}")
    steps.holds(
        "the title of the whole pipeline is effective",
        json.loads(steps.ask(f"coinjar why APP_TITLE {step} --json"))["value"] == "Sandling Ferries",
    )


def _manifests(steps: DemoRun) -> None:
    steps.title("Four manifests repeat the same variables; after rendering they share objects named by their content")
    steps.run("wc -l k8s/berths.yaml k8s/notices.yaml k8s/ticketing.yaml k8s/timetable.yaml")
    candidate = steps.folder / "build/rehearsal/k8s"
    names = [f"build/rehearsal/k8s/{path.name}" for path in sorted((steps.folder / "k8s").iterdir())]
    steps.run(f"wc -l {' '.join(names)}")
    before = sum(len(path.read_text().splitlines()) for path in (steps.folder / "k8s").iterdir())
    after = sum(len((steps.folder / name).read_text().splitlines()) for name in names)
    steps.holds(f"{before} lines became {after}", after < before)
    old = {path.name for path in candidate.iterdir()}
    steps.run("coinjar put 'APP_TITLE=Sandling Ferries (winter)' --stage rehearsal")
    steps.run("coinjar render rehearsal workloads")
    new = {path.name for path in candidate.iterdir()} - old
    steps.holds("a changed common value creates one new object, which every workload uses", len(new) == 1)
    steps.run("coinjar render rehearsal workloads --stale --keep 0", note="objects without references")


def _web_server(steps: DemoRun) -> None:
    nginx = shutil.which("nginx", path=f"{steps.env['PATH']}:/usr/sbin")
    if nginx is None:
        steps.title("nginx is not installed: skip its part")
        return
    steps.title("Render a web server's configuration for two stages, and start nginx with it")
    for port, stage in zip(free_ports(2), ("dev", "rehearsal"), strict=True):
        steps.run(f"coinjar put LISTEN_PORT={port} --stage {stage} --service timetable")
        steps.run(f"coinjar render {stage} web-server")
        steps.start(f"{nginx} -p build/{stage}/web -e error.log -c nginx.conf -g 'daemon off;'")
        settings = steps.answer(port)["settings"]
        steps.holds(
            f"it serves the title of {stage}",
            settings["APP_TITLE"] == steps.ask(f"coinjar value {stage} APP_TITLE --service timetable"),
        )
        steps.holds("$host is still replaced by the server", settings["asked"] == "127.0.0.1/")


def _mentions(steps: DemoRun) -> None:
    steps.title("Find where the code uses variables, and rename one everywhere")
    steps.run("coinjar mentions")
    data = json.loads(steps.ask("coinjar mentions --json"))
    steps.holds(
        "a variable that the code reads and the jar does not declare is reported",
        any("fareTable" in finding["message"] for finding in data["findings"]),
    )
    steps.run("coinjar rename TICKET_DB_HOST TICKET_DATABASE_HOST --yes")
    code = "".join((steps.folder / f"services/{name}.py").read_text() for name in ("ticketing", "notices"))
    steps.holds(
        "the code reads only the new name",
        code.count("TICKET_DATABASE_HOST") == 2 and "TICKET_DB_HOST" not in code,
    )
    steps.run("coinjar rename TICKET_DATABASE_HOST TICKET_DB_HOST --yes", note="and back")
    steps.run("coinjar rename --finish TICKET_DATABASE_HOST")
