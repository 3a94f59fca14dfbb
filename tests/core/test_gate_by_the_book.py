"""The gate's decision is what the domain's rules say, written out without its machinery; and a
replay is deciding each arrival anew.
"""

from __future__ import annotations

import json
from datetime import date
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.gate import (
    Arrival,
    Gate,
    Holding,
    Listing,
    Pass,
    PlatformRule,
    Policy,
    Quota,
    VersionBounds,
    decide,
    replay,
    starting_gate,
)
from sortitor.core.vocabulary import (
    Activation,
    Listed,
    Outcome,
    Ownership,
    Platform,
    Returning,
    Stage,
)

BASE = starting_gate().policies[0]
GROUPS = ("Crew", "Office", "Guests")
PEOPLE = ("maud", "odo")
PLATFORMS = [Platform.ANDROID, Platform.IOS]
versions = st.none() | st.sampled_from(["9", "10", "10.0.1", "13", "13.1", "14"])
bounds = st.builds(
    VersionBounds,
    oldest=versions,
    newest=st.none() | st.sampled_from(["12", "13", "13.0", "15"]),
)
ownerships = st.lists(st.sampled_from(list(Ownership)), max_size=3, unique=True).map(tuple)
listings = st.builds(
    Listing,
    listed=st.sampled_from(list(Listed)),
    names=st.sampled_from([("Kelmar",), ("KEL-MAR", "Tavik")]),
)
quota = st.builds(Quota, devices=st.integers(1, 4), ownerships=st.none() | ownerships)
common = {
    "ownerships": st.none() | ownerships,
    "declared_only": st.none() | st.booleans(),
    "quota": st.none() | quota,
    "returning": st.none() | st.sampled_from(list(Returning)),
}
rules = st.builds(
    PlatformRule,
    open=st.none() | st.booleans(),
    versions=st.none() | bounds,
    makers=st.none() | listings,
    models=st.none() | listings,
    **common,
)
policies = st.builds(
    Policy,
    name=st.sampled_from(["A", "B", "C"]),
    groups=st.none() | st.lists(st.sampled_from(GROUPS), max_size=2).map(tuple),
    people=st.none() | st.lists(st.sampled_from(PEOPLE), max_size=1).map(tuple),
    devices=st.none()
    | st.sampled_from(['tags eq "gangway"', 'site sw "d" or purchasedOn ge "2025-01-01"']),
    platforms=st.dictionaries(st.sampled_from(PLATFORMS), rules, max_size=2),
    **common,
)
baselines = st.builds(
    lambda rule, ownerships: BASE.model_copy(
        update={
            "ownerships": ownerships,
            "platforms": {
                **BASE.platforms,
                Platform.ANDROID: rule.model_copy(update={"open": rule.open is not False}),
            },
        }
    ),
    rules,
    ownerships,
)
gates = st.builds(
    lambda some, base: Gate(policies=(*some, base)), st.lists(policies, max_size=3), baselines
)
known = st.none() | st.fixed_dictionaries(
    {},
    optional={
        "tags": st.sampled_from([["gangway"], ["Deck", "GANGWAY"], ["deck"]]),
        "site": st.sampled_from(["Dunlin", "Petrel"]),
        "purchasedOn": st.sampled_from([date(2024, 12, 31), date(2025, 1, 1)]),
    },
)
holdings = st.dictionaries(
    st.tuples(st.sampled_from(PLATFORMS), st.sampled_from(list(Ownership))),
    st.integers(1, 3),
    max_size=3,
).map(Holding)
arrivals = st.builds(
    Arrival,
    platform=st.sampled_from(PLATFORMS),
    os_version=versions,
    ownership=st.sampled_from(list(Ownership)),
    declared=st.booleans(),
    person=st.none() | st.sampled_from(PEOPLE),
    groups=st.frozensets(st.sampled_from(GROUPS)),
    holding=holdings,
    maker=st.none() | st.sampled_from(["kelmar", "Ondry"]),
    model=st.none() | st.sampled_from(["TAVIK", "Mate 3"]),
    known=known,
    stage=st.none() | st.sampled_from([Stage.AWAITED, Stage.RETIRED]),
    flag=st.none() | st.just("stolen"),
    signin_failed=st.booleans(),
    in_use=st.booleans(),
    shown=st.builds(
        Pass,
        st.none() | st.sampled_from(["pass_unknown", "pass_expired", "pass_spent"]),
        st.sampled_from(list(Activation)),
    ),
)


def holds(policy: Policy, arrival: Arrival) -> bool:
    if policy.groups is None and policy.people is None and policy.devices is None:
        return True
    if set(policy.groups or ()) & arrival.groups or arrival.person in (policy.people or ()):
        return True
    if policy.devices is None or arrival.known is None:
        return False
    there = arrival.known
    if "tags" in policy.devices:
        return "gangway" in [tag.lower() for tag in there.get("tags", [])]
    site, bought = there.get("site", ""), there.get("purchasedOn", date.min)
    return site.lower().startswith("d") or bought >= date(2025, 1, 1)


def word(audience: list[Policy], platform: Platform, field: str) -> Any:
    """The first word on a facet, the platform's own before the general one of the same policy."""
    for policy in audience:
        rule = policy.platforms.get(platform)
        if rule is not None and getattr(rule, field) is not None:
            return getattr(rule, field)
        if getattr(policy, field, None) is not None:
            return getattr(policy, field)
    return None


def numbers(version: str, count: int) -> list[int]:
    parts = [int(part) for part in version.split(".")]
    return (parts + [0] * count)[:count]


def outside(version: str | None, bound: str | None, sign: int) -> bool:
    """Whether a version is below (-1) or above (1) a bound, over the components it states."""
    if bound is None:
        return False
    if version is None:
        return True
    count = bound.count(".") + 1
    there, wanted = numbers(version, count), numbers(bound, count)
    return there < wanted if sign < 0 else there > wanted


def denied(listing: Listing | None, name: str | None) -> bool:
    if listing is None:
        return False
    names = {one.lower().replace("-", "").replace(" ", "") for one in listing.names}
    there = (name or "").lower().replace(" ", "") in names
    return there == (listing.listed is Listed.ALL_BUT)


def over(arrival: Arrival, quota: Quota | None, platform: Platform | None) -> bool:
    if quota is None or arrival.person is None:
        return False
    if quota.ownerships is not None and arrival.ownership not in quota.ownerships:
        return False
    total = 0
    for (whose, ownership), number in arrival.holding.counts.items():
        if platform is not None and whose is not platform:
            continue
        if quota.ownerships is None or ownership in quota.ownerships:
            total += number
    return total >= quota.devices


def by_the_book(arrival: Arrival, gate: Gate) -> list[str]:
    """The reasons, facet by facet, as the domain says them."""
    audience = [policy for policy in gate.policies if holds(policy, arrival)]
    platform = arrival.platform
    assert platform is not None
    limits = word(audience, platform, "versions") or VersionBounds()
    whole = next((p.quota for p in audience if p.quota is not None), None)
    rules = [p.platforms[platform] for p in audience if platform in p.platforms]
    own = next((rule.quota for rule in rules if rule.quota is not None), None)
    back = arrival.stage is Stage.RETIRED
    found = {
        "signin_failed": arrival.signin_failed,
        "flagged": arrival.flag is not None,
        "in_use": arrival.in_use,
        "platform_closed": not word(audience, platform, "open"),
        "os_too_old": outside(arrival.os_version, limits.oldest, -1),
        "os_too_new": outside(arrival.os_version, limits.newest, 1),
        "maker_denied": denied(word(audience, platform, "makers"), arrival.maker),
        "model_denied": denied(word(audience, platform, "models"), arrival.model),
        "ownership_denied": arrival.ownership not in word(audience, platform, "ownerships"),
        "undeclared": word(audience, platform, "declared_only") and not arrival.declared,
        "returning": back and word(audience, platform, "returning") is not Returning.READMIT,
    }
    codes = [code for code, holds_so in found.items() if holds_so]
    codes += ["quota_reached"] * (over(arrival, whole, None) + over(arrival, own, platform))
    return sorted(codes + ([arrival.shown.trouble] if arrival.shown.trouble else []))


@given(arrivals, gates)
def test_the_gate_decides_by_the_book(arrival: Arrival, gate: Gate) -> None:
    decision = decide(arrival, gate)
    expected = by_the_book(arrival, gate)
    assert sorted(reason.code for reason in decision.reasons) == expected
    assert sum(not step.passed for step in decision.trace) == len(expected), "the trace shows all"
    audience = [policy for policy in gate.policies if holds(policy, arrival)]
    assert arrival.platform is not None
    waits = {"in_use"}
    if word(audience, arrival.platform, "returning") is Returning.PARK:
        waits.add("returning")
    if set(expected) - waits:
        assert decision.outcome is Outcome.REFUSED
    elif expected:
        assert decision.outcome is Outcome.PARKED
    else:
        asks = arrival.shown.activation
        at_once = asks is Activation.SHARED or (asks is Activation.PERSON and arrival.person)
        assert decision.outcome is (Outcome.ADMITTED if at_once else Outcome.PARKED)


@given(arrivals, gates)
def test_an_arrival_that_was_kept_is_decided_as_it_was(arrival: Arrival, gate: Gate) -> None:
    kept = json.loads(json.dumps(replay.kept(arrival), default=str))
    assert decide(replay.remembered(kept), gate) == decide(arrival, gate)


@given(gates, arrivals)
def test_one_line_of_a_device_says_what_the_whole_gate_says(gate: Gate, arrival: Arrival) -> None:
    """What the gate speaks of is all that a kind needs to know."""
    spoken = replay.spoken_of(gate)
    facts: dict[str, Any] = {}
    for policy in gate.policies:
        audience = spoken.of(policy)
        if audience is not None:
            names = {name.casefold() for name in arrival.groups}
            facts[audience.label] = bool(names & audience.groups) or (
                arrival.person in audience.people
            )
            facts[f"{audience.label}_fits"] = policy.devices is not None and holds(
                policy.model_copy(update={"groups": (), "people": ()}), arrival
            )
    assert [one.name for one in replay.audience(gate, spoken, facts)] == [
        policy.name for policy in gate.policies if holds(policy, arrival)
    ]
