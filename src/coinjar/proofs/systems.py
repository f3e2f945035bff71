"""`pods` and `run`: what the running programs of a live destination have."""

from __future__ import annotations

from collections.abc import Mapping

from coinjar.core.delivery import LiveValue
from coinjar.core.errors import InputError
from coinjar.core.names import suggestion
from coinjar.destinations import connected
from coinjar.destinations.capabilities import HasPipelines, HasPods
from coinjar.destinations.live.base import Target
from coinjar.destinations.stage_view import StageView
from coinjar.proofs.base import NoAnswer, ProofAnswers, ProofQuestion, of_environments, of_text


def _targets(proof_question: ProofQuestion, name: str) -> list[Target]:
    jar = proof_question.render_context.jar
    if name not in jar.destinations:
        hint = suggestion(name, jar.destinations, f"the destinations are {', '.join(jar.destinations)}")
        raise InputError(
            f"there is no destination '{name}'",
            hint=hint,
            location=proof_question.proof.location,
            code="unknown-destination",
        )
    instance = connected(jar.destinations[name], proof_question.render_context)
    return [
        target
        for target in instance.targets(StageView(proof_question.resolver, jar.destinations[name]))
        if proof_question.proof.service in target.services
    ]


async def ask_pods(proof_question: ProofQuestion) -> ProofAnswers:
    """Return the environments of a service's running pods, from their specs and the existing objects."""
    result: list[Mapping[str, LiveValue]] = []
    for target in _targets(proof_question, proof_question.text):
        if not isinstance(target, HasPods):
            raise InputError(
                f"{proof_question.text} has no pods",
                hint="name a destination of the type cluster",
                location=proof_question.proof.location,
                code="proof",
            )
        async with target:
            result += await target.pods()
    if not result:
        raise NoAnswer("it has no running pods")
    return of_environments(
        proof_question.proof, [{name: live_value.text or "" for name, live_value in pod.items()} for pod in result]
    )


async def ask_run(proof_question: ProofQuestion) -> ProofAnswers:
    """Return the log of a pipeline that is started once, and then watched.

    Raises NoAnswer while it runs or waits for approval.
    """
    from coinjar.destinations.live.polling import PASSED

    for target in _targets(proof_question, proof_question.question["in"]):
        if not isinstance(target, HasPipelines):
            raise InputError(
                f"{proof_question.question['in']} has no pipelines",
                hint="name a platform that has pipelines",
                location=proof_question.proof.location,
                code="proof",
            )
        pipeline, runs = proof_question.question["pipeline"], proof_question.runs
        async with target:
            if proof_question.proof.name not in runs:
                runs[proof_question.proof.name] = await target.runs.start_run(pipeline)
            run = await target.runs.watch_run(pipeline, runs[proof_question.proof.name], proof_question.patience)
            if run.state != PASSED:
                raise NoAnswer(f"the run is {run.state}")
            return of_text(proof_question.proof, run.log, last=True)
    raise NoAnswer("the destination is not for this service")
