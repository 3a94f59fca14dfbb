"""The gate: every facet, every reason, in order of the policies."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.errors import BadInput
from sortitor.core.gate import (
    REASON_CODES,
    Arrival,
    Pass,
    PlatformRule,
    Policy,
    check_policies,
    decide,
    quota_for,
    starting_gate,
)
from sortitor.core.vocabulary import Activation, Outcome, Ownership, Platform, Returning, Stage

BASE = starting_gate()[0]
ALLOWED = Arrival(Platform.ANDROID, "14", Ownership.CORPORATE, True, "maud", frozenset({"Crew"}), 0)


def codes(arrival: Arrival, *policies: Policy) -> list[str]:
    return [reason.code for reason in decide(arrival, policies or (BASE,)).reasons]


def baseline(**facets: object) -> Policy:
    return replace(BASE, **facets)  # type: ignore[arg-type]


CASES = {
    "platform_closed": (ALLOWED, baseline(platforms={**BASE.platforms, Platform.ANDROID: PlatformRule(False)})),
    "os_too_old": (ALLOWED, baseline(platforms={**BASE.platforms, Platform.ANDROID: PlatformRule(True, "14.1")})),
    "os_too_new": (ALLOWED, baseline(platforms={**BASE.platforms, Platform.ANDROID: PlatformRule(True, None, "13")})),
    "ownership_denied": (ALLOWED, baseline(ownerships=(Ownership.PARTNER,))),
    "undeclared": (replace(ALLOWED, declared=False), baseline(declared_only=True)),
    "quota_reached": (replace(ALLOWED, holding=5), BASE),
    "signin_failed": (replace(ALLOWED, signin_failed=True), BASE),
    "pass_unknown": (replace(ALLOWED, shown=Pass("pass_unknown")), BASE),
    "pass_expired": (replace(ALLOWED, shown=Pass("pass_expired")), BASE),
    "pass_spent": (replace(ALLOWED, shown=Pass("pass_spent")), BASE),
    "returning": (replace(ALLOWED, stage=Stage.RETIRED), baseline(returning=Returning.REFUSE)),
    "flagged": (replace(ALLOWED, flag="stolen"), BASE),
}


@pytest.mark.parametrize("code", REASON_CODES)
def test_each_reason_refuses_alone_and_says_what_to_do(code: str) -> None:
    arrival, policy = CASES[code]
    decision = decide(arrival, [policy])
    assert decision.outcome is Outcome.REFUSED
    [reason] = decision.reasons
    assert reason.code == code
    assert reason.remedy
    assert reason.sentence
    assert policy.name not in reason.sentence, "the person's sentence gives nothing away"
    assert any(not step.passed for step in decision.trace)


def test_every_reason_is_found_not_only_the_first() -> None:
    arrival = replace(ALLOWED, holding=9, flag="missing", os_version="8")
    policy = baseline(platforms={**BASE.platforms, Platform.ANDROID: PlatformRule(False, "10")}, ownerships=())
    assert codes(arrival, policy) == ["flagged", "platform_closed", "os_too_old", "ownership_denied", "quota_reached"]


def test_a_facet_comes_from_the_first_policy_that_holds_the_person_and_states_it() -> None:
    crew = Policy("Crew", ("Crew",), {Platform.ANDROID: PlatformRule(True, "15")}, quota=2)
    office = Policy("Office", ("Office",), {}, quota=1)
    decision = decide(ALLOWED, [office, crew, BASE])
    assert [(r.code, r.policy) for r in decision.reasons] == [("os_too_old", "Crew")]
    assert quota_for(frozenset({"Office", "Crew"}), [office, crew, BASE]) == (1, "Office")
    assert quota_for(frozenset(), [office, crew, BASE]) == (5, "Baseline")


@pytest.mark.parametrize(
    ("activation", "person", "outcome"),
    [(Activation.PERSON, "maud", Outcome.ADMITTED), (Activation.PERSON, None, Outcome.PARKED), (Activation.COORDINATOR, "maud", Outcome.PARKED), (Activation.SHARED, None, Outcome.ADMITTED)],
)  # fmt: skip
def test_admitted_or_parked(activation: Activation, person: str | None, outcome: Outcome) -> None:
    assert decide(replace(ALLOWED, person=person, shown=Pass(None, activation)), [BASE]).outcome is outcome


@pytest.mark.parametrize(("rule", "outcome"), [(Returning.READMIT, Outcome.ADMITTED), (Returning.PARK, Outcome.PARKED), (Returning.REFUSE, Outcome.REFUSED)])
def test_a_retired_device_that_knocks(rule: Returning, outcome: Outcome) -> None:
    assert decide(replace(ALLOWED, stage=Stage.RETIRED), [baseline(returning=rule)]).outcome is outcome


def test_a_version_that_is_not_stated_does_not_pass_a_bound() -> None:
    policy = baseline(platforms={**BASE.platforms, Platform.ANDROID: PlatformRule(True, "1", "99")})
    assert codes(replace(ALLOWED, os_version=None), policy) == ["os_too_old", "os_too_new"]


@given(st.integers(0, 60), st.integers(1, 50))
def test_the_quota_is_reached_exactly_at_its_number(holding: int, quota: int) -> None:
    assert ("quota_reached" in codes(replace(ALLOWED, holding=holding), baseline(quota=quota))) == (holding >= quota)


@pytest.mark.parametrize(
    ("policies", "code"),
    [
        ([], "no_baseline"),
        ([baseline(quota=0)], "quota_bounds"),
        ([baseline(quota=-3)], "quota_bounds"),
        ([baseline(quota=51)], "quota_bounds"),
        ([baseline(platforms={**BASE.platforms, Platform.IOS: PlatformRule(True, "x")})], "bad_version"),
        ([baseline(platforms={**BASE.platforms, Platform.IOS: PlatformRule(True, "15", "14")})], "bounds_crossed"),
        ([Policy("baseline", None, {}), BASE], "name_taken"),
        ([baseline(quota=None)], "baseline_open"),
        ([baseline(groups=("Crew",))], "baseline_audience"),
    ],
)
def test_a_policy_that_cannot_be(policies: list[Policy], code: str) -> None:
    with pytest.raises(BadInput) as caught:
        check_policies(policies)
    assert code in [problem.code for problem in caught.value.problems]
