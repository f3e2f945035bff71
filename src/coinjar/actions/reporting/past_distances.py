"""How far apart stages were at earlier revisions of the jar."""

from __future__ import annotations

from collections.abc import Sequence

from coinjar.actions.open_jar import OpenJar
from coinjar.actions.reporting.contents import PastDistances
from coinjar.core.display import visible
from coinjar.core.distances import distances, view_of
from coinjar.core.errors import CoinJarError
from coinjar.core.layers import Resolver
from coinjar.core.model import Jar
from coinjar.jarfile.revision import RevisionKeyRing, load_revision
from coinjar.system.revisions import Commit, RevisionFiles

_MOST_PAIRS = 8


def past_distances(opened: OpenJar, commits: Sequence[Commit], most: int, unseen: list[str]) -> list[PastDistances]:
    """Return the distances at revisions that are spread evenly, at most `most`, the newest included, oldest first.

    Values from commands and files are not read: they are left out. Revisions that cannot be read are added to
    `unseen`. A stage that was renamed since is followed under its present name.
    """
    files = RevisionFiles(opened.folder)
    present = opened.load([])
    result = []
    for commit in _spread(commits, most):
        label = commit.name[:7]
        found = files.at(commit.name)
        if not found:
            continue
        try:
            jar = load_revision(found, label, RevisionKeyRing(opened.folder, opened.identity, found))
        except CoinJarError as fault:
            unseen.append(f"the jar at {label}: {fault.each()[0].message}")
            continue
        now_called = {old: stage.name for stage in present.stages.values() for old in stage.formerly}
        views = {
            now_called.get(name, name): view_of(Resolver(jar, name)) for name in jar.stage_names() if "*" not in name
        }
        pairs = [pair for pair in compared_pairs(present) if pair[0] in views and pair[1] in views]
        measured = {
            (pair.left, pair.right): pair.distance
            for pair in distances(views, jar.variables, pairs)
            if pair.distance is not None
        }
        result.append(PastDistances(label, commit.when, visible(commit.subject), measured))
    return result


def _spread(commits: Sequence[Commit], most: int) -> list[Commit]:
    """Return at most so many, evenly, the first and the last included."""
    if len(commits) <= most:
        return list(commits)
    if most == 1:
        return [commits[-1]]
    step = (len(commits) - 1) / (most - 1)
    return [commits[round(number * step)] for number in range(most)]


def compared_pairs(jar: Jar) -> list[tuple[str, str]]:
    """Return the pairs that are worth following over time: every stage with each guarded one, or with the last where
    none is guarded; one that follows the other is its variant, and comes last.
    """
    names = [name for name in jar.stages if "*" not in name]
    aims = [name for name in names if jar.stages[name].guarded] or names[-1:]
    pairs = [(name, aim) for aim in aims for name in names if name != aim and not (name in aims and name > aim)]
    return sorted(pairs, key=lambda pair: pair[1] in jar.chain(pair[0]) or pair[0] in jar.chain(pair[1]))[:_MOST_PAIRS]
