"""Random sequences of commands on jars whose values refer to each other, plain and encrypted, held against a model.

After every step each service on each stage sees what the model says; the same command once more changes nothing; no
secret can be read in any output or file of the jar, also not one between references. Faults that were put back to see
that this finds them: a rename that is refused where two encrypted texts refer to a name, a service that is removed
while an encrypted text refers to it, and a diff that shows the text between references after the change.
"""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass, field

from hypothesis import HealthCheck, Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import initialize, invariant, precondition, rule

from coinjar.core.secret import reveal
from tests.jar_on_disk import OTHER, OTHERS_RECIPIENT, SCOPES, STAGES, JarOnDisk, narrowed
from tests.model import ALL, CHAINS, LAYERS, SERVICES, Env

PLAIN, SECRET = ("A", "B"), ("C_TOKEN", "D_PASSWORD")
LINKS = {"LINK": False, "OTHER_LINK": False, "KEY_LINK": True, "DEEP_LINK": True}
TARGETS = st.lists(st.tuples(st.integers(0, 9), st.sampled_from([None, *SERVICES])), min_size=1, max_size=2)


@dataclass
class Link:
    """A text with references: each to a name, as this service or as the one that it names has it."""

    own: str
    targets: list[tuple[str, str | None]]

    def written(self) -> str:
        return self.own + "".join(f"~${{{name}{f'@of:{of}' if of else ''}:-none}}" for name, of in self.targets)


@dataclass
class ReferenceModel:
    """`values` maps layer, scope and name to a text, a link, or None for what is unset there."""

    secret: dict[str, bool] = field(default_factory=dict)
    values: dict[tuple[str, str, str], str | Link | None] = field(default_factory=dict)
    secrets: set[str] = field(default_factory=set)

    def value(self, stage: str, service: str, name: str) -> str | None:
        value = None
        for layer in CHAINS.get(stage, (stage,)):
            for scope in (ALL, service):
                value = self.values.get((layer, scope, name), value) if (layer, scope, name) in self.values else value
        if not isinstance(value, Link):
            return value
        return value.own + "".join(
            f"~{text or 'none'}" for text in (self.value(stage, of or service, name) for name, of in value.targets)
        )

    def env(self, stage: str, service: str) -> Env:
        return {name: text for name in self.secret if (text := self.value(stage, service, name)) is not None}

    def links(self) -> list[tuple[tuple[str, str, str], Link]]:
        return [(key, value) for key, value in self.values.items() if isinstance(value, Link)]

    def rename(self, renames: dict[str, str]) -> None:
        self.secret = {renames.get(name, name): secret for name, secret in self.secret.items()}
        self.values = {
            (layer, scope, renames.get(name, name)): value for (layer, scope, name), value in self.values.items()
        }
        for _, link in self.links():
            link.targets = [(renames.get(name, name), of) for name, of in link.targets]


class ReferenceMachine(JarOnDisk):
    """The steps."""

    model: ReferenceModel  # type: ignore[assignment]  # a smaller one, with links

    @initialize()
    def make(self) -> None:
        self.model = ReferenceModel()
        self.run("new", "--app", "model", *(f"--service={name}" for name in SERVICES), *(
            f"--stage={name}" for name in ("dev", "prod", "isles:prod")), again=3)  # fmt: skip
        self.cj("put", "A=a", "--declare", "--stage", "shared")
        self.model.secret, self.model.values = {"A": False}, {("shared", ALL, "A"): "a"}

    @invariant()
    def every_service_sees_what_the_model_says(self) -> None:
        self.agrees()

    # -- values

    @rule(name=st.sampled_from(PLAIN), layer=st.sampled_from(LAYERS), scope=SCOPES)
    def put(self, name: str, layer: str, scope: str) -> None:
        text = self.fresh("t")
        self.run("put", f"{name}={text}", "--declare", "--stage", layer, *narrowed(scope))
        self.model.secret.setdefault(name, False)
        self.model.values[layer, scope, name] = text

    @rule(name=st.sampled_from(SECRET), layer=st.sampled_from(LAYERS), scope=SCOPES)
    def put_secret(self, name: str, layer: str, scope: str) -> None:
        self.model.secrets.add(text := self.fresh("p/w#@%canary-"))
        self.run("put", name, "--declare", "--stage", layer, *narrowed(scope), stdin=text)
        self.model.secret.setdefault(name, True)
        self.model.values[layer, scope, name] = text

    @rule(name=st.sampled_from(sorted(LINKS)), layer=st.sampled_from(LAYERS), scope=SCOPES, to=TARGETS)
    def put_link(self, name: str, layer: str, scope: str, to: list[tuple[int, str | None]]) -> None:
        """An encrypted one has a secret between its references."""
        is_secret, there = LINKS[name], [other for other in self.model.secret if other not in LINKS]
        if not there:
            return
        own = self.fresh("x://kit:canary-" if is_secret else "o") + ("@h" if is_secret else "")
        link = Link(own, [(there[number % len(there)], of) for number, of in to])
        where = ("--stage", layer, *narrowed(scope), "--declare")
        if is_secret:
            self.model.secrets.add(own)
            self.run("put", name, "--text", "--secret", *where, stdin=link.written())
        else:
            self.run("put", "--text", f"{name}={link.written()}", *where)
        self.model.secret.setdefault(name, is_secret)
        self.model.values[layer, scope, name] = link
        for service in SERVICES:
            self.remove_a_service(service)

    @rule(layer=st.sampled_from(LAYERS))
    def seal_a_link(self, layer: str) -> None:
        """One that somebody wrote in plain text."""
        if any(key[0] == layer for key in self.model.values) or "KEY_LINK" not in self.model.secret:
            return
        link = Link(self.fresh("y://kit:canary-") + "@h", [("A", None)] if "A" in self.model.secret else [])
        if not link.targets:
            return
        self.model.secrets.add(link.own)
        self.cj.write({f"jar/plain/{layer}.yaml": f"all:\n  KEY_LINK: {{text: '{link.written()}'}}\n"})
        self.run("readers", "seal")
        self.model.values[layer, ALL, "KEY_LINK"] = link

    @precondition(lambda self: self.model.values)
    @rule(data=st.data())
    def drop(self, data: st.DataObject) -> None:
        layer, scope, name = data.draw(st.sampled_from(sorted(self.model.values)))
        self.run("drop", name, "--stage", layer, *narrowed(scope), again=1)
        del self.model.values[layer, scope, name]

    @precondition(lambda self: self.model.secret)
    @rule(data=st.data())
    def drop_everywhere(self, data: st.DataObject) -> None:
        """Not while anything refers to it."""
        name = data.draw(st.sampled_from(sorted(self.model.secret)))
        if any(name in dict(link.targets) for key, link in self.model.links() if key[2] != name):
            before = self.state()
            self.once("drop", name, "--everywhere", "--yes", code=3)
            assert self.state() == before
            return
        self.run("drop", name, "--everywhere", "--yes", again=2)
        del self.model.secret[name]
        self.model.values = {key: value for key, value in self.model.values.items() if key[2] != name}

    # -- names

    @precondition(lambda self: self.model.secret)
    @rule(data=st.data())
    def rename_and_back(self, data: st.DataObject) -> None:
        old = data.draw(st.sampled_from(sorted(self.model.secret)))
        new = self.fresh("N") + ("_TOKEN" if self.model.secret[old] else "")
        own = self.fresh("z://kit:canary-") + "@h"
        self.model.secrets.add(own)  # somebody has a text in between of their own
        others = [name for name in self.model.secret if name != old]
        if others and old not in LINKS:
            self.cj.write({"jar/.local/dev.yaml": f"web:\n  {others[-1]}: {{text: '{own}~${{{old}:-x}}'}}\n"})
        self.once("rename", old, new, "--dry-run", code=1)
        (self.folder / "jar/.local/dev.yaml").unlink(missing_ok=True)
        for before, after in ((old, new), (new, old)):
            self.run("rename", before, after, "--yes", again=None)
            self.model.rename({before: after})
            self.agrees()
        self.run("rename", "--finish", new, again=2)

    @precondition(lambda self: len(self.model.secret) > 1)
    @rule(data=st.data())
    def exchange_names_and_back(self, data: st.DataObject) -> None:
        one, other = data.draw(st.permutations(sorted(self.model.secret)))[:2]
        if self.model.secret[one] != self.model.secret[other] or {one, other} & set(LINKS) not in (set(), {one, other}):
            return  # a name that is not fit for the other
        self.cj.write({"table": f"{one} {other}\n{other} {one}\n"})
        for _ in range(2):
            self.run("rename", "--table", "table", "--yes", again=None)
            self.model.rename({one: other, other: one})
            self.agrees()

    @rule(stage=st.sampled_from(STAGES))
    def rename_a_stage_and_back(self, stage: str) -> None:
        self.run("stages", "rename", stage, "elsewhere", "--yes", again=None)
        for service in SERVICES:
            assert self.seen("elsewhere", service) == self.model.env(stage, service)
        self.run("stages", "rename", "elsewhere", stage, "--yes", again=2)

    @rule(stage=st.sampled_from(STAGES), service=st.sampled_from(SERVICES))
    def copy_and_remove_the_copies(self, stage: str, service: str) -> None:
        self.run("stages", "copy", stage, "twin", "--yes", again=2)
        for each in SERVICES:
            assert self.seen("twin", each) == self.model.env(stage, each)
        self.run("stages", "remove", "twin", "--yes", again=2)
        self.run("services", "copy", service, "twin", "--yes", again=2)
        for each in STAGES:
            assert self.seen(each, "twin") == self.model.env(each, service)
        self.run("services", "remove", "twin", "--yes", again=2)

    def remove_a_service(self, service: str) -> None:
        """Not while a value of another refers to it."""
        refers = any(service in [of for _, of in link.targets] for key, link in self.model.links() if key[1] != service)
        self.once("services", "remove", service, "--dry-run", code=3 if refers else 1)

    # -- layers and readers

    @rule()
    def lift_what_can_be(self) -> None:
        """It changes nobody's values. Then the jar is as it was."""
        kept = self.folder / "kept"
        shutil.copytree(self.folder / "jar", kept)
        self.once("lift", "--yes", code=None)
        self.agrees()
        shutil.rmtree(self.folder / "jar")
        kept.rename(self.folder / "jar")

    @precondition(lambda self: self.model.secrets)
    @rule(stage=st.sampled_from(STAGES))
    def let_in_and_out(self, stage: str) -> None:
        if not (self.folder / f"jar/coins/{stage}.coins").is_file():
            return
        self.run("readers", "add", OTHERS_RECIPIENT, "--label", "berta", "--stage", stage, "--yes", again=None)
        theirs = self.cj("render", stage, "-s", "web", "--as", "json", env={"COINJAR_IDENTITY": reveal(OTHER)})
        assert theirs.out == self.cj("render", stage, "-s", "web", "--as", "json").out
        self.run("readers", "remove", "berta", "--everywhere", "--yes", again=2)

    @rule()
    def check(self) -> None:
        self.once("check", code=None)


TestReferences = ReferenceMachine.TestCase
PHASES = list(Phase) if os.environ.get("COINJAR_EXPLORE") else [Phase.generate]  # making a failure small takes minutes
TestReferences.settings = settings(
    max_examples=10, stateful_step_count=14, suppress_health_check=list(HealthCheck), deadline=None, phases=PHASES
)
