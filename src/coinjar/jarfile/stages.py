"""Read `stages:` of jar.yaml."""

from __future__ import annotations

from yaml.nodes import Node

from coinjar.core.model import Jar, Stage
from coinjar.core.names import StageName, suggestion
from coinjar.documents.field_reader import FieldReader
from coinjar.documents.yamltext import is_null, location
from coinjar.jarfile.sections import former_names, named, refuse_taken, services_of

STAGE_KEYS = ("about", "follows", "guarded", "hosts", "formerly")


def read_stages(fields: FieldReader, node: Node | None, jar: Jar) -> dict[str, Stage]:
    """Return the stages by name."""
    stages: dict[str, Stage] = {}
    followed: dict[str, Node] = {}
    for name, key, value in named(fields, node, "stage", "stages"):
        own = {} if is_null(value) else fields.fields(value, f"stage '{name}'", STAGE_KEYS)
        follows = fields.text(own.get("follows"), "follows") or None
        if "follows" in own:
            followed[name] = own["follows"]
        hosts = {
            host: frozenset(services_of(fields, members, f"host '{host}'", jar))
            for host, _, members in (fields.members(own["hosts"], "'hosts'") if "hosts" in own else ())
        }
        guarded, about = fields.flag(own.get("guarded"), "guarded"), fields.text(own.get("about"), "about")
        stages[name] = Stage(
            name=StageName(name),
            location=location(key, fields.file),
            follows=StageName(follows) if follows else None,
            guarded=guarded,
            about=about,
            hosts=hosts,
            formerly=former_names(fields, own.get("formerly"), "stage", name),
        )
    refuse_taken(fields, "stage", {name: stage.formerly for name, stage in stages.items()}, node)
    for name, at in followed.items():
        stage = stages[name]
        target = stage.follows
        if target and (target not in stages or "*" in target):
            fields.fault(
                at,
                f"there is no stage '{target}' to follow",
                suggestion(target, [stage for stage in stages if "*" not in stage], "follow a declared stage"),
            )
            stages[name] = stage._replace(follows=None)
    _refuse_circles(fields, stages, followed)
    return stages


def _refuse_circles(fields: FieldReader, stages: dict[str, Stage], followed: dict[str, Node]) -> None:
    messages: set[str] = set()
    for start, at in followed.items():
        path = [start]
        while (target := stages[path[-1]].follows) and target not in path:
            path.append(target)
        if target == start and start not in messages:
            messages.update(path)
            fields.fault(
                at,
                f"stages follow each other in a cycle: {' → '.join([*path, start])}",
                "remove `follows` from one of them",
                "circle",
            )
