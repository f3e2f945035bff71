"""Ask running systems the declared proofs, and compare their answers with what each stage expects."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

from coinjar.actions.delivery.live_stage import as_fault
from coinjar.actions.open_jar import OpenJar
from coinjar.core.display import Masker
from coinjar.core.errors import CoinJarError, UsageError
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar
from coinjar.core.names import same_but_for_case, suggestion
from coinjar.core.proofs import Expected, Proof, Verdict, judge
from coinjar.core.references import Reference, ReferenceValue, Template, expand
from coinjar.core.secret import Secret, reveal
from coinjar.destinations.stage_view import RenderContext
from coinjar.documents.json_data import Data
from coinjar.proofs import ask
from coinjar.proofs.base import NoAnswer, ProofAnswers, ProofQuestion

_PAUSE = 0.3
"""Seconds between two rounds of --wait."""


class ConfirmOptions(NamedTuple):
    """`patience`: seconds to keep asking until all hold; `allowed`: guarded stages for which pipelines may be
    started.
    """

    patience: float = 0
    allowed: Sequence[str] = ()


class ProofResult(NamedTuple):
    """The result of a proof on a stage; `verdict` is None if it could not be asked, and `fault` says why.

    `final`: asking again is useless.
    """

    proof: Proof
    stage: str
    verdict: Verdict | None
    fault: CoinJarError | None = None
    final: bool = False

    @property
    def holds(self) -> bool:
        return self.verdict is not None and self.verdict.holds


def split_names(jar: Jar, words: Sequence[str]) -> tuple[list[str], list[str]]:
    """Split stages and proofs. Raises UsageError for what is neither."""
    stages = [
        word
        for number, word in enumerate(words)
        if _is_stage(jar, word) and all(_is_stage(jar, word) for word in words[:number])
    ]
    names = list(words[len(stages) :])
    for name in names:
        if name not in jar.proofs:
            hint = suggestion(
                name, [*jar.proofs, *jar.stage_names()], f"the proofs are {', '.join(jar.proofs) or 'none yet'}"
            )
            raise UsageError(f"there is no proof or stage '{name}'", hint=hint, code="unknown-proof")
    return stages, names


def _is_stage(jar: Jar, word: str) -> bool:
    try:
        jar.stage(word)
    except UsageError:
        return False
    return True


async def confirm(
    opened: OpenJar, stages: Sequence[str], names: Sequence[str], masker: Masker, options: ConfirmOptions
) -> list[ProofResult]:
    """Ask every chosen proof on every chosen stage that it is for; repeat until all hold, for at most `patience`
    seconds.

    Raises UsageError if there is nothing to ask: no question must not look like success.
    """
    jar = opened.load(list(stages))
    if not jar.proofs:
        raise UsageError(
            "the jar has no proofs", hint="declare some in jar.yaml (`coinjar help formats proofs`)", code="no-proofs"
        )
    chosen = [jar.proofs[name] for name in names] or list(jar.proofs.values())
    asking = [_StageProofs(opened, jar, stage, masker, options) for stage in stages]
    pairs = [(stage, proof) for proof in chosen for stage in asking if proof.is_for(stage.chain)]
    idle = [proof.name for proof in chosen if names and all(proof is not other for _, other in pairs)]
    if idle or not pairs:
        message = (
            f"{' and '.join(idle) or 'no proof'} {'is not' if len(idle) == 1 else 'are not' if idle else 'is'} for "
            f"{', '.join(stages)}"
        )
        raise UsageError(message, hint="check stages: and expect_on: of the proofs in jar.yaml", code="no-proofs")
    end = time.monotonic() + options.patience
    results: dict[tuple[str, str], ProofResult] = {}
    while True:
        left = [
            (stage, proof)
            for stage, proof in pairs
            if not ((known := results.get((proof.name, stage.name))) and (known.holds or known.final))
        ]
        rest = max(end - time.monotonic(), 0.0) if options.patience else 0.0
        for result in await asyncio.gather(*(stage.ask(proof, rest) for stage, proof in left)):
            results[result.proof.name, result.stage] = result
        if all(result.holds or result.final for result in results.values()) or time.monotonic() + _PAUSE > end:
            return [results[proof.name, stage.name] for stage, proof in pairs]
        await asyncio.sleep(_PAUSE)


async def ask_planned(opened: OpenJar, jar: Jar, stage: str, names: Sequence[str], masker: Masker) -> list[ProofResult]:
    """Ask proofs that run a program, with the values of a planned jar; others ask what runs now, and are left out."""
    asking = _StageProofs(opened, jar, stage, masker, ConfirmOptions())
    chosen = [jar.proofs[name] for name in names]
    return [await asking.ask(proof, 0.0) for proof in chosen if proof.asker == "program" and proof.is_for(asking.chain)]


class _StageProofs:
    """The proofs of one stage."""

    def __init__(self, opened: OpenJar, jar: Jar, stage: str, masker: Masker, options: ConfirmOptions) -> None:
        self.name = stage
        self.jar = jar
        self.chain = list(
            dict.fromkeys(name for other_name in jar.chain(stage) for name in (jar.stage(other_name).name, other_name))
        )
        self.resolver: Resolver = opened.resolver(stage, jar=jar)
        self.render_context = RenderContext(jar, opened.folder, masker, opened.ring, opened.gate)
        self.masker = masker
        self.may_start = not jar.stage(stage).guarded or stage in options.allowed
        self.runs: dict[str, Data] = {}

    async def ask(self, proof: Proof, patience: float) -> ProofResult:
        """Ask one proof. The first question starts a pipeline, later ones only watch it."""
        starts = proof.asker == "run"
        try:
            if starts and not self.may_start:
                message = f"{proof.name} runs a pipeline, but {self.name} is guarded: it was not started"
                raise UsageError(message, hint=f"add --allow-guarded {self.name}", code="guarded")
            question = {key: reveal(self._text(template, proof).text or "") for key, template in proof.question.items()}
            proof_question = ProofQuestion(
                proof, question, self.name, self.resolver, self.render_context, self.runs, patience
            )
            try:
                answers = await ask(proof_question)
            except NoAnswer as silence:
                expected = proof.expected(self.chain)
                if expected is not None and expected.form == "absent" and silence.means_absent:
                    return ProofResult(
                        proof, self.name, Verdict(holds=True, actual="nothing there", expected="nothing there")
                    )
                return ProofResult(
                    proof, self.name, Verdict(holds=False, actual=str(silence), expected=self._shown(expected, proof))
                )
            return ProofResult(proof, self.name, self._judge(proof, answers), final=starts)
        except (CoinJarError, OSError) as raised:
            fault = as_fault(raised)
            if fault.location is None:
                fault.location = proof.location
            return ProofResult(proof, self.name, None, fault, final=starts)

    def _text(self, template: Template, proof: Proof) -> ReferenceValue:
        assert proof.service, "a proof without a service is refused"
        service = proof.service

        def see(reference: Reference) -> ReferenceValue:
            resolved = self.resolver.value(reference.name, reference.service or service)
            if resolved.fault:
                raise resolved.fault
            return ReferenceValue(resolved.revealed, resolved.secret)

        return expand(template, see)

    def _shown(self, expected: Expected | None, proof: Proof) -> str:
        if expected is None:
            return "as in the jar"
        if expected.form == "present" and proof.asker == "program":
            return "it succeeds"
        if expected.form in ("present", "absent", "digest"):
            return {"present": "something there", "absent": "nothing there", "digest": "a digest"}[expected.form]
        value = (
            self._text(expected.text, proof)
            if isinstance(expected.text, Template)
            else ReferenceValue(expected.text, secret=False)
        )
        return "••••" if value.secret else value.text or ""

    def _judge(self, proof: Proof, answers: ProofAnswers) -> Verdict:
        """Judge all answers (of several pods): all must hold."""
        if proof.whole_environment:
            return self._whole(proof, answers)
        expected = proof.expected(self.chain)
        assert expected, "a proof that expects nothing here is not asked"
        key = ""
        if expected.form == "digest":
            seen, keyed = self._value(str(expected.text), proof), self._value(expected.key, proof)
            text, secret, key = seen, True, keyed
        elif isinstance(expected.text, Template):
            value = self._text(expected.text, proof)
            text, secret = reveal(value.text or ""), value.secret
        else:
            text, secret = expected.text, False
        hidden = secret or (proof.variable != "" and self.render_context.is_secret(proof.variable, ""))
        verdicts = [judge(expected.form, text, candidate, secret=hidden, key=key) for candidate in answers.texts]
        found = next((verdict for verdict in verdicts if not verdict.holds), verdicts[0])
        if proof.asker == "program" and expected.form == "present" and found.holds:
            return Verdict(holds=True, actual="it succeeds", expected="it succeeds")
        if found.holds or not proof.variable or None not in answers.texts:
            return found
        return found._replace(actual=found.actual + _other_case([proof.variable], answers.environments))

    def _value(self, name: str, proof: Proof) -> str:
        resolved = self.resolver.value(name, proof.service or "")
        if resolved.fault:
            raise resolved.fault
        if resolved.text is None:
            raise UsageError(
                f"{name} has no value for {proof.service} on {self.name}",
                hint=f"`coinjar put {name} --stage {self.name}`",
                code="no-value",
            )
        return Secret(resolved.revealed or "")

    def _whole(self, proof: Proof, answers: ProofAnswers) -> Verdict:
        """Compare an environment with all variables of the service."""
        assert proof.service
        wanted = {
            name: resolved
            for name, resolved in self.resolver.resolve(proof.service).items()
            if resolved.text is not None
        }
        expected = f"{len(wanted)} variables as in the jar"
        for environment in answers.environments:
            wrong = [name for name, resolved in wanted.items() if environment.get(name) != resolved.text]
            missing = [name for name in wrong if name not in environment]
            near = _other_case(missing, [environment])
            if wrong:
                parts = [
                    f"{len(names)} {word}: {', '.join(names[:3])}{' …' if len(names) > 3 else ''}"
                    for word, names in (
                        ("missing", missing),
                        ("different", [name for name in wrong if name in environment]),
                    )
                    if names
                ]
                return Verdict(holds=False, actual="; ".join(parts) + near, expected=expected)
        return Verdict(holds=True, actual=expected, expected=expected)


def _other_case(names: Iterable[str], environments: Sequence[Mapping[str, str]]) -> str:
    """Return which of the names an environment has in another case, as the end of an answer; "" if none."""
    there = [name for environment in environments for name in environment]
    near = dict(same_but_for_case(names, there))
    return f" ({', '.join(dict.fromkeys(near.values()))} is there: names are case-sensitive)" if near else ""
