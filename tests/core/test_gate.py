"""The gate: every facet, every reason, in order of the policies."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.errors import BadInput
from sortitor.core.gate import (
    REASON_CODES,
    Arrival,
    Gate,
    Pass,
    PlatformRule,
    Policy,
    decide,
    starting_gate,
)
from sortitor.core.vocabulary import Activation, Outcome, Ownership, Platform, Returning, Stage

BASE = starting_gate().policies[0]
ALLOWED = Arrival(Platform.ANDROID, "14", Ownership.CORPORATE, True, "maud", frozenset({"Crew"}), 0)


def codes(arrival: Arrival, *policies: Policy) -> list[str]:
    return [reason.code for reason in decide(arrival, Gate(policies=policies or (BASE,))).reasons]


def baseline(**facets: object) -> Policy:
    return BASE.model_copy(update=facets)


CASES = {
    "platform_closed": (
        ALLOWED,
        baseline(platforms={**BASE.platforms, Platform.ANDROID: PlatformRule(open=False)}),
    ),
    "os_too_old": (
        ALLOWED,
        baseline(platforms={**BASE.platforms, Platform.ANDROID: PlatformRule(os_min="14.1")}),
    ),
    "os_too_new": (
        ALLOWED,
        baseline(platforms={**BASE.platforms, Platform.ANDROID: PlatformRule(os_max="13")}),
    ),
    "ownership_denied": (ALLOWED, baseline(ownerships=(Ownership.PARTNER,))),
    "undeclared": (replace(ALLOWED, declared=False), baseline(declared_only=True)),
    "quota_reached": (replace(ALLOWED, holding=5), BASE),
    "signin_failed": (replace(ALLOWED, signin_failed=True), BASE),
    "pass_unknown": (replace(ALLOWED, shown=Pass("pass_unknown")), BASE),
    "pass_expired": (replace(ALLOWED, shown=Pass("pass_expired")), BASE),
    "pass_spent": (replace(ALLOWED, shown=Pass("pass_spent")), BASE),
    "returning": (replace(ALLOWED, stage=Stage.RETIRED), baseline(returning=Returning.REFUSE)),
    "flagged": (replace(ALLOWED, flag="stolen"), BASE),
    "in_use": (replace(ALLOWED, in_use=True), BASE),
}
#: Reasons for which a device waits rather than being refused.
PARKING = {"in_use"}


@pytest.mark.parametrize("code", REASON_CODES)
def test_each_reason_refuses_alone_and_says_what_to_do(code: str) -> None:
    arrival, policy = CASES[code]
    decision = decide(arrival, Gate(policies=(policy,)))
    assert decision.outcome is (Outcome.PARKED if code in PARKING else Outcome.REFUSED)
    [reason] = decision.reasons
    assert reason.code == code
    assert reason.remedy
    assert reason.sentence
    assert policy.name not in reason.sentence, "the person's sentence gives nothing away"
    assert reason.explanation[0].isupper()
    assert reason.explanation.endswith("."), "the coordinator reads a whole sentence"
    assert any(not step.passed for step in decision.trace)


def test_a_reason_says_what_the_policy_lets_in_and_what_was_there() -> None:
    old = baseline(platforms={**BASE.platforms, Platform.ANDROID: PlatformRule(os_min="12")})
    decision = decide(replace(ALLOWED, os_version="9"), Gate(policies=(old,)))
    assert [reason.explanation for reason in decision.reasons] == [
        "Baseline lets in Android 12 or later; this one has 9."
    ]


def test_a_device_of_unknown_platform_meets_no_platforms_rule() -> None:
    closed = {platform: PlatformRule(open=False, os_min="99") for platform in Platform}
    unknown = replace(ALLOWED, platform=None, os_version=None)
    assert codes(unknown, baseline(platforms=closed)) == []
    assert codes(replace(unknown, holding=5), baseline(platforms=closed)) == ["quota_reached"]


def test_every_reason_is_found_not_only_the_first() -> None:
    arrival = replace(ALLOWED, holding=9, flag="missing", os_version="8")
    policy = baseline(
        platforms={**BASE.platforms, Platform.ANDROID: PlatformRule(open=False, os_min="10")},
        ownerships=(),
    )
    assert codes(arrival, policy) == [
        "flagged",
        "platform_closed",
        "os_too_old",
        "ownership_denied",
        "quota_reached",
    ]


def test_a_facet_comes_from_the_first_policy_that_holds_the_person_and_states_it() -> None:
    crew = Policy(
        name="Crew",
        groups=("Crew",),
        platforms={Platform.ANDROID: PlatformRule(os_min="15")},
        quota=2,
    )
    office = Policy(name="Office", groups=("Office",), quota=1)
    gate = Gate(policies=(office, crew, BASE))
    decision = decide(ALLOWED, gate)
    assert [(r.code, r.policy) for r in decision.reasons] == [("os_too_old", "Crew")]
    assert gate.quota_for(frozenset({"Office", "Crew"})) == (1, "Office")
    assert gate.quota_for(frozenset()) == (5, "Baseline")


@pytest.mark.parametrize(
    ("activation", "person", "outcome"),
    [
        (Activation.PERSON, "maud", Outcome.ADMITTED),
        (Activation.PERSON, None, Outcome.PARKED),
        (Activation.COORDINATOR, "maud", Outcome.PARKED),
        (Activation.SHARED, None, Outcome.ADMITTED),
    ],
)
def test_admitted_or_parked(activation: Activation, person: str | None, outcome: Outcome) -> None:
    assert (
        decide(
            replace(ALLOWED, person=person, shown=Pass(None, activation)), Gate(policies=(BASE,))
        ).outcome
        is outcome
    )


@pytest.mark.parametrize(
    ("rule", "outcome"),
    [
        (Returning.READMIT, Outcome.ADMITTED),
        (Returning.PARK, Outcome.PARKED),
        (Returning.REFUSE, Outcome.REFUSED),
    ],
)
def test_a_retired_device_that_knocks(rule: Returning, outcome: Outcome) -> None:
    assert (
        decide(
            replace(ALLOWED, stage=Stage.RETIRED), Gate(policies=(baseline(returning=rule),))
        ).outcome
        is outcome
    )


def test_a_version_that_is_not_stated_does_not_pass_a_bound() -> None:
    policy = baseline(
        platforms={**BASE.platforms, Platform.ANDROID: PlatformRule(os_min="1", os_max="99")}
    )
    assert codes(replace(ALLOWED, os_version=None), policy) == ["os_too_old", "os_too_new"]


@given(st.integers(0, 60), st.integers(1, 50))
def test_the_quota_is_reached_exactly_at_its_number(holding: int, quota: int) -> None:
    assert ("quota_reached" in codes(replace(ALLOWED, holding=holding), baseline(quota=quota))) == (
        holding >= quota
    )


@pytest.mark.parametrize(
    ("policies", "code"),
    [
        ([], "no_baseline"),
        ([baseline(quota=0)], "quota_bounds"),
        ([baseline(quota=-3)], "quota_bounds"),
        ([baseline(quota=51)], "quota_bounds"),
        (
            [baseline(platforms={**BASE.platforms, Platform.IOS: PlatformRule(os_min="x")})],
            "bad_version",
        ),
        (
            [
                baseline(
                    platforms={
                        **BASE.platforms,
                        Platform.IOS: PlatformRule(os_min="15", os_max="14"),
                    }
                )
            ],
            "bounds_crossed",
        ),
        ([Policy(name="baseline"), BASE], "name_taken"),
        ([baseline(quota=None)], "baseline_open"),
        ([baseline(groups=("Crew",))], "baseline_audience"),
    ],
)
def test_a_policy_that_cannot_be(policies: list[Policy], code: str) -> None:
    with pytest.raises(BadInput) as caught:
        Gate(policies=tuple(policies)).check()
    assert code in [problem.code for problem in caught.value.problems]


GROUPS = ("Crew", "Office", "Guests")
versions_of_systems = st.none() | st.sampled_from(["9", "10", "10.0.1", "13", "13.1", "14"])
rules = st.builds(
    PlatformRule,
    open=st.booleans(),
    os_min=versions_of_systems,
    os_max=st.none() | st.sampled_from(["12", "13", "13.0", "15"]),
)
stated = st.builds(
    Policy,
    name=st.sampled_from(["A", "B", "C"]),
    groups=st.none() | st.lists(st.sampled_from(GROUPS), min_size=1, max_size=2).map(tuple),
    platforms=st.dictionaries(st.sampled_from(list(Platform)), rules, max_size=2),
    ownerships=st.none() | st.lists(st.sampled_from(list(Ownership)), max_size=3).map(tuple),
    quota=st.none() | st.integers(1, 6),
    declared_only=st.none() | st.booleans(),
    returning=st.none() | st.sampled_from(list(Returning)),
)
arrivals = st.builds(
    Arrival,
    st.sampled_from(list(Platform)),
    versions_of_systems,
    st.sampled_from(list(Ownership)),
    st.booleans(),
    st.none() | st.just("maud"),
    st.frozensets(st.sampled_from(GROUPS)),
    st.integers(0, 8),
    st.none() | st.sampled_from([Stage.AWAITED, Stage.RETIRED]),
    st.none() | st.just("stolen"),
    st.booleans(),
    st.booleans(),
    st.builds(
        Pass,
        st.none() | st.sampled_from(["pass_unknown", "pass_expired", "pass_spent"]),
        st.sampled_from(list(Activation)),
    ),
)


def numbers_of(version: str, count: int) -> list[int]:
    parts = [int(part) for part in version.split(".")]
    return (parts + [0] * count)[:count]


def by_the_book(arrival: Arrival, policies: list[Policy]) -> set[str]:
    """The reasons, facet by facet, as the domain's rules say them and without the machinery."""
    audience = [p for p in policies if p.groups is None or set(p.groups) & arrival.groups]
    reasons = {arrival.shown.trouble} if arrival.shown.trouble else set()
    reasons |= {
        code
        for code, held in (
            ("signin_failed", arrival.signin_failed),
            ("flagged", arrival.flag is not None),
            ("in_use", arrival.in_use),
        )
        if held
    }
    rule = next(p.platforms[arrival.platform] for p in audience if arrival.platform in p.platforms)
    if not rule.open:
        reasons.add("platform_closed")
    if rule.os_min and (
        arrival.os_version is None
        or numbers_of(arrival.os_version, rule.os_min.count(".") + 1)
        < numbers_of(rule.os_min, rule.os_min.count(".") + 1)
    ):
        reasons.add("os_too_old")
    if rule.os_max and (
        arrival.os_version is None
        or numbers_of(arrival.os_version, rule.os_max.count(".") + 1)
        > numbers_of(rule.os_max, rule.os_max.count(".") + 1)
    ):
        reasons.add("os_too_new")
    if arrival.ownership not in next(p.ownerships for p in audience if p.ownerships is not None):
        reasons.add("ownership_denied")
    if (
        next(p.declared_only for p in audience if p.declared_only is not None)
        and not arrival.declared
    ):
        reasons.add("undeclared")
    if arrival.person and arrival.holding >= next(p.quota for p in audience if p.quota is not None):
        reasons.add("quota_reached")
    if (
        arrival.stage is Stage.RETIRED
        and next(p.returning for p in audience if p.returning is not None) is not Returning.READMIT
    ):
        reasons.add("returning")
    return reasons


@given(arrivals, st.lists(stated, max_size=3))
def test_the_gate_decides_by_the_book(arrival: Arrival, policies: list[Policy]) -> None:
    decision = decide(arrival, Gate(policies=(*policies, BASE)))
    expected = by_the_book(arrival, [*policies, BASE])
    assert {reason.code for reason in decision.reasons} == expected
    assert len(decision.reasons) == len(expected), "each once"
    assert sum(not step.passed for step in decision.trace) == len(expected), (
        "the trace shows every one"
    )
    parked = (
        next(
            (
                p.returning
                for p in [*policies, BASE]
                if p.holds(arrival.groups) and p.returning is not None
            ),
            None,
        )
        is Returning.PARK
    )
    if expected - ({"returning"} if parked else set()):
        assert decision.outcome is Outcome.REFUSED
    else:
        assert decision.outcome in (Outcome.ADMITTED, Outcome.PARKED)
        assert (decision.outcome is Outcome.ADMITTED) <= (not expected)
