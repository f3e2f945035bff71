"""The steps of a rotation. Each is repeatable, and leaves the jar so that the next run goes on, or back."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple

from coinjar.actions.editing.values import Assignment, misfits
from coinjar.actions.open_jar import OpenJar
from coinjar.actions.rotation.carriers import Carriers, carriers
from coinjar.actions.rotation.programs import run_program
from coinjar.actions.rotation.rotated_secret import RotatedSecret, rotated_secret
from coinjar.actions.running.confirm import ProofResult, ask_planned
from coinjar.actions.secrets.transaction import SealedTransaction
from coinjar.core.definition import RotatingValue, SealedValue
from coinjar.core.display import Masker
from coinjar.core.errors import ExternalError, InputError, Location, UsageError, raise_all
from coinjar.core.generators import make as generate
from coinjar.core.generators import recipe_of
from coinjar.core.model import Jar
from coinjar.core.names import ALL, SHARED
from coinjar.core.rotation import SWITCHED
from coinjar.core.secret import Secret, reveal
from coinjar.documents.edit import Edit, apply
from coinjar.jarfile.journal import replace_all
from coinjar.jarfile.layout import JarLayout
from coinjar.jarfile.load import read_bytes
from coinjar.jarfile.local_folder import locked
from coinjar.system.files import display_path

Told = Callable[[str, str], None]
"""Called after each step with its name and what was done."""


class RotationPlan(NamedTuple):
    """Secrets that are rotated together; what carries them, by stage; and other values with the same text."""

    secrets: list[RotatedSecret]
    carriers: list[Carriers]
    same: list[str]


def plan_rotation(
    opened: OpenJar, names: Sequence[str], layer: str, service: str | None, *, is_given: bool = False
) -> RotationPlan:
    """Plan to rotate these secrets of a layer, or to go on with it.

    Raises UsageError for a secret that jar.yaml does not define how to make anew, unless its new value `is_given`.
    """
    jar = opened.load()
    secrets = [rotated_secret(opened, jar, name, layer, service) for name in names]
    for secret in secrets:
        if not (secret.step or is_given or secret.variable.generate or secret.rules.make or secret.rules.change):
            hint = f"--given takes it from you; `generate` or `rotate` of {secret.name} in jar.yaml makes one"
            raise UsageError(
                f"jar.yaml does not define how {secret.name} gets a new value", hint=hint, code="no-recipe"
            )
    before = after = jar
    for secret in secrets:
        present = secret.value.content
        assert isinstance(present, str), "only texts are rotated"
        old, new = secret.texts(reveal(present) + "0")  # it stands for one that is not made yet
        before, after = secret.jar_with(before, old), secret.jar_with(after, new)
    changing = [name for secret in secrets for name in (secret.name, *(turn.name for turn in secret.turns))]
    return RotationPlan(secrets, carriers(opened, before, after, changing, layer), _same(jar, secrets))


def _same(jar: Jar, secrets: Sequence[RotatedSecret]) -> list[str]:
    """Return other places of the jar with the text of one of the secrets: they keep the old one."""
    own = {(secret.layer, scope, secret.name) for secret in secrets for scope in secret.scopes}
    texts = {secret.value.content for secret in secrets}
    return list(
        dict.fromkeys(
            f"{name} on {layer}"
            for layer, scopes in jar.plain.items()
            for scope, values in scopes.items()
            for name, definition in values.items()
            if (layer, scope, name) not in own and definition.content in texts
        )
    )


class Rotation:
    """Rotates secrets step by step. `told` is called after each."""

    def __init__(self, opened: OpenJar, plan: RotationPlan, masker: Masker, told: Told) -> None:
        self.opened = opened
        self.secrets = list(plan.secrets)
        self.carriers = plan.carriers
        self.masker = masker
        self.told = told

    # -- steps

    def make(self, given: Mapping[str, str]) -> None:
        """Make the new values, and keep them in the entries as the next ones. Raises InputError for a misfit."""
        for number, secret in enumerate(self.secrets):
            if secret.step:
                continue
            text = given.get(secret.name)
            how = "taken"
            if text is None and secret.rules.make:
                old, _ = secret.texts("")
                turns = {turn.name: turn.new for turn in secret.turns}
                text = run_program(self.opened, secret, secret.rules.make, old, turns).removesuffix("\n")
                how = f"made by {secret.rules.make[0]}"
            elif text is None:
                text = reveal(generate(recipe_of(secret.variable), secret.variable))
                how = f"generated, {len(text)} characters"
            self._require_fit(secret, text)
            other = RotatingValue(Secret(text), datetime.now(UTC).date().isoformat(), is_next=True)
            self.secrets[number] = self._written(secret, secret.value._replace(other=other))
            self.told("made", f"a new value of {secret.name} ({how}), kept as the next one")

    def _require_fit(self, secret: RotatedSecret, text: str) -> None:
        jar = self.opened.load()
        stages = [] if secret.layer == SHARED else [secret.layer]
        services = [] if secret.scopes == (ALL,) else list(secret.scopes)
        raise_all(misfits(jar, secret.variable, Assignment(secret.name, Secret(text), in_argv=False), stages, services))
        if not text or Secret(text) == secret.value.content:
            what = "empty" if not text else "the one that it has"
            raise InputError(f"the new value of {secret.name} is {what}", hint="take another one", code="same-value")

    def change(self) -> None:
        """Let the systems accept the new values. Raises ExternalError."""
        for secret in self.secrets:
            if secret.step != SWITCHED and secret.rules.change:
                run_program(self.opened, secret, secret.rules.change, *secret.texts())
                self.told("changed", f"{secret.rules.change[0]} has changed {secret.name}")

    async def prove(self) -> None:
        """Ask the proofs that run a program, with the new values. Raises ExternalError if one does not hold."""
        for secret in self.secrets:
            if secret.step == SWITCHED:
                continue
            jar = secret.jar_with(self.opened.load(), secret.texts()[1])
            for stage in [carrying.stage for carrying in self.carriers if carrying.stage != SHARED]:
                for result in await ask_planned(self.opened, jar, stage, secret.rules.proofs, self.masker):
                    self._require(result, secret)
                    self.told("proved", f"{result.proof.name} holds on {stage} with the new value of {secret.name}")

    def _require(self, result: ProofResult, secret: RotatedSecret) -> None:
        if result.holds:
            return
        why = result.verdict.actual if result.verdict else result.fault.message if result.fault else ""
        again = f"coinjar rotate {secret.name} --stage {secret.layer}"
        raise ExternalError(
            f"{result.proof.name} does not hold on {result.stage} with the new value of {secret.name}: {why}",
            hint=f"nothing was switched; `{again}` tries again, and --back goes back",
            location=result.proof.location,
            code="not-proved",
        )

    def switch(self) -> None:
        """Make the new values those of the jar; the old ones are kept as the previous ones."""
        for number, secret in enumerate(self.secrets):
            if secret.step == SWITCHED:
                continue
            assert secret.value.other is not None, "made before"
            assert isinstance(secret.value.content, str), "only texts are rotated"
            next_one = secret.value.other
            previous = RotatingValue(secret.value.content, secret.value.set_on, is_next=False)
            value = SealedValue(next_one.text, next_one.set_on, previous)
            turned = {turn.name: turn.new for turn in secret.turns}
            self.secrets[number] = self._written(secret, value, turned)
            words = [secret.name, *(f"{turn.name} ({turn.old} → {turn.new})" for turn in secret.turns)]
            self.told("switched", f"{', '.join(words)}; the previous value is kept")

    def finish(self) -> None:
        """Let the systems refuse the old values, and forget them."""
        for number, secret in enumerate(self.secrets):
            if secret.rules.revoke:
                run_program(self.opened, secret, secret.rules.revoke, *secret.texts())
                self.told("revoked", f"{secret.rules.revoke[0]} has revoked the old value of {secret.name}")
            self.secrets[number] = self._written(secret, secret.value._replace(other=None))
            self.told("finished", f"{secret.name} has one value everywhere; the other is forgotten")

    def go_back(self) -> None:
        """Go back: a value that is not in use is given up; one that is in use becomes the next one to replace.

        Raises UsageError if nothing is under way.
        """
        for secret in self.secrets:
            if not secret.step:
                hint = "version control has the earlier value: `coinjar history`"
                raise UsageError(
                    f"{secret.name} on {secret.layer} is not being rotated", hint=hint, code="nothing-to-undo"
                )
        for number, secret in enumerate(self.secrets):
            old, new = secret.texts()
            assert secret.value.other is not None, "under way"
            if secret.step == SWITCHED:
                turned = secret.value.other._replace(is_next=True)
                self.secrets[number] = self._written(secret, secret.value._replace(other=turned))
                continue
            for argv in (secret.rules.change, secret.rules.revoke):
                if argv:
                    run_program(self.opened, secret, argv, new, old)
            self.secrets[number] = self._written(secret, secret.value._replace(other=None))
            self.told("back", f"{secret.name} keeps its value; the next one is given up")

    # -- writing

    def _written(
        self, secret: RotatedSecret, value: SealedValue, turned: Mapping[str, str] | None = None
    ) -> RotatedSecret:
        """Write an entry and what takes turns with it, all or nothing, and return the secret as it is then.

        Raises InputError if somebody else changed it meanwhile.
        """
        folder = self.opened.folder
        service = secret.scopes[0] if secret.scopes[0] != ALL and len(secret.scopes) == 1 else None
        with locked(folder):
            jar = self.opened.load()
            now = rotated_secret(self.opened, jar, secret.name, secret.layer, service)
            if now.value != secret.value or now.scopes != secret.scopes:
                raise InputError(
                    f"{secret.name} was changed meanwhile",
                    hint="run it again, which goes on from there",
                    location=Location(display_path(JarLayout(folder).sealed(secret.layer))),
                    code="changed-meanwhile",
                )
            sealing = SealedTransaction(self.opened, jar)
            for scope in secret.scopes:
                sealing.put_value(secret.layer, scope, secret.name, value)
            files: dict[Path, tuple[bytes | None, bytes | None]] = {
                path: (_content(path), data) for path, data in sealing.contents().items()
            }
            path = JarLayout(folder).plain(secret.layer)
            edits = [
                Edit((scope, turn.name), turned[turn.name])
                for turn in secret.turns
                for scope in turn.scopes
                if turned is not None
            ]
            if edits:
                text = _content(path)
                files[path] = (text, apply(text or b"", display_path(path), edits))
            replace_all(folder, files)
            return rotated_secret(self.opened, self.opened.load(), secret.name, secret.layer, service)


def _content(path: Path) -> bytes | None:
    return read_bytes(path) if path.exists() else None


def proofs_of(jar: Jar, secrets: Sequence[RotatedSecret], stage: str) -> list[str]:
    """Return the proofs that confirm the secrets on a stage."""
    if stage == SHARED:
        return []
    names = dict.fromkeys(name for secret in secrets for name in secret.rules.proofs)
    chain = list(dict.fromkeys(part for other in jar.chain(stage) for part in (jar.stage(other).name, other)))
    return [name for name in names if jar.proofs[name].is_for(chain)]
