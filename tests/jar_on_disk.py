"""A small jar that commands are run on, with the model that it is held against: what the random sequences share."""

from __future__ import annotations

import json
import shutil
import tempfile
from base64 import b64encode
from contextlib import ExitStack
from pathlib import Path
from typing import Any
from urllib.parse import quote

from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, rule

from coinjar.crypto.age import new_identity
from tests.conftest import Coinjar, Done
from tests.model import ALL, SERVICES, Model
from tests.systems import standin

STAGES = ("dev", "prod", "isles")
PLAIN, TOKENS = ("A", "B", "MAIL_HOST"), ("A_TOKEN", "B_PASSWORD")
TEXTS = st.sampled_from(["word", "x y", "a#b=c", "p@%:w", "é", "-x", "$HOME ${A}", "'q'"])
SCOPES = st.sampled_from([ALL, *SERVICES])
_K8S = (
    "apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: %(name)s}\nspec:\n  template:\n    spec:\n"
    "      containers: [{name: %(name)s, image: x}]\n"
)
OTHER, OTHERS_RECIPIENT = new_identity()


def narrowed(scope: str) -> list[str]:
    """The option for one service; nothing for all."""
    return [] if scope == ALL else ["-s", scope]


class JarOnDisk(RuleBasedStateMachine):
    """One jar and its model, with the steps that all sequences have."""

    def __init__(self) -> None:
        super().__init__()
        self.model = Model()
        self.stack = ExitStack()
        self.folder = Path(tempfile.mkdtemp(prefix="coinjar-model-"))
        self.cj = Coinjar(self.folder)
        self.cj.needs_consents = False
        self.count = 0
        self.undoable: tuple[str, str] | None = None

    def teardown(self) -> None:
        self.stack.close()
        shutil.rmtree(self.folder)

    @initialize()
    def make(self) -> None:
        services = [f"--service={name}" for name in SERVICES]
        stages = [f"--stage={name}" for name in ("dev", "prod", "isles:prod")]
        self.run("new", "--app", "model", *services, *stages, again=3)
        self.salt = self.stack.enter_context(
            standin("saltmarsh", self.folder / "s", *(f"{service}-{stage}" for service in SERVICES for stage in STAGES))
        )
        self.fish = self.stack.enter_context(standin("lanternfish", self.folder / "s", *SERVICES))
        loft = self.stack.enter_context(standin("hayloft", self.folder / "s"))
        self.cj.write({f"k8s/{name}.yaml": _K8S % {"name": name} for name in SERVICES})
        self.cj.env |= {"SALT": self.salt.token, "FISH": self.fish.token}
        with (self.folder / "jar/jar.yaml").open("a") as file:
            file.write(
                "destinations:\n  env: {type: file, as: literal, path: 'out/{stage}/{service}.env'}\n"
                f"  salt: {{type: platform, platform: saltmarsh, address: '{self.salt.standin.address}', "
                f"app: '{{service}}-{{stage}}', token: {{from_env: SALT}}}}\n"
                f"  fish: {{type: platform, platform: lanternfish, address: '{self.fish.standin.address}', "
                f"project: '{{service}}', token: {{from_env: FISH}}}}\n"
                "  manifests: {type: manifests, from: k8s, to: 'k8s-out/{stage}'}\n"
                f"  loft: {{type: cluster, manifests: manifests, kubeconfig: "
                f"'{loft.standin.more()['kubeconfig']}', stages: [dev]}}\n"
            )

    @rule(service=st.sampled_from(SERVICES))
    def rename_a_service_and_back(self, service: str) -> None:
        self.run("services", "rename", service, "someone", "--yes", again=None)
        for stage in STAGES:
            assert self.seen(stage, "someone") == self.model.env(stage, service)
        self.run("services", "rename", "someone", service, "--yes", again=2)

    def agrees(self) -> None:
        """Every service sees what the model says, and no file of the jar contains a secret."""
        for stage in STAGES:
            for service in SERVICES:
                assert self.seen(stage, service) == self.model.env(stage, service), (stage, service)
        for path in (self.folder / "jar").rglob("*"):
            if path.is_file() and ".local" not in path.parts:
                self.nothing_leaks(path.read_bytes(), str(path))

    # -- running

    def run(self, *arguments: str, code: int = 0, again: int | None = 0, stdin: str = "") -> Done:
        """Run it twice: the second run ends with `again` (None: it is not run), and changes nothing."""
        done = self.once(*arguments, code=code, stdin=stdin)
        if again is not None:
            before = self.state()
            self.once(*arguments, code=again, stdin=stdin)
            assert self.state() == before, (arguments, "changed something when it was run again")
        return done

    def once(self, *arguments: str, code: int | None = 0, stdin: str = "") -> Done:
        done = self.cj(*arguments, code=code, stdin=stdin)
        self.nothing_leaks((done.out + done.err).encode(), " ".join(arguments))
        return done

    def state(self) -> dict[str, bytes]:
        """All plain files of the jar, and which sealed values there are: sealing the same again makes other bytes."""
        result = {}
        for path in sorted((self.folder / "jar").rglob("*")):
            if path.suffix in (".yaml", ".coins") and path.is_file():
                data = path.read_bytes()
                result[str(path)] = (
                    b"\n".join(sorted(line.rsplit(b" ", 2)[0] for line in data.split(b"\n")))
                    if path.suffix == ".coins"
                    else data
                )
        result = {name: b"" if name.endswith("readers.yaml") else data for name, data in result.items()}
        return {
            **result,
            "values": json.dumps([self.seen(stage, service) for stage in STAGES for service in SERVICES]).encode(),
        }

    def seen(self, stage: str, service: str) -> dict[str, Any]:
        data: dict[str, Any] = json.loads(self.cj("render", stage, "--service", service, "--as", "json").out)
        return data

    def nothing_leaks(self, data: bytes, where: str) -> None:
        for secret in self.model.secrets:
            for form in (secret, quote(secret, safe=""), b64encode(secret.encode()).decode().rstrip("=")[:-1]):
                assert form.encode() not in data, (where, data.decode(errors="replace"))

    def fresh(self, name: str) -> str:
        """A secret, or a name, that was not there before."""
        self.count += 1
        return f"{name}{self.count}"
