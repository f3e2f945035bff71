"""What the runner of a document does not take as it is meant, and its jobs that name no stage."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from coinjar.core.diagnostics import Diagnostic
from coinjar.core.display import Masker
from coinjar.core.layers import Resolver
from coinjar.core.names import SHARED
from coinjar.core.secret import reveal
from coinjar.destinations.base import RenderNotice
from coinjar.destinations.open_document import OpenDocument
from coinjar.runners.description import RunnerDescription, StagelessJob, departures, stageless_jobs, walk

_WORD = re.compile(r"[A-Za-z_]\w*")


class RunnerContext(NamedTuple):
    """A document and what runs it, as a stage sees them."""

    document: OpenDocument
    runner: RunnerDescription
    resolver: Resolver
    services: Sequence[str]
    masker: Masker


def notices(context: RunnerContext) -> Iterator[RenderNotice]:
    """Yield the findings on a document."""
    document, runner = context.document, context.runner
    if document.root is None:
        return
    for departure in departures(document.root, runner):
        where = document.location(departure.node)
        yield RenderNotice("CJ046", Diagnostic(departure.message, departure.fix, where))
    for job in stageless_jobs(document.root, runner):
        yield from _without_a_stage(context, job)


def _without_a_stage(context: RunnerContext, job: StagelessJob) -> Iterator[RenderNotice]:
    """Yield the variables that a job uses and that the stage sets otherwise than the whole project."""
    document, runner, resolver = context.document, context.runner, context.resolver
    jar, stage = resolver.jar, resolver.stage
    shared = Resolver(jar, SHARED, fetch=resolver.fetch)
    own = _set_around(document, job, runner)
    used = {word for _, node in walk(job.node) for word in _WORD.findall(node.text) if word not in own}
    for name in [name for name in jar.variables if name in used]:
        services = [service for service in context.services if resolver.applies(jar.variables[name], service)]
        if not services:
            continue
        wide, here = shared.value(name, services[0]), resolver.value(name, services[0])
        if wide.fault or here.fault or here.text is None or reveal(wide.text or "") == reveal(here.text):
            continue
        secret = wide.secret or here.secret
        said = "nothing" if wide.text is None else context.masker.show(wide.text, secret=secret)
        message = (
            f"the job {job.label} names no stage, so it gets the whole project's {name} ({said}), not {stage}'s "
            f"({context.masker.show(here.text, secret=secret)})"
        )
        fix = f"add {runner.stage}: {stage} to the job, or accept it if that is meant"
        yield RenderNotice("CJ045", Diagnostic(message, fix, document.location(job.node), name, stage))


def _set_around(document: OpenDocument, job: StagelessJob, runner: RunnerDescription) -> set[str]:
    """Return the names that the document itself sets for a job: at the job, above it and inside it."""
    assert document.root
    names: set[str] = set()
    for steps, node in walk(document.root):
        around = steps[:-1]
        if steps and steps[-1] in runner.environments and (around == job.steps[: len(around)] or _below(around, job)):
            names |= {member.name for member in node.plain.members}
    return names


def _below(steps: tuple[str, ...], job: StagelessJob) -> bool:
    return steps[: len(job.steps)] == job.steps
