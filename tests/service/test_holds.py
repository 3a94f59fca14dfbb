"""Holds on devices, on people and on cohorts, and whom sweeps take by the book."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.worlds import NOW, World, a_pass, hold, import_people, knocking

from sortitor.client import Sortitor
from sortitor.client.errors import Refused
from sortitor.core.vocabulary import Activation, HoldKind, HoldState, Stage
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.devices import Selection
from sortitor.schemas.holds import HoldNew
from sortitor.schemas.sweeps import Rule
from sortitor.store.engine import make_engine, transaction
from sortitor.store.zones import keep_days

TODAY = NOW.date()


@pytest.fixture
def world(make_world: Callable[..., World]) -> World:
    """An organisation in Lisbon."""
    return make_world(time_zone="Europe/Lisbon")


def fleet(world: World, number: int, site: str = "Petrel") -> list[int]:
    """Devices in use at a site; their numbers."""
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    before = s.devices.count()
    for n in range(number):
        s.agent.knock(knocking(code, f"KM-{before + n}"))
    made = [device.id for device in s.devices.list() if device.id > before]
    world.rows("UPDATE devices SET site = %s WHERE id = ANY (%s)", site, made)
    return made


def due(s: Sortitor, rule: int) -> dict[str, int]:
    return {count.key: count.count for count in s.sweeps.preview(rule).counts}


def test_a_person_a_cohort_and_devices_are_held(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,maud@wrenmoor.example,Deck,Dunlin,Crew")
    devices = fleet(world, 5)
    s.devices.assign(1, "maud", s.devices.preview_assign(1, "maud").digest)
    s.cohorts.add(Cohort(name="Winter ships", filter='site eq "Petrel" and id le 2'))
    rule = s.sweep_rules.add(Rule(name="Quiet", idle_window_days=30, brake_percent=100))
    of_maud = hold(s, until=TODAY + timedelta(90), person="maud", owner="Harbour office")
    assert (of_maud.kind, of_maud.label) == (HoldKind.PERSON, "all devices of Maud Fenwick")
    assert (of_maud.devices, of_maud.owner, of_maud.created_by) == (
        1,
        "Harbour office",
        "coordinator",
    )
    of_ships = hold(s, until=TODAY + timedelta(40), cohort="winter ships")
    assert (of_ships.label, of_ships.devices) == ("cohort “Winter ships”", 2)
    some = hold(s, 4, 5, until=TODAY + timedelta(60), from_on=TODAY + timedelta(35))
    assert (some.state, some.label) == (HoldState.COMING, "2 devices")
    assert [one.id for one in s.devices.show(1).holds] == [of_ships.id, of_maud.id]
    assert [one.id for one in s.people.show("maud").holds] == [of_maud.id]

    world.later(days=31)
    assert due(s, rule.id)["on_hold"] == 2
    assert s.sweeps.preview(rule.id).examples_total == 3, "a hold to come holds nothing yet"
    world.later(days=5)
    assert s.sweeps.preview(rule.id).examples_total == 1
    # Somebody else has it now; what comes to Maud is held at once.
    s.devices.assign(3, "maud", s.devices.preview_assign(3, "maud").digest)
    assert s.sweeps.preview(rule.id).examples_total == 0
    world.later(days=5)
    shown = s.sweeps.preview(rule.id)
    assert due(s, rule.id)["released"] == 1
    [first] = shown.examples
    assert first.device_id == 2
    assert f"held until {TODAY + timedelta(40)}" in first.note
    run = s.sweeps.apply(rule.id, shown.digest)
    assert (run.retired, run.held) == (1, 4)
    assert [one.state for one in s.holds.list(over=True)] == ["running", "over", "running"]
    assert len(list(s.holds.list())) == 2
    assert len(devices) == 5


def test_a_hold_ends_early_for_all_or_for_one_and_comes_back(world: World) -> None:
    s = world.client()
    fleet(world, 3)
    made = hold(s, 1, 2, until=TODAY + timedelta(10))
    s.holds.end(made.id, device_id=1, reason="sold")
    assert s.devices.show(1).holds == []
    assert s.devices.show(2).holds[0].label == s.devices.show(2).name
    entry = next(iter(s.journal.list(most=1)))
    assert (entry.operation, entry.reason) == ("hold.end", "sold")
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert s.devices.show(1).holds[0].devices == 2
    s.holds.end(made.id)
    assert s.devices.show(1).holds == []
    with pytest.raises(Refused) as gone:
        s.holds.end(made.id)
    assert gone.value.problem.status == 404
    ended = next(e for e in s.journal.list() if e.summary == "2 devices no longer held")
    s.journal.revert(ended.id, s.journal.preview_revert(ended.id).digest)
    assert len(s.devices.show(2).holds) == 1
    # In the timeline of each of them.
    told = [line.summary for line in s.devices.show(2).timeline]
    assert told.count("2 devices no longer held") == 1
    added = next(e for e in s.journal.list() if e.operation == "hold.add")
    s.journal.revert(added.id, s.journal.preview_revert(added.id).digest)
    assert s.devices.show(2).holds == []
    of_person = next(iter(s.journal.list(most=1)))
    assert of_person.reverts == added.id


@pytest.mark.parametrize(
    ("wanted", "code"),
    [
        ({"until_on": TODAY - timedelta(1), "selection": Selection(ids=[1])}, "hold_past"),
        (
            {
                "until_on": TODAY,
                "from_on": TODAY + timedelta(1),
                "selection": Selection(ids=[1]),
            },
            "hold_backwards",
        ),
        ({"until_on": TODAY + timedelta(2000), "selection": Selection(ids=[1])}, "hold_too_long"),
        ({"until_on": TODAY}, "hold_what"),
        ({"until_on": TODAY, "selection": Selection()}, "hold_what"),
        ({"until_on": TODAY, "selection": Selection(ids=[1]), "person": 1}, "hold_what"),
        ({"until_on": TODAY, "cohort": "Idle ones"}, "cohort_moves"),
    ],
)
def test_a_hold_that_says_the_wrong_thing(
    world: World, wanted: dict[str, object], code: str
) -> None:
    s = world.client()
    fleet(world, 1)
    s.cohorts.add(Cohort(name="Idle ones", filter="idleDays ge 30"))
    with pytest.raises(Refused) as refused:
        s.holds.preview(HoldNew(reason="x", **wanted))
    assert refused.value.problem.code == code
    assert refused.value.problem.remedy


def test_a_cohort_that_is_held_stays_what_it_is(world: World) -> None:
    s = world.client()
    fleet(world, 1)
    s.cohorts.add(Cohort(name="Ships", filter='site eq "Petrel"'))
    made = hold(s, until=TODAY, cohort="Ships")
    moved = Cohort(name="Ships", filter="idleDays ge 30")
    looks = (
        lambda: s.cohorts.preview_remove("Ships"),
        lambda: s.cohorts.preview_edit("Ships", moved),
    )
    for look in looks:
        with pytest.raises(Refused) as refused:
            look()
        assert refused.value.problem.code == "cohort_held"
    s.holds.end(made.id)
    s.cohorts.remove("Ships", s.cohorts.preview_remove("Ships").digest)


def test_a_window_ends_at_midnight_where_the_organisation_is(world: World) -> None:
    """Across the night in which clocks go forward, and on a leap day."""
    s = world.client()
    fleet(world, 1)
    rule = s.sweep_rules.add(Rule(name="Quiet", idle_window_days=21, brake_percent=100))
    for seen, due_at in (
        # Half past eleven in the evening in Lisbon; 21 midnights later clocks have gone forward.
        (datetime(2026, 3, 20, 23, 30, tzinfo=UTC), datetime(2026, 4, 9, 23, 0, tzinfo=UTC)),
        (datetime(2026, 10, 10, 22, 30, tzinfo=UTC), datetime(2026, 10, 31, 0, 0, tzinfo=UTC)),
        (datetime(2028, 2, 20, 12, 0, tzinfo=UTC), datetime(2028, 3, 12, 0, 0, tzinfo=UTC)),
    ):
        world.saw("true", seen)
        for moment, number in ((due_at - timedelta(seconds=1), 0), (due_at, 1)):
            world.now = moment
            assert s.sweeps.preview(rule.id).examples_total == number, moment
            assert s.devices.count(filter="idleDays ge 21") == number
            assert s.devices.show(1).idle_days == 20 + number


def test_after_another_time_zone_was_set_days_are_days_of_it(world: World) -> None:
    """Idle days are midnights where the organisation is, whenever they were noted."""
    fleet(world, 2)
    world.saw("id = 1", datetime(2026, 3, 20, 23, 30, tzinfo=UTC))
    world.saw("id = 2", None)
    for zone, day, moved in (
        ("Pacific/Auckland", date(2026, 3, 21), 1),
        ("America/Lima", date(2026, 3, 20), 1),
        ("Europe/Lisbon", date(2026, 3, 20), 0),
    ):
        engine = make_engine(world.run.url, 1, zone=zone)
        with transaction(engine) as connection:
            assert keep_days(connection, zone) == moved
            assert keep_days(connection, zone) == 0
        engine.dispose()
        assert world.rows("SELECT seen_on FROM devices ORDER BY id") == [(day,), (NOW.date(),)]


# ---- by the book: random fleets, rules, holds and clocks


@dataclass(frozen=True)
class Unit:
    stage: Stage
    seen: datetime
    person: int | None
    site: str
    retire_on: date | None


#: Over two nights in which clocks are set, and a leap day.
MOMENTS = st.integers(0, 210 * 86_400).map(
    lambda seconds: datetime(2027, 9, 1, tzinfo=UTC) + timedelta(seconds=seconds)
)
DAYS = st.integers(-40, 40)
SITES = ("Petrel", "Dunlin", "Curlew")


@st.composite
def units(draw: st.DrawFn) -> tuple[datetime, list[Unit]]:
    now = draw(MOMENTS)
    stages = st.sampled_from([Stage.PARKED, Stage.ACTIVE, Stage.DORMANT, Stage.RETIRED])
    found = []
    for _ in range(draw(st.integers(1, 12))):
        stage = draw(stages)
        back = timedelta(days=draw(st.integers(0, 90)), seconds=draw(st.integers(0, 86_400)))
        day = draw(st.none() | DAYS) if stage is Stage.DORMANT else None
        retire_on = None if day is None else now.date() + timedelta(day)
        # Who has five gets no sixth, not by taking a sweep back either.
        has = [unit.person for unit in found]
        person = draw(st.sampled_from([None, *(one for one in (1, 2) if has.count(one) < 5)]))
        found.append(Unit(stage, now - back, person, draw(st.sampled_from(SITES)), retire_on))
    return now, found


RULES = st.lists(
    st.builds(
        Rule,
        name=st.just("r"),
        idle_window_days=st.integers(21, 60),
        dormant_days=st.sampled_from([0, 0, 7, 20]),
        filter=st.sampled_from([None, *(f'site eq "{site}"' for site in SITES)]),
        brake_percent=st.just(100),
    ),
    min_size=1,
    max_size=4,
    unique_by=lambda rule: rule.idle_window_days,
)
HOLDS = st.lists(
    st.tuples(st.sampled_from(["device", "person", "cohort"]), DAYS, st.integers(0, 30)), max_size=4
)


def outcome(
    rule: Rule, rules: list[Rule], unit: Unit, idle: int, held: bool, today: date
) -> Stage | None:
    """What becomes of a device, written out in the words of the rules."""

    def watches(one: Rule) -> bool:
        return one.filter is None or unit.site in one.filter

    if unit.stage is Stage.RETIRED or not watches(rule) or idle < rule.idle_window_days or held:
        return None
    for other in rules:
        longer = other.idle_window_days > rule.idle_window_days
        if longer and watches(other) and idle < other.idle_window_days:
            return None
    if rule.dormant_days == 0:
        return Stage.RETIRED
    if unit.stage is Stage.ACTIVE:
        return Stage.DORMANT
    if unit.stage is Stage.DORMANT and unit.retire_on is not None:
        return Stage.RETIRED if unit.retire_on <= today else None
    return Stage.RETIRED if idle >= rule.idle_window_days + rule.dormant_days else None


def test_sweeps_take_whom_the_book_says(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(
        s,
        tmp_path,
        "maud,Maud Fenwick,maud@wrenmoor.example,Deck,Dunlin,Crew",
        "odo,Odo Marsh,odo@wrenmoor.example,Deck,Dunlin,Crew",
    )
    s.cohorts.add(Cohort(name="Petrel", filter='site eq "Petrel"'))
    zone = ZoneInfo("Europe/Lisbon")

    @settings(max_examples=20, deadline=None, suppress_health_check=list(HealthCheck))
    @given(units(), RULES, HOLDS)
    def by_the_book(
        given: tuple[datetime, list[Unit]], rules: list[Rule], holds: list[tuple[str, int, int]]
    ) -> None:
        world.now, fleet = given
        today = world.now.astimezone(zone).date()
        world.rows(
            "TRUNCATE devices, sightings, holds, hold_devices, sweep_rules, sweeps, identifiers,"
            " credentials, arrivals, cohort_members RESTART IDENTITY CASCADE"
        )
        for unit in fleet:
            world.rows(
                "INSERT INTO devices (stage, stage_at, created_at, enrolled_at, person_id, site,"
                " retire_on) VALUES (%s, %s, %s, %s, %s, %s, %s)",
                unit.stage,
                *[unit.seen] * 3,
                unit.person,
                unit.site,
                unit.retire_on,
            )
            world.saw("id = (SELECT max(id) FROM devices)", unit.seen)
        world.rows(
            "INSERT INTO cohort_members (cohort_id, device_id) SELECT 1, id FROM devices WHERE"
            " site = 'Petrel' ON CONFLICT DO NOTHING"
        )
        kept: set[int] = set()
        for kind, first, length in holds:
            begins, ends = today + timedelta(first), today + timedelta(first + length)
            row = "INSERT INTO holds (reason, owner, created_by, created_at, from_on, until_on,"
            row += " person_id, cohort_id) VALUES ('x', 'x', 'x', now(), %s, %s, %s, %s)"
            person, cohort = (1 if kind == "person" else None), (1 if kind == "cohort" else None)
            [[number]] = world.rows(row + " RETURNING id", begins, ends, person, cohort)
            if kind == "device":
                world.rows("INSERT INTO hold_devices SELECT %s, 1", number)
            if begins <= today <= ends:
                kept |= {
                    place
                    for place, unit in enumerate(fleet, 1)
                    if (kind == "device" and place == 1)
                    or (kind == "person" and unit.person == 1)
                    or (kind == "cohort" and unit.site == "Petrel")
                }
        rules = [rule.model_copy(update={"name": f"r{n}"}) for n, rule in enumerate(rules)]
        for rule in rules:
            s.sweep_rules.add(rule)
        rule = rules[0]
        wanted: dict[int, Stage] = {}
        for place, unit in enumerate(fleet, 1):
            idle = max(0, (today - unit.seen.astimezone(zone).date()).days)
            after = outcome(rule, rules, unit, idle, place in kept, today)
            if after is not None:
                wanted[place] = after
        shown = s.sweeps.preview("r0")
        assert {example.device_id: example.after for example in shown.examples} == wanted
        counts = {count.key: count.count for count in shown.counts}
        assert counts["retired"] == list(wanted.values()).count(Stage.RETIRED)
        assert shown.examples_total == len(wanted)
        todays = next((i for i in s.today.show().items if "“r0”" in i.title), None)
        assert (todays.count if todays else 0) == len(wanted)
        before = world.rows("SELECT id, stage, retire_on FROM devices ORDER BY id")
        if wanted:
            run = s.sweeps.apply("r0", shown.digest)
            after_all = dict(world.rows("SELECT id, stage FROM devices"))
            for place, unit in enumerate(fleet, 1):
                assert after_all[place] == wanted.get(place, unit.stage)
            s.sweeps.revert(run.id, s.sweeps.preview_revert(run.id).digest)
        assert world.rows("SELECT id, stage, retire_on FROM devices ORDER BY id") == before

    by_the_book()
