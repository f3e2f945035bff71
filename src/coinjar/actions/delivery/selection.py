"""Select the destinations that a command works on."""

from __future__ import annotations

from collections.abc import Sequence

from coinjar.core.errors import UsageError
from coinjar.core.model import Destination, Jar
from coinjar.core.names import SHARED
from coinjar.destinations import is_live
from coinjar.destinations.stage_view import services_for


def is_for(jar: Jar, destination: Destination, stage: str) -> bool:
    """Return whether a destination is for a stage: it names the stage, or one that the stage follows."""
    wanted = destination.stages
    if stage == SHARED:
        return True
    return wanted is None or any(name in wanted or jar.stage(name).name in wanted for name in jar.chain(stage))


def is_named(jar: Jar, destination: Destination, stage: str) -> bool:
    """Return whether a destination names a stage or a matching pattern; without stages it is for all.

    Followed stages do not count.
    """
    return destination.stages is None or stage in destination.stages or jar.stage(stage).name in destination.stages


def staying(jar: Jar, destination: Destination, stage: str) -> Destination | None:
    """Return the destination as it applies to a stage: without the services that moved away; None if all moved."""
    if destination.moved(stage):
        return None
    gone = destination.moved_services(stage)
    if not gone:
        return destination
    left = frozenset(name for name in services_for(destination, jar) if name not in gone)
    return destination._replace(services=left) if left else None


def chosen(jar: Jar, stages: Sequence[str], names: Sequence[str], *, live: bool) -> list[tuple[str, Destination]]:
    """Return the pairs of stage and destination: the named ones, or all files, or all `live` ones.

    Raises UsageError for unknown names, and for an impossible pair.
    """
    what = "running systems" if live else "files"
    destinations = [jar.destination(name) for name in dict.fromkeys(names)] or [
        destination for destination in jar.destinations.values() if is_live(destination) is live
    ]
    for destination in destinations if live and names else ():
        moved = [stage for stage in stages if staying(jar, destination, stage) is None]
        if moved and len(moved) == len(stages):
            to = destination.moved(moved[0]) or " and ".join(dict.fromkeys(destination.moved_to.values()))
            hint = f"deliver to {to}; or remove moved_to, to go back"
            raise UsageError(
                f"{destination.name} has moved to {to} on {', '.join(moved)}",
                hint=hint,
                location=destination.location,
                code="moved",
            )
    if not destinations:
        has = "destinations" if not jar.destinations else f"destinations that are {what}"
        hint = "declare some in jar.yaml (`coinjar help formats destinations`)" + (
            "" if live else ", or write to stdout with --as DIALECT"
        )
        raise UsageError(f"the jar has no {has}", hint=hint, code="no-destinations")
    if SHARED in stages and not names:
        raise UsageError(
            "which destination?",
            hint="shared is for destinations with a place for the whole project: name one",
            code="which-destination",
        )
    pairs = [
        (stage, destination) for stage in stages for destination in destinations if is_for(jar, destination, stage)
    ]
    for destination in destinations:
        if names and not any(other.name == destination.name for _, other in pairs):
            where = ", ".join(sorted(destination.stages or ()))
            raise UsageError(
                f"the destination {destination.name} is not for {' or '.join(stages)}",
                hint=f"it is for {where}",
                code="not-for-stage",
            )
    return [
        (stage, left)
        for stage, destination in pairs
        if (left := staying(jar, destination, stage) if live else destination) is not None
    ]
