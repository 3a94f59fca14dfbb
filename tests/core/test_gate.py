"""The gate: every facet, every reason, in order of the policies."""

from dataclasses import replace
from datetime import date, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.errors import BadInput
from sortitor.core.gate import (
    REASON_CODES,
    Arrival,
    Declaring,
    Gate,
    Holding,
    Listing,
    Pass,
    Policy,
    Quota,
    Seats,
    VersionBounds,
    Who,
    decide,
    effective,
    quotas,
    remarks,
    starting_gate,
)
from sortitor.core.gate import PlatformRule as Rule
from sortitor.core.gate.concerned import Concerned, concerned
from sortitor.core.gate.replay import spoken_of
from sortitor.core.vocabulary import (
    Activation,
    Facet,
    Listed,
    Outcome,
    Ownership,
    Platform,
    Returning,
    Shortage,
    SignInWay,
    Stage,
)

BASE = starting_gate().policies[0]
TODAY = date(2026, 1, 20)
ALLOWED = Arrival(Platform.ANDROID, "14", Ownership.CORPORATE, True, "maud", frozenset({"Crew"}))


ANDROID = Platform.ANDROID


def having(number: int) -> Holding:
    return Holding({(Platform.ANDROID, Ownership.CORPORATE): number})


def rule(oldest: str | None = None, newest: str | None = None, open: bool | None = True) -> Rule:
    return Rule(open=open, versions=VersionBounds(oldest=oldest, newest=newest))


def codes(arrival: Arrival, *policies: Policy) -> list[str]:
    return [reason.code for reason in decide(arrival, Gate(policies=policies or (BASE,))).reasons]


def baseline(**facets: object) -> Policy:
    return BASE.model_copy(update=facets)


def only(facet: str, *names: str) -> Policy:
    listing = Listing(listed=Listed.ONLY, names=names)
    return baseline(platforms={**BASE.platforms, ANDROID: Rule(open=True, **{facet: listing})})


CASES = {
    "platform_closed": (
        ALLOWED,
        baseline(platforms={**BASE.platforms, Platform.ANDROID: Rule(open=False)}),
    ),
    "os_too_old": (
        ALLOWED,
        baseline(platforms={**BASE.platforms, Platform.ANDROID: rule(oldest="14.1")}),
    ),
    "os_too_new": (
        ALLOWED,
        baseline(platforms={**BASE.platforms, Platform.ANDROID: rule(newest="13")}),
    ),
    "maker_denied": (replace(ALLOWED, maker="Tavik"), only("makers", "Kelmar")),
    "model_denied": (replace(ALLOWED, model=None), only("models", "Mate 3")),
    "ownership_denied": (ALLOWED, baseline(ownerships=(Ownership.PARTNER,))),
    "undeclared": (replace(ALLOWED, declared=False), baseline(declared_only=True)),
    "quota_reached": (replace(ALLOWED, holding=having(5)), BASE),
    "signin_failed": (replace(ALLOWED, signin_failed=True), BASE),
    "no_passcode": (ALLOWED, baseline(sign_in=SignInWay.PASSCODE)),
    "pass_unknown": (replace(ALLOWED, shown=Pass("pass_unknown")), BASE),
    "pass_expired": (replace(ALLOWED, shown=Pass("pass_expired")), BASE),
    "pass_spent": (replace(ALLOWED, shown=Pass("pass_spent")), BASE),
    "returning": (replace(ALLOWED, stage=Stage.RETIRED), baseline(returning=Returning.REFUSE)),
    "flagged": (replace(ALLOWED, flag="stolen"), BASE),
    "in_use": (replace(ALLOWED, in_use=True), BASE),
    "no_seat": (replace(ALLOWED, seats=(Seats("Apps", Shortage.REFUSE, 5, 5),)), BASE),
}
#: Reasons for which a device waits rather than being refused.
PARKING = {"in_use"}


#: Said of a device that cannot be asked, by whoever asks.
_OF_THE_PROTOCOL = "protocol_old"


@pytest.mark.parametrize("code", [one for one in REASON_CODES if one != _OF_THE_PROTOCOL])
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
    old = baseline(platforms={**BASE.platforms, Platform.ANDROID: rule(oldest="12")})
    decision = decide(replace(ALLOWED, os_version="9"), Gate(policies=(old,)))
    assert [reason.explanation for reason in decision.reasons] == [
        "Baseline lets in Android 12 or later; this one has 9."
    ]


def test_a_device_of_unknown_platform_meets_no_platforms_rule() -> None:
    closed = {platform: rule(open=False, oldest="99") for platform in Platform}
    unknown = replace(ALLOWED, platform=None, os_version=None)
    assert codes(unknown, baseline(platforms=closed)) == []
    assert codes(replace(unknown, holding=having(5)), baseline(platforms=closed)) == [
        "quota_reached"
    ]


def test_every_reason_is_found_not_only_the_first() -> None:
    arrival = replace(ALLOWED, holding=having(9), flag="missing", os_version="8")
    policy = baseline(
        platforms={**BASE.platforms, Platform.ANDROID: rule(open=False, oldest="10")},
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
        platforms={Platform.ANDROID: rule(open=None, oldest="15")},
        quota=Quota(devices=2),
    )
    office = Policy(name="Office", groups=("Office",), quota=Quota(devices=1))
    gate = Gate(policies=(office, crew, BASE))
    decision = decide(ALLOWED, gate)
    assert [(r.code, r.policy) for r in decision.reasons] == [("os_too_old", "Crew")]
    both = gate.audience(Who(frozenset({"Office", "Crew"})))
    assert [(q.policy, q.value.devices) for q in quotas(both, None)] == [("Office", 1)]
    assert [q.policy for q in quotas(gate.audience(Who()), None)] == ["Baseline"]


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
    policy = baseline(platforms={**BASE.platforms, Platform.ANDROID: rule(oldest="1", newest="99")})
    assert codes(replace(ALLOWED, os_version=None), policy) == ["os_too_old", "os_too_new"]


@given(st.integers(0, 60), st.integers(1, 50))
def test_the_quota_is_reached_exactly_at_its_number(holding: int, quota: int) -> None:
    assert (
        "quota_reached"
        in codes(replace(ALLOWED, holding=having(holding)), baseline(quota=Quota(devices=quota)))
    ) == (holding >= quota)


@pytest.mark.parametrize(
    ("policies", "code"),
    [
        ([], "no_baseline"),
        ([baseline(quota=Quota(devices=0))], "quota_bounds"),
        ([baseline(quota=Quota(devices=-3))], "quota_bounds"),
        ([baseline(quota=Quota(devices=51))], "quota_bounds"),
        (
            [baseline(platforms={**BASE.platforms, Platform.IOS: rule(oldest="x")})],
            "bad_version",
        ),
        (
            [
                baseline(
                    platforms={
                        **BASE.platforms,
                        Platform.IOS: rule(oldest="15", newest="14"),
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


def test_a_platforms_own_word_goes_before_the_general_one_within_a_policy_only() -> None:
    crew = Policy(
        name="Crew",
        groups=("Crew",),
        ownerships=(Ownership.PERSONAL,),
        platforms={ANDROID: Rule(ownerships=(Ownership.CORPORATE,))},
    )
    base = baseline(
        platforms={
            **BASE.platforms,
            Platform.IOS: Rule(open=True, ownerships=(Ownership.PARTNER,)),
        }
    )
    ours = replace(ALLOWED, ownership=Ownership.CORPORATE)
    assert codes(ours, crew, base) == []
    apple = replace(ours, platform=Platform.IOS)
    decision = decide(apple, Gate(policies=(crew, base)))
    assert [(r.code, r.policy) for r in decision.reasons] == [("ownership_denied", "Crew")]
    assert codes(replace(apple, groups=frozenset()), crew, base) == ["ownership_denied"]


def test_personal_androids_stay_out_while_corporate_ones_come_in() -> None:
    rules = {**BASE.platforms, ANDROID: Rule(open=True, ownerships=(Ownership.CORPORATE,))}
    gate = baseline(platforms=rules)
    personal = replace(ALLOWED, ownership=Ownership.PERSONAL)
    assert codes(ALLOWED, gate) == []
    assert codes(personal, gate) == ["ownership_denied"]
    assert codes(replace(personal, platform=Platform.IOS), gate) == []


def test_makers_are_compared_without_case_blanks_and_punctuation() -> None:
    kept_out = Listing(listed=Listed.ALL_BUT, names=("Kel-Mar GmbH",))
    gate = baseline(platforms={**BASE.platforms, ANDROID: Rule(open=True, makers=kept_out)})
    for name in ("kelmar gmbh", "KELMAR  G.m.b.H.", "ｋｅｌｍａｒ gmbh"):
        assert codes(replace(ALLOWED, maker=name), gate) == ["maker_denied"]
    assert codes(replace(ALLOWED, maker="Tavik"), gate) == []
    assert codes(replace(ALLOWED, maker=None), gate) == [], "who states no maker is on no list"


def test_both_quotas_hold_and_count_what_they_name() -> None:
    own = Quota(devices=1, ownerships=(Ownership.CORPORATE,))
    gate = baseline(
        quota=Quota(devices=3),
        platforms={**BASE.platforms, ANDROID: Rule(open=True, quota=own)},
    )
    one_more = replace(
        ALLOWED,
        holding=Holding({(ANDROID, Ownership.CORPORATE): 1, (ANDROID, Ownership.PERSONAL): 1}),
    )
    [reason] = decide(one_more, Gate(policies=(gate,))).reasons
    assert (
        reason.explanation == "Baseline allows 1 corporate Android device per person; maud has 1."
    )
    assert codes(replace(one_more, ownership=Ownership.PERSONAL), gate) == []
    assert codes(replace(one_more, platform=Platform.IOS), gate) == []
    full = Holding({(Platform.IOS, Ownership.PERSONAL): 3})
    assert codes(replace(ALLOWED, holding=full, ownership=Ownership.PERSONAL), gate) == [
        "quota_reached"
    ]


def test_a_policy_for_devices_goes_by_what_was_declared() -> None:
    scanners = Policy(
        name="Scanners",
        devices='tags eq "gangway"',
        platforms={ANDROID: Rule(versions=VersionBounds(oldest="15"))},
    )
    assert codes(replace(ALLOWED, known={"tags": ["Gangway"]}), scanners, BASE) == ["os_too_old"]
    assert codes(replace(ALLOWED, known={"tags": ["deck"]}), scanners, BASE) == []
    assert codes(ALLOWED, scanners, BASE) == [], "nobody declared it"


def test_a_policy_for_single_people() -> None:
    maud = Policy(name="Maud", people=("MAUD",), quota=Quota(devices=1))
    assert codes(replace(ALLOWED, holding=having(1)), maud, BASE) == ["quota_reached"]
    assert codes(replace(ALLOWED, person="eve", holding=having(1)), maud, BASE) == []


@pytest.mark.parametrize(
    ("text", "code"),
    [
        ('tags eq "x', "bad_filter"),
        ('osVersion ge "12"', "not_declared"),
        ('person.groups eq "Crew"', "not_declared"),
        ("idleDays gt 3", "not_declared"),
    ],
)
def test_a_filter_for_devices_that_cannot_be(text: str, code: str) -> None:
    with pytest.raises(BadInput) as caught:
        Gate(policies=(Policy(name="X", devices=text), BASE)).check()
    assert [problem.code for problem in caught.value.problems] == [code]
    assert caught.value.problems[0].pointer == "/policies/0/devices"


def test_what_older_journal_entries_keep_is_still_read() -> None:
    old = {
        "name": "Crew",
        "groups": ["Crew"],
        "platforms": {"android": {"open": True, "os_min": "12", "os_max": None}},
        "quota": 2,
    }
    policy = Policy.model_validate(old)
    assert policy.quota == Quota(devices=2)
    assert policy.platforms[ANDROID].versions == VersionBounds(oldest="12")
    assert policy.platforms[ANDROID].open is True


def test_words_that_nobody_hears_are_said() -> None:
    crew = Policy(name="Crew", groups=("Crew", "Office"), ownerships=(Ownership.CORPORATE,))
    late = Policy(
        name="Late",
        groups=("Crew",),
        ownerships=(Ownership.PERSONAL,),
        platforms={ANDROID: Rule(ownerships=()), Platform.IOS: Rule(open=False)},
    )
    empty = Policy(name="Empty", groups=())
    found = remarks(Gate(policies=(crew, late, empty, BASE)), TODAY)
    assert [(one.code, one.pointer) for one in found] == [
        ("never_reached", "/policies/1/ownerships"),
        ("never_reached", "/policies/1/platforms/android/ownerships"),
        ("holds_nobody", "/policies/2/groups"),
        ("states_nothing", "/policies/2"),
    ]
    assert "“Crew” stands before it" in found[0].detail


def test_a_policy_that_ends_counts_on_its_last_day_and_no_longer() -> None:
    refit = Policy(name="Refit", groups=("Crew",), quota=Quota(devices=5), until=TODAY)
    gate = Gate(policies=(refit, BASE))
    gate.check()
    assert [one.name for one in gate.on(TODAY).policies] == ["Refit", "Baseline"]
    over = gate.on(TODAY + timedelta(days=1))
    assert [one.name for one in over.policies] == ["Baseline"]
    [remark] = remarks(gate, TODAY + timedelta(days=1))
    assert (remark.code, remark.pointer) == ("has_ended", "/policies/0/until")
    # Whatever stands behind it is heard again when it has ended.
    crew = Policy(name="Crew", groups=("Crew",), quota=Quota(devices=2))
    assert remarks(Gate(policies=(refit, crew, BASE)), TODAY) == []
    with pytest.raises(BadInput) as caught:
        Gate(policies=(baseline(until=TODAY),)).check()
    assert caught.value.problems[0].code == "baseline_ends"


def test_a_change_says_for_how_many_people_what_changes() -> None:
    officers = Policy(name="Officers", groups=("Officers",), quota=Quota(devices=4))
    refit = Policy(name="Refit", groups=("Officers",), quota=Quota(devices=5), until=TODAY)
    closed = Policy(name="Yard", people=("maud",), platforms={ANDROID: Rule(open=False)})
    before = Gate(policies=(officers, BASE))
    after = Gate(policies=(refit, closed, officers, BASE))
    spoken = spoken_of(before, after)
    group, single = spoken.of(officers), spoken.of(closed)
    assert group is not None
    assert single is not None
    kinds = [
        (frozenset({group.label}), 36),
        (frozenset({group.label, single.label}), 1),
        (frozenset[str](), 800),
    ]
    found = concerned(before, after, spoken, kinds)
    assert found.people == 37
    assert [
        (one.people, one.facet, one.platform, one.before, one.after, one.policy)
        for one in found.changes
    ] == [
        (37, Facet.QUOTA, None, "4 devices", "5 devices", "Refit"),
        (1, Facet.DOOR, ANDROID, "open", "closed", "Yard"),
    ]
    assert concerned(before, before, spoken, kinds) == Concerned(0, ())


def test_a_pass_that_the_gate_defeats_is_said() -> None:
    gate = Gate(policies=(baseline(ownerships=(Ownership.CORPORATE,)),))
    contractors = Declaring("Yard", Ownership.PARTNER, Who())
    [remark] = remarks(gate, TODAY, [contractors, Declaring("Crew", Ownership.CORPORATE, Who())])
    assert (remark.code, "“Yard”" in remark.detail) == ("defeats_pass", True)


def test_the_effective_gate_names_the_policy_of_each_word() -> None:
    crew = Policy(
        name="Crew",
        groups=("Crew",),
        quota=Quota(devices=2),
        platforms={ANDROID: Rule(quota=Quota(devices=1), returning=Returning.REFUSE)},
    )
    lines = effective([crew, BASE])
    found = {
        (one.statement.facet, one.statement.platform): (one.statement.policy, one.own)
        for one in lines
    }
    assert found[Facet.QUOTA, None] == ("Crew", False)
    assert found[Facet.QUOTA, ANDROID] == ("Crew", True)
    assert found[Facet.RETURNING, None] == ("Baseline", False)
    assert found[Facet.RETURNING, ANDROID] == ("Crew", True)
    assert found[Facet.DOOR, Platform.IOS] == ("Baseline", True)
    assert (Facet.RETURNING, Platform.IOS) not in found, "as for all"
