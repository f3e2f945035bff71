"""Random sequences of commands on small jars, held against an independent model after each.

After every step each service on each stage sees what the model says; the same command once more changes nothing; no
secret can be read in any output or in any file of the jar. Faults that were put back to see that this finds them: a
rename's last step that drops the declaration, services that may not share a namespace, a move of one stage that moves
all, an empty stdin that is a value, and a diff that shows the secret beside what it changes.
"""

from __future__ import annotations

import json
import os
import shutil

from hypothesis import HealthCheck, Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import invariant, precondition, rule

from coinjar.core.secret import reveal
from tests.jar_in_git import JarInGit
from tests.jar_on_disk import OTHER, OTHERS_RECIPIENT, PLAIN, SCOPES, STAGES, TEXTS, TOKENS, narrowed
from tests.model import ALL, LAYERS, SERVICES


class JarMachine(JarInGit):
    """The steps."""

    # -- what holds after each step

    @invariant()
    def every_service_sees_what_the_model_says(self) -> None:
        if hasattr(self, "salt"):
            self.agrees()

    # -- values

    @rule(
        name=st.sampled_from(PLAIN),
        layers=st.lists(st.sampled_from(LAYERS), min_size=1, max_size=2, unique=True),
        scope=SCOPES,
        text=TEXTS,
    )
    def put(self, name: str, layers: list[str], scope: str, text: str) -> None:
        where = [word for layer in layers for word in ("--stage", layer)] + narrowed(scope)
        if self.model.is_old(name):
            self.run("put", f"{name}={text}", "--declare", *where, code=2, again=2)
            return
        self.run("put", f"{name}={text}", "--declare", *where)
        for layer in layers:
            self.model.put(layer, scope, name, text, secret=False)

    @rule(
        name=st.sampled_from(TOKENS),
        layer=st.sampled_from(LAYERS),
        scope=SCOPES,
        ending=st.sampled_from(["", "\n", "\r\n"]),
    )
    def put_secret(self, name: str, layer: str, scope: str, ending: str) -> None:
        text = self.fresh("p/w#@%canary-")
        self.model.secrets.add(text)
        code = 2 if self.model.is_old(name) else 0
        where = ["--stage", layer, *narrowed(scope)]
        self.run("put", name, "--declare", *where, stdin=text + ending, code=code, again=code)
        if code == 0:
            self.model.put(layer, scope, name, text, secret=True)

    @rule(name=st.sampled_from(TOKENS), layer=st.sampled_from(LAYERS))
    def put_nothing(self, name: str, layer: str) -> None:
        self.run("put", name, "--declare", "--stage", layer, code=2, again=2)

    @precondition(lambda self: self.model.secret)
    @rule(data=st.data(), layer=st.sampled_from(LAYERS), scope=SCOPES)
    def unset(self, data: st.DataObject, layer: str, scope: str) -> None:
        name = data.draw(st.sampled_from(self.model.named()))
        self.run("put", name, "--unset", "--stage", layer, *narrowed(scope))
        self.model.put(layer, scope, name, None, secret=self.model.secret[name])

    @precondition(lambda self: self.model.values)
    @rule(data=st.data())
    def drop(self, data: st.DataObject) -> None:
        layer, scope, name = data.draw(st.sampled_from(sorted(self.model.values)))
        self.run("drop", name, "--stage", layer, *narrowed(scope), again=1)
        self.model.drop(layer, scope, name)
        self.undoable = None

    @precondition(lambda self: self.model.secret)
    @rule(data=st.data())
    def drop_everywhere(self, data: st.DataObject) -> None:
        name = data.draw(st.sampled_from(self.model.named()))
        self.run("drop", name, "--everywhere", "--yes", again=2)
        self.model.drop_everywhere(name)
        self.undoable = None

    # Not MAIL_HOST: its kind is guessed from its first value, and a later value of another kind is left out.
    @rule(stage=st.sampled_from(("shared", *STAGES)), name=st.sampled_from(PLAIN[:2]), text=TEXTS, more=TEXTS)
    def adopt(self, stage: str, name: str, text: str, more: str) -> None:
        self.cj.write({"in.json": json.dumps({name: text, "ADOPTED": more})})
        self.run("adopt", "in.json", "--stage", stage, "--yes")
        for other_name, value in ((name, text), ("ADOPTED", more)):
            if not self.model.is_old(other_name):
                self.model.adopt(stage, other_name, value)

    @precondition(lambda self: self.model.named(secret=True))
    @rule(data=st.data(), layer=st.sampled_from(STAGES))
    def generate(self, data: st.DataObject, layer: str) -> None:
        name = data.draw(st.sampled_from(self.model.named(secret=True)))
        self.once("generate", name, "--stage", layer, "--replace", "--yes")
        self.once("generate", name, "--stage", layer, code=2)
        others = [service for service in SERVICES if (layer, service, name) not in self.model.values]
        if not others:
            self.model.drop(layer, ALL, name)
            self.once("drop", name, "--stage", layer)
            return
        text = self.cj("value", layer, name, "--service", others[0]).out
        assert len(text) == 40
        assert text not in self.model.secrets
        self.model.put(layer, ALL, name, text, secret=True)

    @precondition(lambda self: any(self.model.secret[key[2]] and text for key, text in self.model.values.items()))
    @rule(data=st.data(), way=st.sampled_from(["at once", "in steps", "and back"]))
    def rotate(self, data: st.DataObject, way: str) -> None:
        there = [key for key, text in self.model.values.items() if self.model.secret[key[2]] and text]
        layer, scope, name = data.draw(st.sampled_from(sorted(there)))
        if scope == ALL and len(self.model.has(layer, name)) > 1:
            return  # which of them?
        text = self.fresh("p/w#@%rotated-")
        self.model.secrets.add(text)
        words = ("rotate", name, "--stage", layer, *narrowed(scope), "--yes")
        before = {(stage, service): self.model.env(stage, service) for stage in STAGES for service in SERVICES}
        if way == "at once":
            self.once(*words, "--given", "--finish", stdin=text)
        else:
            self.once(*words, "--given", "--until", "made", stdin=text)
            self.once("put", name, "--stage", layer, *narrowed(scope), stdin="other", code=3)
            if way == "in steps":
                self.once(*words, "--until", "switched")
                self.once(*words, "--finish")
            self.once(*words, "--back", code=0 if way == "and back" else 2)
        if way != "and back":
            self.model.put(layer, scope, name, text, secret=True)
        for stage in STAGES:  # it was delivered where it changes something
            changed = any(self.model.env(stage, service) != before[stage, service] for service in SERVICES)
            if changed and stage not in self.model.moved:
                self.model.deliver(stage)
                self.undoable = None

    @precondition(lambda self: self.model.named(secret=False))
    @rule(data=st.data(), stage=st.sampled_from(STAGES))
    def edit(self, data: st.DataObject, stage: str) -> None:
        name = data.draw(st.sampled_from(self.model.named(secret=False)))
        text = self.fresh("edited")
        script = self.folder / "editor"
        script.write_text(
            "import sys, re\npath = sys.argv[1]\nabove, line, below = open(path).read().partition('--- # secrets')\n"
            f"assert line\nabove = re.sub(r'(?m)^  {name}:.*\\n', '', above)\n"
            "above = re.sub(r'(?m)^all:.*\\n', '', above, count=1) if not re.search(r'(?m)^all:.*\\n  ', "
            "above) else above\n"
            f"above = re.sub(r'(?m)^all:\\n', 'all:\\n  {name}: {text}\\n', above) if "
            f"re.search(r'(?m)^all:\\n', above) else above + 'all:\\n  {name}: {text}\\n'\n"
            "above = re.sub(r'(?m)^(web|worker):\\n(?!  )', '', above)\nopen(path, 'w').write(above + line + below)\n"
        )
        self.cj.env["EDITOR"] = f"python3 {script}"
        self.run("edit", stage)
        for scope in SERVICES:
            self.model.drop(stage, scope, name)
        self.model.put(stage, ALL, name, text, secret=False)

    # -- names

    @precondition(lambda self: self.model.secret)
    @rule(data=st.data(), keep_old=st.booleans(), by_hand=st.booleans())
    def rename(self, data: st.DataObject, keep_old: bool, by_hand: bool) -> None:
        old = data.draw(st.sampled_from(self.model.named()))
        new = self.fresh("N") + ("_TOKEN" if self.model.secret[old] else "")
        own = self.folder / "jar/.local/dev.yaml"
        tokens = [name for name in self.model.named(secret=True) if name != old]
        if by_hand and tokens:  # somebody has values of their own there, on one line
            self.model.secrets.add(secret := self.fresh("own-canary-"))
            self.cj.write(
                {"jar/.local/dev.yaml": f"web: {{{old}: y, {tokens[0]}: {secret}}}\n"}
                if not self.model.secret[old]
                else {}
            )
        self.once("rename", old, new, "--dry-run", code=1)
        self.run("rename", old, new, "--yes", *(["--keep-old"] if keep_old else []), again=None)
        own.unlink(missing_ok=True)
        before = self.state()
        self.once("rename", old, new, "--yes", code=None)  # says that there is nothing to change, or no such name
        assert self.state() == before
        self.model.rename(old, new, keep_old=keep_old)
        self.undoable = None

    @precondition(lambda self: any(self.model.former.values()))
    @rule(data=st.data())
    def finish(self, data: st.DataObject) -> None:
        name, old = data.draw(
            st.sampled_from([(name, old) for name, former in self.model.former.items() for old in former])
        )
        self.run("rename", "--finish", old, again=2)
        self.model.finish(name, old)

    # -- stages, services, the application

    @rule(stage=st.sampled_from(STAGES))
    def rename_a_stage_and_back(self, stage: str) -> None:
        self.run("stages", "rename", stage, "elsewhere", "--yes", again=None)
        for service in SERVICES:
            assert self.seen("elsewhere", service) == self.model.env(stage, service)
        if (stage, SERVICES[0]) in self.model.delivered and stage not in self.model.moved:
            self.once("drift", "elsewhere", "salt", code=None)
            assert "elsewhere" not in json.dumps(self.salt.standin.state["apps"])
        self.run("stages", "rename", "elsewhere", stage, "--yes", again=2)

    @rule()
    def rename_the_application_and_back(self) -> None:
        self.run("app", "rename", "model", "other", "--yes")
        self.run("app", "rename", "other", "model", "--yes", again=2)

    @rule(stage=st.sampled_from(STAGES))
    def copy_a_stage_and_remove_the_copy(self, stage: str) -> None:
        before = self.state()
        self.run("stages", "copy", stage, "twin", "--yes", again=2)
        for service in SERVICES:
            assert self.seen("twin", service) == self.model.env(stage, service)
        self.run("stages", "remove", "twin", "--yes", again=2)
        assert self.state() == before

    @rule(service=st.sampled_from(SERVICES))
    def copy_a_service_and_remove_the_copy(self, service: str) -> None:
        self.run("services", "copy", service, "twin", "--yes", again=2)
        for stage in STAGES:
            assert self.seen(stage, "twin") == self.model.env(stage, service)
        self.run("services", "remove", "twin", "--yes", again=2)

    @rule(pair=st.sampled_from([("dev", "prod"), ("isles", "dev"), ("prod", "isles")]))
    def promote_and_lift(self, pair: tuple[str, str]) -> None:
        """The target gets what the source has; a lift changes nobody's values. Then the jar is as it was before."""
        source, target = pair
        kept = self.folder / "kept"
        shutil.copytree(self.folder / "jar", kept)
        self.run("promote", source, target, "--yes")
        for service in SERVICES:
            wanted = {name: text for name, text in self.model.env(source, service).items() if name in self.model.secret}
            assert wanted.items() <= self.seen(target, service).items()
        everything = [self.seen(stage, service) for stage in STAGES for service in SERVICES]
        self.run("lift", "--yes")
        assert [self.seen(stage, service) for stage in STAGES for service in SERVICES] == everything
        shutil.rmtree(self.folder / "jar")
        kept.rename(self.folder / "jar")

    @precondition(lambda self: self.model.secret)
    @rule(data=st.data(), layer=st.sampled_from(LAYERS), scope=SCOPES)
    def change_and_undo(self, data: st.DataObject, layer: str, scope: str) -> None:
        name = data.draw(st.sampled_from(self.model.named()))
        before = {
            path: path.read_bytes() for path in sorted((self.folder / "jar").glob("[!.]*/**/*")) if path.is_file()
        }
        self.once("put", name, "--unset", "--stage", layer, *narrowed(scope))
        after = {path: path.read_bytes() for path in sorted((self.folder / "jar").glob("[!.]*/**/*")) if path.is_file()}
        if after != before:
            self.once("undo", "--yes")
            self.once("undo", "--yes", code=2)
        assert before == {path: path.read_bytes() for path in before}

    # -- readers

    @precondition(lambda self: self.model.secrets)
    @rule(stage=st.sampled_from(STAGES))
    def let_in_and_out(self, stage: str) -> None:
        if (
            not (self.folder / "jar/coins/keys").is_dir()
            or self.cj("readers", "rekey", "--stage", stage, code=None).code
        ):
            return
        self.run("readers", "add", OTHERS_RECIPIENT, "--label", "berta", "--stage", stage, "--yes", again=None)
        opened = self.cj(
            "render", stage, "--service", "web", "--as", "json", env={"COINJAR_IDENTITY": reveal(OTHER)}, code=None
        )
        assert opened.code or json.loads(opened.out) == self.model.env(stage, "web")
        self.run("readers", "remove", "berta", "--everywhere", "--yes", again=2)

    @precondition(lambda self: self.model.named(secret=True))
    @rule(data=st.data(), layer=st.sampled_from(LAYERS))
    def seal(self, data: st.DataObject, layer: str) -> None:
        name = data.draw(st.sampled_from(self.model.named(secret=True)))
        if self.model.has(layer, name) or any(name == layer for name, _, _ in self.model.values):
            return
        text = self.fresh("written-in-plain-")
        self.model.secrets.add(text)
        self.cj.write({f"jar/plain/{layer}.yaml": f"all:\n  {name}: {text}\n"})
        self.run("readers", "seal")
        self.model.put(layer, ALL, name, text, secret=True)

    # -- going out

    @rule(stage=st.sampled_from(STAGES))
    def render(self, stage: str) -> None:
        self.run("render", stage, "env")
        for service in SERVICES:
            lines = (self.folder / f"out/{stage}/{service}.env").read_text().splitlines()
            result = dict(line.split("=", 1) for line in lines if line and not line.startswith("#"))
            assert result == self.model.env(stage, service)
        assert "0 files written" in self.once("render", stage, "env").out

    def at_salt(self, stage: str, service: str) -> dict[str, str]:
        result: dict[str, str] = self.salt.standin.state["apps"][f"{service}-{stage}"]["settings"]
        return result

    @rule(stage=st.sampled_from(STAGES))
    def deliver(self, stage: str) -> None:
        if stage in self.model.moved:
            self.run("deliver", stage, "salt", code=2, again=2)
            self.run("deliver", stage, "fish")
            return
        changed = any(
            self.model.delivered.get((stage, service), {}) != self.model.env(stage, service) for service in SERVICES
        )
        self.run("deliver", stage, "salt", "--restart")
        first = (stage, SERVICES[0]) not in self.model.delivered
        self.model.deliver(stage)
        for service in SERVICES:
            assert self.at_salt(stage, service) == self.model.delivered[stage, service], (stage, service)
        self.once("drift", stage, "salt")
        if changed and not first:
            numbers = json.loads(self.once("deliveries", "--json").out)
            self.undoable = (stage, str(numbers[0]["number"]))

    @precondition(lambda self: self.undoable)
    @rule()
    def undo(self) -> None:
        assert self.undoable
        stage, number = self.undoable
        self.undoable = None
        if stage in self.model.moved or any(
            set(env) - set(self.model.secret) for env in self.model.before[stage].values()
        ):
            return  # there is no such variable any more
        self.run("deliveries", "undo", number)
        for service in SERVICES:
            self.model.undo(stage, service)
            assert self.at_salt(stage, service) == self.model.delivered[stage, service]

    @rule()
    def deliver_to_the_cluster(self) -> None:
        self.run("deliver", "dev", "loft", "--restart")
        self.once("drift", "dev", "loft")

    @precondition(lambda self: not self.model.moved and self.model.secret)
    @rule(stage=st.sampled_from(STAGES))
    def move(self, stage: str) -> None:
        self.deliver(stage)
        if not any(self.model.env(stage, service) for service in SERVICES):
            return
        self.once("migrate", "dest:salt", "dest:fish", "--stage", stage, "--out", "move.yaml")
        self.run("migrate", "--execute", "move.yaml", "--yes")
        self.model.moved.add(stage)
        for service in SERVICES:
            there = self.fish.standin.state["projects"][service]["variables"].values()
            held = {
                item["name"]: item["text"]
                for item in there
                if stage in item["on"] and item["name"] not in ("LISTEN_PORT", "PUBLIC_ADDRESS")
            }
            assert held == self.model.env(stage, service)
        for other in STAGES:  # which stay where they were
            if other != stage:
                self.deliver(other)


TestJar = JarMachine.TestCase
PHASES = list(Phase) if os.environ.get("COINJAR_EXPLORE") else [Phase.generate]  # making a failure small takes minutes
TestJar.settings = settings(
    max_examples=14, stateful_step_count=12, suppress_health_check=list(HealthCheck), deadline=None, phases=PHASES
)
