"""How far apart stages are: held against what every service really gets."""

from __future__ import annotations

import json
import tempfile
from itertools import combinations
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from coinjar.report.clusters import ordered
from tests.conftest import Coinjar

STAGES, SERVICES = ("dev", "test", "prod"), ("web", "worker", "mailer")
VARIABLES = {
    "HOST": {},
    "LEVEL": {"default": "low"},
    "ZONE": {"services": ["web", "mailer"]},
    "OWN": {"per_stage": True},
}
TEXTS = st.sampled_from(["a", "b"])
SCOPES = st.dictionaries(st.sampled_from(["all", *SERVICES]), st.dictionaries(st.sampled_from([*VARIABLES]), TEXTS))
JARS = st.fixed_dictionaries({}, optional=dict.fromkeys(STAGES, SCOPES))


def gets(name: str, service: str) -> bool:
    return service in VARIABLES[name].get("services", SERVICES)  # type: ignore[attr-defined] # a list there


@settings(max_examples=30, deadline=None)
@given(JARS)
def test_the_distance_is_the_share_of_what_services_see_differently(
    plain: dict[str, dict[str, dict[str, str]]],
) -> None:
    """By hand, from what `render` gives each service: a variable counts with the share of services that see another
    value, one of which each stage has its own counts a quarter, one that neither stage has does not count.
    """
    with tempfile.TemporaryDirectory() as folder:
        cj = Coinjar(Path(folder))
        cj.needs_consents = False
        declared = {
            "coinjar": 1,
            "app": "trial",
            "services": {name: {} for name in SERVICES},
            "stages": {name: {} for name in STAGES},
            "variables": VARIABLES,
        }
        cj.write({"jar/jar.yaml": json.dumps(declared)})
        for stage, scopes in plain.items():
            kept = {
                scope: {name: text for name, text in values.items() if scope == "all" or gets(name, scope)}
                for scope, values in scopes.items()
            }
            cj.write({f"jar/plain/{stage}.yaml": json.dumps({scope: own for scope, own in kept.items() if own})})
        env = {
            (stage, service): json.loads(cj("render", stage, "--service", service, "--as", "json").out)
            for stage in STAGES
            for service in SERVICES
        }
        found = {(row["left"], row["right"]): row for row in json.loads(cj("report", "--json").out)["distances"]}
    for left, right in combinations(STAGES, 2):
        whole = apart = 0.0
        for name in VARIABLES:
            services = [service for service in SERVICES if gets(name, service)]
            pairs = [(env[left, service].get(name), env[right, service].get(name)) for service in services]
            if all(pair == (None, None) for pair in pairs):
                continue
            weight = 0.25 if name == "OWN" else 1.0
            share = sum(one != other for one, other in pairs) / len(pairs)
            whole, apart = whole + weight, apart + weight * share
            assert found[left, right]["parts"].get(name, 0) == share
        assert found[left, right]["distance"] == (apart / whole if whole else None)


def test_secrets_count_a_quarter_and_what_is_not_known_is_left_out_and_told(demo: Coinjar) -> None:
    demo("readers", "seal")
    known = json.loads(demo("report", "--json").out)
    nobody = demo("identity", "new", "--out", "nobody.identity")
    assert nobody.code == 0
    env = {"COINJAR_IDENTITY": "", "COINJAR_IDENTITY_FILE": "nobody.identity"}
    done = demo("report", "--json", env=env)
    unknown = json.loads(done.out)
    first = unknown["distances"][0]
    assert "TICKET_DB_PASSWORD" in first["unknown"]
    assert "TICKET_DB_PASSWORD" not in first["parts"]
    assert not any("TICKET_DB_PASSWORD" in pair["unknown"] for pair in known["distances"])
    assert "not looked at: the distance by " in done.err
    weights = known["apartness"]
    pairs = [pair for pair in known["distances"] if "TICKET_DB_PASSWORD" in pair["parts"]]
    assert weights["TICKET_DB_PASSWORD"] == sum(pair["parts"]["TICKET_DB_PASSWORD"] for pair in pairs) / 4


def test_near_stages_are_side_by_side() -> None:
    from coinjar.core.distances import StageDistance

    near = {frozenset("ac"), frozenset("bd")}
    found = [
        StageDistance(left, right, 0.1 if {left, right} in near else 0.9, {}, frozenset())
        for left, right in combinations("abcd", 2)
    ]
    names = ordered("abcd", found).names
    assert {frozenset(names[:2]), frozenset(names[2:])} == near
    assert ordered(["only"], []).names == ["only"]
    assert ordered([], []).names == []
    assert sorted(ordered("ab", [StageDistance("a", "b", None, {}, frozenset())]).names) == ["a", "b"]
