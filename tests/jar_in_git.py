"""Steps of the random sequences that need version control, a watched program or files of several stages."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import time
from pathlib import Path

from hypothesis import strategies as st
from hypothesis.stateful import precondition, rule

from tests.conftest import PROGRAM
from tests.consenting import consent_to_all
from tests.jar_on_disk import PLAIN, STAGES, TEXTS, JarOnDisk, narrowed
from tests.model import CHAINS, LAYERS, SERVICES, Env

_PATIENCE = 60
_SHOWS = "import json, os, time\nprint(json.dumps(dict(os.environ)), flush=True)\ntime.sleep(600)\n"
BRANCHES = ("side", "main")


class JarInGit(JarOnDisk):
    """The steps. `committed` is what every service got when the jar was committed last; a rename forgets it."""

    def __init__(self) -> None:
        super().__init__()
        self.committed: dict[tuple[str, str], Env] = {}

    def git(self, *words: str) -> str:
        """Run git, here."""
        who = ("-c", "user.name=anna", "-c", "user.email=anna@sandling.example", "-c", "init.defaultBranch=main")
        done = subprocess.run(
            ["git", *who, *words], cwd=self.folder, env=self.cj.env, check=False, capture_output=True, text=True
        )
        assert done.returncode == 0, (words, done.stdout, done.stderr)
        self.nothing_leaks(done.stdout.encode(), " ".join(words))
        return done.stdout

    @rule()
    def commit(self) -> None:
        """Everything in the jar is committed."""
        if not (self.folder / ".git").is_dir():
            self.git("init", "-q")
        self.git("add", "-A", "jar")
        self.git("commit", "-q", "--allow-empty", "-m", "Values")
        self.committed = {(stage, service): self.model.env(stage, service) for stage in STAGES for service in SERVICES}
        self.names_then = set(self.model.secret)

    @precondition(lambda self: self.committed)
    @rule(stage=st.sampled_from(STAGES))
    def compare_with_the_commit(self, stage: str) -> None:
        """What differs from the jar at the revision is what was changed since."""
        if not self.names_then <= set(self.model.secret) or any(self.model.former.values()):
            return  # a name that went is told in words of its own
        now = {service: self.model.env(stage, service) for service in SERVICES}
        then = {service: self.committed[stage, service] for service in SERVICES}
        differ = {
            name
            for service in SERVICES
            for name in {*now[service], *then[service]}
            if now[service].get(name) != then[service].get(name)
        }
        done = self.once("compare", stage, "commit:HEAD", "--json", code=1 if differ else 0)
        rows = json.loads(done.out)["rows"]
        assert {row["name"] for row in rows if row["verdict"] != "same"} == differ

    @precondition(lambda self: self.committed and self.model.secret)
    @rule(data=st.data())
    def look_up_its_history(self, data: st.DataObject) -> None:
        """The last event of each place is the value that it has now, or its end."""
        name = data.draw(st.sampled_from(self.model.named()))
        last: dict[tuple[str, str], dict[str, str]] = {}
        for event in json.loads(self.once("history", name, "--json").out)["events"]:
            if event["action"] in ("set", "changed", "removed"):
                last[event["layer"], event["scope"]] = event
        there = {(layer, scope): text for (layer, scope, named), text in self.model.values.items() if named == name}
        gone = {place for place, event in last.items() if event["action"] == "removed"}
        assert {*last} - gone == {*there}, (name, last)
        for place, text in there.items():
            value = None if self.model.secret[name] else text
            assert last[place]["value"] == value, (name, place, last[place])

    @precondition(lambda self: self.model.secrets)
    @rule(layer=st.sampled_from(LAYERS))
    def show_the_encrypted_file_as_text(self, layer: str) -> None:
        """Every encrypted value with its length, and nothing else."""
        path = f"jar/coins/{layer}.coins"
        if not (self.folder / path).is_file():
            return
        shown = self.once("textconv", path).out.splitlines()
        sealed = {
            f"{name} ({scope}): •••• {len(text)} characters"
            for (on, scope, name), text in self.model.values.items()
            if on == layer and self.model.secret[name] and text is not None
        }
        assert {line.partition(" #")[0] for line in shown if "characters" in line} == sealed

    @precondition(lambda self: any(self.model.secret[key[2]] and text for key, text in self.model.values.items()))
    @rule(data=st.data(), taken=st.sampled_from([1, 2]))
    def resolve_a_merge(self, data: st.DataObject, taken: int) -> None:
        """Both branches change one secret; the version that is taken is the value then."""
        there = [key for key, text in self.model.values.items() if self.model.secret[key[2]] and text]
        layer, scope, name = data.draw(st.sampled_from(sorted(there)))
        if scope == "all" and len(self.model.has(layer, name)) > 1:
            return  # which of them?
        self.commit()
        self.git("branch", "-f", "side")
        words = ("put", name, "--stage", layer, *narrowed(scope))
        texts = {branch: self.fresh(f"p/w#@%{branch}-") for branch in BRANCHES}
        self.model.secrets |= {*texts.values()}
        for branch in BRANCHES:
            self.git("checkout", "-q", branch)
            self.once(*words, stdin=texts[branch])
            self.git("commit", "-qam", branch)
        self.git("merge", "-q", "--no-edit", "side")
        versions = json.loads(self.once("resolve", "--json", code=1).out)["values"]
        assert [(value["name"], value["stage"], value["scope"]) for value in versions] == [(name, layer, scope)]
        chosen = versions[0]["versions"][taken - 1]["from"]
        self.run("resolve", name, "--stage", layer, "--take", str(taken), again=2)
        self.model.put(layer, scope, name, texts["main" if chosen == "ours" else "side"], secret=True)
        self.once("resolve")
        self.commit()

    # -- several sources

    @rule(
        files=st.fixed_dictionaries(
            {}, optional=dict.fromkeys(LAYERS, st.dictionaries(st.sampled_from(["Q1", "Q2"]), TEXTS, min_size=1))
        ),
        layered=st.booleans(),
    )
    def adopt_several_sources(self, files: dict[str, Env], layered: bool) -> None:
        """Each stage sees what its files say over those of the stages it follows. Then the jar is as it was."""
        kept = self.folder / "kept"
        shutil.copytree(self.folder / "jar", kept)
        self.cj.write({f"{layer}.json": json.dumps(values) for layer, values in files.items()})
        if layered and files:  # all of them over each other, for one stage
            merged = {name: text for values in files.values() for name, text in values.items()}
            self.run("adopt", ",".join(f"{layer}.json" for layer in files), "--stage", "dev", "--yes")
            wanted = {"dev": merged}
        else:
            if files:
                self.run("adopt", *(f"{layer}={layer}.json" for layer in files), "--yes")
            wanted = {
                stage: {name: text for layer in CHAINS[stage] for name, text in files.get(layer, {}).items()}
                for stage in STAGES
            }
        for stage, values in wanted.items():
            for service in SERVICES:
                assert self.seen(stage, service) == self.model.env(stage, service) | values
        shutil.rmtree(self.folder / "jar")
        kept.rename(self.folder / "jar")

    # -- a watched program

    @rule(stage=st.sampled_from(STAGES), service=st.sampled_from(SERVICES), name=st.sampled_from(PLAIN), text=TEXTS)
    def watch(self, stage: str, service: str, name: str, text: str) -> None:
        """The program gets what its service sees, and starts again exactly when that has changed."""
        if self.model.is_old(name):
            return
        log = self.folder / "watched.log"
        consent_to_all(self.folder, (), self.cj.env)
        argv = [PROGRAM, "within", stage, "--service", service, "--bare", "--watch", "--", "python3", "-c", _SHOWS]
        with log.open("wb") as file:
            process = subprocess.Popen(
                argv, cwd=self.folder, env=self.cj.env, stdout=file, stderr=subprocess.DEVNULL, start_new_session=True
            )
        try:
            for other in SERVICES:  # what only the other one gets starts nothing again
                if other == service or not self._starts(log, 1):
                    continue
                self.once("put", f"{name}={text}", "--declare", "--stage", stage, "-s", other)
                self.model.put(stage, other, name, text, secret=False)
            before = self.model.env(stage, service)
            assert self._told(log)[-1].items() >= before.items()
            self.once("put", f"{name}={text}", "--declare", "--stage", stage, "-s", service)
            self.model.put(stage, service, name, text, secret=False)
            starts = 2 if self.model.env(stage, service) != before else 1
            assert self._starts(log, starts)
            assert self._told(log)[-1].items() >= self.model.env(stage, service).items()
            assert len(self._told(log)) == starts
        finally:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()
            log.unlink()

    def _told(self, log: Path) -> list[Env]:
        return [json.loads(line) for line in log.read_text().splitlines() if line.endswith("}")]

    def _starts(self, log: Path, number: int) -> bool:
        """Wait until the program was started so often."""
        end = time.monotonic() + _PATIENCE
        while len(self._told(log)) < number:
            if time.monotonic() > end:
                return False
            time.sleep(0.05)
        return True
