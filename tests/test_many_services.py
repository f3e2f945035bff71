"""What many services share is made once, for all of them and for all stages: each must get what it gets alone."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from coinjar.core.definition import Definition
from coinjar.core.errors import CoinJarError
from coinjar.core.layers import Resolver
from coinjar.core.model import Destination, Jar, Resolved, Service, Stage, Variable
from coinjar.core.names import ServiceName, StageName, VariableName
from coinjar.destinations.stage_view import StageView
from coinjar.dialects.base import Entry
from tests.test_resolving import HERE, SERVICES, STAGES, jars


@settings(max_examples=150)
@given(jars(), st.sampled_from(["*", "[AB]"]))
def test_a_service_gets_the_same_among_others_and_alone(jar: Jar, pattern: str) -> None:
    secret, renamed = jar.variables["C"]._replace(secret=True), jar.variables["D"]._replace(also_as=("D_TOO",))
    _compare_among_others(jar._replace(variables={**jar.variables, "C": secret, "D": renamed}), pattern)


@pytest.mark.parametrize("special", [{"secret": True}, {"also_as": ("B_TOO",)}, {"phase": "build"}, {}])
def test_what_is_special_is_written_for_many_services_as_for_one(special: dict[str, object]) -> None:
    usual, other = (
        Variable(name=VariableName(name), location=HERE, default=Definition("x", "f", 1, 1)) for name in ("A", "B")
    )
    stages = {name: Stage(name=StageName(name), location=HERE) for name in STAGES}
    variables = {"A": usual, "B": other._replace(**special)}
    _compare_among_others(Jar(app="a", location=HERE, services={}, stages=stages, variables=variables), "*")


def _compare_among_others(jar: Jar, pattern: str) -> None:
    names = [*SERVICES, "crew", "pier", "quay"]
    jar = jar._replace(services={name: Service(name=ServiceName(name), location=HERE) for name in names})
    destination = Destination(name="files", location=HERE, type="file", variables=(pattern,))
    usual: dict[Resolved, Entry] = {}
    for stage in STAGES:
        view = StageView(Resolver(jar, stage), destination, usual=usual)
        for service in names:
            alone = StageView(Resolver(jar, stage), destination)
            assert _entries(view, service) == _entries(alone, service)


def _entries(view: StageView, service: str) -> list[Entry] | list[str]:
    try:
        return view.entries(service)
    except CoinJarError as fault:
        return sorted({str(error).partition("cycle:")[0] for error in fault.each()})  # where it begins does not matter
