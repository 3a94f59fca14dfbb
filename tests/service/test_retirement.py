"""Retirement with notice: dormant, told, woken or retired, and taken back."""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from datetime import timedelta
from itertools import pairwise
from pathlib import Path

import psycopg
import pytest
from tests.vouchers import an_issuer
from tests.worlds import NOW, World, a_pass, hold, import_people, knocking

from sortitor.client import Sortitor
from sortitor.client.errors import Refused
from sortitor.core.vocabulary import Activation, Role, Stage
from sortitor.operations.sweeps import runs
from sortitor.schemas.devices import Selection
from sortitor.schemas.licences import Pool
from sortitor.schemas.sweeps import Rule, RuleDetail, Sweep

TODAY = NOW.date()
#: Quiet for thirty days: dormant for fourteen.
QUIET = {"idle_window_days": 30, "dormant_days": 14, "brake_percent": 100}


@pytest.fixture
def world(make_world: Callable[..., World]) -> World:
    """Mails are written, and nobody sends them."""
    return make_world(mail_host="mail.invalid", mail_from="devices@wrenmoor.example")


def fleet(world: World, number: int, **stated: object) -> list[str]:
    """Devices in use; their credentials."""
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    made = [s.agent.knock(knocking(code, f"KM-{n}", **stated)) for n in range(number)]
    return [one.credential or "" for one in made]


def sweep(s: Sortitor, rule: RuleDetail) -> Sweep:
    return s.sweeps.apply(rule.id, s.sweeps.preview(rule.id).digest)


def by_stage(s: Sortitor) -> dict[str, int]:
    found: dict[str, int] = {}
    for device in s.devices.list():
        found[device.stage.value] = found.get(device.stage.value, 0) + 1
    return found


def mails(world: World) -> list[tuple[object, ...]]:
    return world.rows("SELECT to_address, subject, body FROM mails ORDER BY id")


def test_noticed_told_woken_or_retired(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,maud@wrenmoor.example,Deck,Dunlin,Crew")
    credentials = fleet(world, 3)
    devices = [device.id for device in s.devices.list()]
    for number in devices[:2]:
        s.devices.assign(number, "maud", s.devices.preview_assign(number, "maud").digest)
    world.rows("UPDATE devices SET site = 'petrel' WHERE id = %s", devices[2])
    rule = s.sweep_rules.add(
        Rule(
            name="Quiet",
            contacts=("Petrel=bridge@petrel.example", "Dunlin=x@dunlin.example"),
            remind_days=3,
            every_hours=6,
            **QUIET,
        )
    )
    standing = s.devices.show(devices[0]).sweep
    assert standing is not None
    assert (standing.rule, standing.dormant_on) == ("Quiet", TODAY + timedelta(30))
    assert standing.retire_on == TODAY + timedelta(44)

    world.later(days=31)
    day = TODAY + timedelta(31 + 14)
    late = s.devices.show(devices[0]).sweep
    assert late is not None
    assert (late.dormant_on, late.retire_on) == (TODAY + timedelta(31), day)
    shown = s.sweeps.preview(rule.id)
    assert {c.key: c.count for c in shown.counts if c.key in ("retired", "dormant")} == {
        "retired": 0,
        "dormant": 3,
    }
    assert f"retired on {day}" in (shown.examples[0].note or "")
    run = s.sweeps.apply(rule.id, shown.digest)
    assert (run.retired, run.dormant) == (0, 3)
    assert by_stage(s) == {"dormant": 3}
    assert s.devices.show(devices[0]).retire_on == day
    assert s.devices.count(filter=f'retireOn eq "{day}"') == 3
    told = {str(to): (str(subject), str(body)) for to, subject, body in mails(world)}
    assert set(told) == {"maud@wrenmoor.example", "bridge@petrel.example"}
    subject, body = told["maud@wrenmoor.example"]
    assert subject.endswith(f"and 1 more device will be retired on {day}")
    assert "Switch it on and let it connect once" in body
    assert sweep_is_done(s, rule)

    s.agent.check_in(credentials[0])
    woken = s.devices.show(devices[0])
    assert (woken.stage, woken.retire_on) == (Stage.ACTIVE, None)
    entry = next(iter(s.journal.list("device.wake")))
    [effect] = s.journal.show(entry.id).effects
    assert (effect.before, effect.after) == (
        {"stage": "dormant", "retire_on": str(day)},
        {"stage": "active", "retire_on": None},
    )

    ctx = world.run.context("schedule")
    world.later(days=11)
    assert runs.run_scheduled(ctx) == []
    assert len(mails(world)) == 4, "told again, three days before"
    world.later(hours=7)
    assert runs.run_scheduled(ctx) == []
    assert len(mails(world)) == 4, "but once"
    world.later(days=3)
    [done] = runs.run_scheduled(ctx)
    assert (done.retired, done.dormant) == (2, 0)
    assert by_stage(s) == {"active": 1, "retired": 2}


def sweep_is_done(s: Sortitor, rule: RuleDetail) -> bool:
    """Dormant devices that are not due yet are not asked for again."""
    shown = s.sweeps.preview(rule.id)
    assert shown.nothing_to_do
    assert next(c.count for c in shown.counts if c.key == "waiting") == 3
    return not any(item.kind == "sweep" for item in s.today.show().items)


def test_notice_and_retirement_are_taken_back_whole(world: World) -> None:
    s = world.client()
    fleet(world, 2)
    rule = s.sweep_rules.add(Rule(name="Quiet", **QUIET))
    world.later(days=31)
    first = sweep(s, rule)
    s.sweeps.revert(first.id, s.sweeps.preview_revert(first.id).digest)
    assert by_stage(s) == {"active": 2}
    assert world.rows("SELECT count(*) FROM devices WHERE retire_on IS NOT NULL") == [(0,)]
    again = sweep(s, rule)
    world.later(days=14)
    last = sweep(s, rule)
    assert by_stage(s) == {"retired": 2}
    s.sweeps.revert(last.id, s.sweeps.preview_revert(last.id).digest)
    assert by_stage(s) == {"dormant": 2}
    assert {d.retire_on for d in map(s.devices.show, (1, 2))} == {TODAY + timedelta(45)}
    s.sweeps.revert(again.id, s.sweeps.preview_revert(again.id).digest)
    assert by_stage(s) == {"active": 2}


def test_the_longest_window_counts_and_says_so(world: World) -> None:
    s = world.client()
    fleet(world, 3)
    short = s.sweep_rules.add(Rule(name="Short", idle_window_days=30, brake_percent=100))
    s.sweep_rules.add(Rule(name="Long", idle_window_days=60, filter="id le 2"))
    world.later(days=40)
    shown = s.sweeps.preview(short.id)
    counts = {count.label: count.count for count in shown.counts}
    assert counts["devices to retire"] == 1
    assert counts["left to “Long”, whose window is longer"] == 2
    found = s.devices.show(1).sweep
    assert found is not None
    assert (found.rule, found.others) == ("Long", ["Short"])
    assert found.retire_on == TODAY + timedelta(60)
    titles = [item.title for item in s.today.show().items if item.kind == "sweep"]
    assert titles == ["1 device past the idle window of “Short”"]
    sweep(s, short)
    assert by_stage(s) == {"active": 2, "retired": 1}
    world.later(days=21)
    assert s.sweeps.preview(short.id).apply_label == "Retire 2 devices"


def test_whoever_is_parked_is_never_dormant(world: World) -> None:
    s = world.client()
    code = a_pass(s, activation=Activation.COORDINATOR)
    s.agent.knock(knocking(code, "KM-1"))
    rule = s.sweep_rules.add(Rule(name="Quiet", **QUIET))
    world.later(days=31)
    assert s.sweeps.preview(rule.id).nothing_to_do
    world.later(days=14)
    sweep(s, rule)
    assert by_stage(s) == {"retired": 1}


def test_a_fleet_that_fell_silent_stops_the_schedule(world: World) -> None:
    """A relay was down for more than a day: what is due is asked, not retired."""
    s = world.client()
    credentials = fleet(world, 12)
    s.sweep_rules.add(Rule(name="Quiet", idle_window_days=30, brake_percent=100, every_hours=12))
    ctx = world.run.context("schedule")
    world.later(days=20)
    for _ in range(5):
        world.later(days=1)
        for credential in credentials[:10]:
            s.agent.check_in(credential)
        assert runs.run_scheduled(ctx) == []
    # Two are past their window by now, and nobody else is heard of either.
    world.later(days=6)
    [run] = runs.run_scheduled(ctx)
    assert (run.state, run.retired) == ("braked", 2)
    assert "usually 10 do" in (run.why or "")
    assert "look whether a relay" in (run.why or "")
    assert any("stopped" in item.title for item in s.today.show().items)
    for credential in credentials[:10]:
        s.agent.check_in(credential)
    world.later(hours=12)
    [run] = runs.run_scheduled(ctx)
    assert (run.state, run.retired) == ("applied", 2)


def test_a_season_ashore_is_held(world: World) -> None:
    s = world.client()
    fleet(world, 2)
    rule = s.sweep_rules.add(Rule(name="Quiet", **QUIET))
    hold(s, 1, until=TODAY + timedelta(200))
    world.later(days=31)
    assert sweep(s, rule).dormant == 1
    world.later(days=100)
    sweep(s, rule)
    assert [s.devices.show(number).stage for number in (1, 2)] == [Stage.ACTIVE, Stage.RETIRED]


def test_whatever_leads_out_of_being_dormant_forgets_the_day(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,maud@wrenmoor.example,Deck,Dunlin,Crew")
    code = a_pass(s, activation=Activation.SHARED)
    for number in range(3):
        s.agent.knock(knocking(code, f"KM-{number}"))
    rule = s.sweep_rules.add(Rule(name="Quiet", **QUIET))
    world.later(days=31)
    sweep(s, rule)
    s.agent.knock(knocking(code, "KM-0"))
    world.rows("UPDATE sweep_rules SET document = document || '{\"dormant_days\": 0}'")
    world.later(days=1)
    sweep(s, rule)
    assert world.rows("SELECT count(*) FROM devices WHERE retire_on IS NOT NULL") == [(0,)]


def test_a_rule_is_looked_at_before_it_is_saved(world: World) -> None:
    s = world.client()
    fleet(world, 3)
    hold(s, 1, until=TODAY + timedelta(200))
    world.later(days=31)
    rule = Rule(name="New", **QUIET)
    idle = s.sweeps.idle(rule)
    assert idle.watched == 3
    assert [(d.idle_days, d.devices, d.held, d.left) for d in idle.days] == [(31, 3, 1, 0)]
    longer = {**QUIET, "idle_window_days": 60, "filter": 'serial eq "KM-1"'}
    s.sweep_rules.add(Rule(name="Longer", **longer))
    assert [(d.devices, d.held, d.left) for d in s.sweeps.idle(rule).days] == [(3, 1, 1)]
    shown = {c.key: c.count for c in s.sweep_rules.preview_add(rule).counts}
    assert (shown["past"], shown["left"]) == (2, 1)
    s.sweep_rules.remove("Longer")
    [head, *lines] = s.sweeps.due_file(rule).decode("utf-8-sig").splitlines()
    assert head == "Device,Name,Serial,Site,Platform,Person,Stage,Becomes,Idle days,Retired on"
    assert len(lines) == 2
    assert lines[0].endswith(f"active,dormant,31,{TODAY + timedelta(45)}")
    assert s.sweeps.due_file(rule, "xlsx").startswith(b"PK")
    assert list(s.sweep_rules.list()) == []


@pytest.mark.parametrize(
    ("changed", "words"),
    [
        ({"remind_days": 14}, "before the first"),
        ({"contacts": ("Petrel=nobody",)}, "nobody"),
        ({"brake_percent": 0}, "1 to 100"),
    ],
)
def test_rules_that_cannot_be_are_refused(
    world: World, changed: dict[str, object], words: str
) -> None:
    with pytest.raises(Refused, match=words):
        world.client().sweep_rules.add(Rule(name="r", **{**QUIET, **changed}))


def test_a_viewer_sees_when_and_changes_nothing(world: World) -> None:
    fleet(world, 1)
    world.client().sweep_rules.add(Rule(name="Quiet", **QUIET))
    s = world.client(Role.VIEWER)
    assert s.devices.show(1).sweep is not None
    with pytest.raises(Refused):
        s.sweep_rules.add(Rule(name="Other", **QUIET))


@pytest.mark.parametrize(("daily", "hours"), [(True, 24), (False, None)])
def test_a_rule_of_former_times_is_read_as_it_was_meant(daily: bool, hours: int | None) -> None:
    kept = {"name": "r", "idle_window_days": 30, "daily": daily}
    assert Rule.model_validate(kept).every_hours == hours


PEOPLE_FILTER = 'person.department eq "Deck" and person.groups eq "Crew"'


def test_rules_pools_and_acts_may_speak_of_people(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,maud@wrenmoor.example,Deck,Dunlin,Crew")
    s.agent.knock(knocking(a_pass(s, person="maud"), "KM-1"))
    fleet(world, 1)
    of_people = s.sweep_rules.add(Rule(name="Deck", filter=PEOPLE_FILTER, **QUIET))
    every = s.sweep_rules.add(Rule(name="All", idle_window_days=21, brake_percent=100))
    issuer = an_issuer(s, tmp_path, lambda: world.now)
    pool = s.pools.add(Pool(name="Charts", filter=PEOPLE_FILTER)).id
    assert len(s.pools.compare(pool, issuer.voucher("Charts", 1, 9)).latest) == 0
    s.sweep_rules.edit(
        every.id,
        Rule(name="All", idle_window_days=22, brake_percent=100),
        revision=every.revision,
    )
    world.later(days=25)
    labels = {count.label: count.count for count in s.sweeps.preview(every.id).counts}
    assert labels["left to “Deck”, whose window is longer"] == 1
    world.later(days=10)
    assert s.sweeps.preview(of_people.id).examples_total == 1
    chosen = Selection(filter=PEOPLE_FILTER)
    assert s.devices.preview_retire(chosen).examples_total == 1
    assert s.naming.preview(selection=chosen).title
    two = s.pools.compare(pool, issuer.voucher("Charts", 1, 1))
    assert [line.person_name for line in two.latest] == []
    s.pools.edit(pool, Pool(name="Charts", filter=f"{PEOPLE_FILTER} or id pr"), revision=1)
    found = s.pools.compare(pool, issuer.voucher("Charts", 1, 1))
    assert len(found.latest) == 1


def test_who_gives_a_sign_of_life_while_a_sweep_runs_is_in_use(world: World) -> None:
    """Whichever comes first: a device that was heard is never dormant afterwards, and the journal
    tells of every step.
    """
    s = world.client()
    credentials = fleet(world, 24)
    rule = s.sweep_rules.add(Rule(name="Quiet", **QUIET))

    def swept() -> None:
        with suppress(Refused):
            sweep(s, rule)

    for _round in range(6):
        world.later(days=31)
        with ThreadPoolExecutor(9) as pool:
            heard = [pool.submit(s.agent.check_in, one) for one in credentials[:12]]
            pool.submit(swept).result()
            assert all(one.result() for one in heard)
        swept()
        assert {s.devices.show(number).stage for number in range(1, 13)} == {Stage.ACTIVE}
        assert {s.devices.show(number).stage for number in range(13, 25)} == {Stage.DORMANT}
        for one in credentials[12:]:
            s.agent.check_in(one)
    stages = world.rows(
        "SELECT e.device_id, e.before ->> 'stage', e.after ->> 'stage' FROM journal_effects e"
        " WHERE e.after ? 'stage' ORDER BY e.device_id, e.entry_id"
    )
    for (device, _, became), (following, was, _) in pairwise(stages):
        assert device != following or became == was, device
    assert world.rows(
        "SELECT count(*) FROM devices d JOIN sightings s ON s.device_id = d.id"
        " WHERE d.seen_on = timezone('UTC', s.last_seen_at)::date"
    ) == [(24,)]


def test_a_sign_of_life_that_waited_for_a_sweep_wakes_its_device(world: World) -> None:
    """It was in use when the sign of life looked, and is dormant when it goes on."""
    [credential] = fleet(world, 1)
    s = world.client()
    world.later(days=31)
    waits = "SELECT count(*) FROM pg_stat_activity WHERE wait_event_type = 'Lock'"
    with (
        ThreadPoolExecutor(1) as pool,
        psycopg.connect(world.run.owner_url) as sweeping,
    ):
        sweeping.execute("UPDATE devices SET stage = 'dormant', retire_on = '2026-03-09'")
        heard = pool.submit(s.agent.check_in, credential)
        until = time.monotonic() + 20
        while world.rows(waits) == [(0,)]:
            assert time.monotonic() < until, "nobody waits"
            time.sleep(0.02)
        sweeping.commit()
        assert heard.result()
    assert s.devices.show(1).stage is Stage.ACTIVE
    assert next(iter(s.journal.list())).operation == "device.wake"
