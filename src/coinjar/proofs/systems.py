"""`pods` and `run`: what a live destination's own running things have."""

from __future__ import annotations

from coinjar.core.errors import InputError
from coinjar.core.names import suggestion
from coinjar.destinations import make_live
from coinjar.destinations.base import StageView
from coinjar.destinations.live.base import Target
from coinjar.proofs.base import NoAnswer, ProofAnswers, ProofQuestion, of_environments, of_text


def _targets(asked: ProofQuestion, name: str) -> list[Target]:
    jar = asked.around.jar
    if name not in jar.destinations:
        hint = suggestion(name, jar.destinations, f"the destinations are {', '.join(jar.destinations)}")
        raise InputError(
            f"there is no destination '{name}'", hint=hint, place=asked.proof.place, code="unknown-destination"
        )
    made = make_live(jar.destinations[name], asked.around)
    return [
        target
        for target in made.targets(StageView(asked.resolver, jar.destinations[name]))
        if asked.proof.service in target.services
    ]


async def ask_pods(asked: ProofQuestion) -> ProofAnswers:
    """The environments of a service's running pods, as their specs and the objects that are there give them."""
    from coinjar.destinations.live.cluster import ClusterTarget

    found = []
    for target in _targets(asked, asked.text):
        if not isinstance(target, ClusterTarget):
            raise InputError(
                f"{asked.text} has no pods",
                hint="name a destination of the type cluster",
                place=asked.proof.place,
                code="proof",
            )
        try:
            found += await target.pods()
        finally:
            await target.close()
    if not found:
        raise NoAnswer("no pod of it runs")
    return of_environments(
        asked.proof, [{name: live_value.text or "" for name, live_value in pod.items()} for pod in found]
    )


async def ask_run(asked: ProofQuestion) -> ProofAnswers:
    """The log of a pipeline that is started for this once, and then watched. Raises NoAnswer while it runs or waits for approval."""
    from coinjar.destinations.live.platform import PlatformTarget
    from coinjar.destinations.live.polling import PASSED

    for target in _targets(asked, asked.question["in"]):
        if not isinstance(target, PlatformTarget):
            raise InputError(
                f"{asked.question['in']} runs no pipelines",
                hint="name a platform that does",
                place=asked.proof.place,
                code="proof",
            )
        pipeline, runs = asked.question["pipeline"], asked.runs
        try:
            if asked.proof.name not in runs:
                runs[asked.proof.name] = await target.start_run(pipeline)
            run = await target.watch_run(pipeline, runs[asked.proof.name], asked.patience)
            if run.state != PASSED:
                raise NoAnswer(f"the run is {run.state}")
            return of_text(asked.proof, run.log, last=True)
        finally:
            await target.close()
    raise NoAnswer("the destination is not for this service")
