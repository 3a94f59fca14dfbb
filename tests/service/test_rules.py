"""Sweeps, licence pools, the gate, names, people, the journal: each from preview to revert."""

from datetime import date
from itertools import product
from pathlib import Path

import pytest
from tests.worlds import World, a_pass, hold, http, import_lot, import_people, knocking, manifest

from sortitor.client.errors import FactsMoved, Refused
from sortitor.core.errors import Conflict
from sortitor.core.licences.pools import needs_seat
from sortitor.core.vocabulary import Activation, Ownership, Platform, Stage
from sortitor.operations.sweeps import runs as sweeps
from sortitor.schemas.devices import Selection
from sortitor.schemas.gate import PlatformRule, Policy, Quota, VersionBounds
from sortitor.schemas.licences import Pool
from sortitor.schemas.naming import Template
from sortitor.schemas.sweeps import Rule
from sortitor.store import devices as store_devices


def fleet(world: World, count: int = 6) -> list[str]:
    """Credentials of shared devices let in now."""
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED, ownership=Ownership.CORPORATE)
    return [s.agent.knock(knocking(code, f"KM-00{i}")).credential or "" for i in range(count)]


def test_a_sweep_retires_what_its_preview_showed_and_comes_back(world: World) -> None:
    s = world.client()
    credentials = fleet(world)
    s.naming.save([Template(name="all", pattern="D-{n}")])
    rule = s.sweep_rules.add(Rule(name="Quiet", idle_window_days=30, brake_percent=100))
    world.later(days=29, hours=14)
    assert s.sweeps.preview(rule.id).examples_total == 0, "not yet"
    s.agent.check_in(credentials[0])
    held = next(iter(s.devices.list(query="KM-001"))).id
    world.later(hours=1)
    hold(s, held, until=date(2026, 4, 12))
    shown = s.sweeps.preview(rule.id)
    counts = {c.key: c.count for c in shown.counts}
    assert (counts["retired"], counts["on_hold"], counts["watched"]) == (4, 1, 6)
    assert sum(bar.count for bar in shown.bars) == 6
    assert (shown.bars_line_days, shown.apply_label) == (30, "Retire 4 devices")
    before = world.rows("SELECT id, stage, name FROM devices ORDER BY id")
    run = s.sweeps.apply(rule.id, shown.digest, "season over")
    assert (run.retired, s.devices.count(filter='stage eq "retired"')) == (4, 4)
    with pytest.raises(Exception, match="credential"):
        s.agent.check_in(credentials[5])
    s.sweeps.revert(run.id, s.sweeps.preview_revert(run.id).digest)
    assert world.rows("SELECT id, stage, name FROM devices ORDER BY id") == before
    s.agent.check_in(credentials[5])


def test_a_sweep_whose_facts_moved_is_shown_again(world: World) -> None:
    s = world.client()
    credentials = fleet(world, 3)
    rule = s.sweep_rules.add(Rule(name="Quiet", idle_window_days=21, brake_percent=100))
    world.later(days=40)
    shown = s.sweeps.preview(rule.id)
    s.agent.check_in(credentials[1])
    with pytest.raises(FactsMoved) as moved:
        s.sweeps.apply(rule.id, shown.digest)
    assert moved.value.preview.examples_total == 2
    assert s.devices.count(filter='stage eq "retired"') == 0


def test_a_name_given_to_another_meanwhile_is_not_taken_back(world: World) -> None:
    s = world.client()
    fleet(world, 2)
    first, second = (d.id for d in s.devices.list())
    s.devices.name(first, "LAMP-1")
    rule = s.sweep_rules.add(Rule(name="Quiet", idle_window_days=21, brake_percent=100))
    world.later(days=40)
    run = s.sweeps.apply(rule.id, s.sweeps.preview(rule.id).digest)
    fleet_again = (
        s.agent.knock(knocking(a_pass(s, activation=Activation.SHARED), "KM-900")).device_id or 0
    )
    s.devices.name(fleet_again, "lamp-1")
    shown = s.sweeps.preview_revert(run.id)
    assert any("another" in e.note for e in shown.examples)
    s.sweeps.revert(run.id, shown.digest)
    assert (s.devices.show(first).name, s.devices.show(second).stage) == (None, Stage.ACTIVE)


def test_the_schedule_sweeps_once_a_day_and_brakes(world: World) -> None:
    s = world.client()
    credentials = fleet(world, 6)
    s.sweep_rules.add(Rule(name="Daily", idle_window_days=30, every_hours=24, brake_percent=50))
    ctx = world.run.context("schedule")
    world.later(days=40)
    [run] = sweeps.run_scheduled(ctx)
    assert (run.state, s.devices.count(filter='stage eq "retired"')) == (
        "braked",
        0,
    ), "all six at once is too many"
    assert sweeps.run_scheduled(ctx) == [], "once a day"
    assert any("stopped" in item.title for item in s.today.show().items)
    world.later(days=1)
    for credential in credentials[:4]:
        s.agent.check_in(credential)
    [run] = sweeps.run_scheduled(ctx)
    assert (run.state, run.retired) == ("applied", 2)


@pytest.mark.parametrize("days", [20, 401])
def test_a_window_outside_its_bounds_says_them(world: World, days: int) -> None:
    with pytest.raises(Refused, match="21 to 400"):
        world.client().sweep_rules.add(Rule(name="r", idle_window_days=days))


def test_seats_needed_are_those_of_the_very_devices(world: World, tmp_path: Path) -> None:
    """The database and the core count the same, and the count leads to its devices."""
    s = world.client()
    lines = [f"S{i:04},{p},{o}" for i, (p, o) in enumerate(product([*Platform, ""], Ownership))]
    import_lot(s, manifest(tmp_path, ["serial,platform,ownership", *lines]))
    world.rows(
        "UPDATE devices SET stage = (ARRAY['awaited', 'parked', 'active', 'dormant', 'retired'])[1"
        " + id %% 5], enrolled_at = now()"
    )
    import_people(s, tmp_path, *(f"p{n},Person {n},,Deck,Dunlin,Crew" for n in range(7)))
    world.rows(
        "UPDATE devices SET person_id = (SELECT id FROM people WHERE user_name = 'p' || devices.id"
        " %% 9)"
    )
    choices = [
        (None, False),
        ('platform eq "android"', True),
        ('(platform eq "linux" or platform eq "ios") and ownership eq "corporate"', False),
        ('ownership eq "unknown"', True),
    ]
    devices = list(s.devices.list())
    for number, (filter_text, awaited) in enumerate(choices):
        pool = s.pools.add(
            Pool(name=f"pool {number}", seats=3, filter=filter_text, awaited_too=awaited)
        )
        core = Pool(name="p", seats=3, filter=filter_text, awaited_too=awaited)
        wanted = {
            d.id
            for d in devices
            if needs_seat(
                core, {"stage": d.stage, "platform": d.platform, "ownership": d.ownership}
            )
        }
        assert pool.needed == len(wanted)
        assert {d.id for d in s.devices.list(pool=pool.id)} == wanted
        theirs = {d.person_id for d in s.devices.list() if d.id in wanted} - {None}
        assert {one.id for one in s.people.list(pool=pool.name)} == theirs
        assert pool.state == ("short" if len(wanted) > 3 else "covered")


def test_a_pool_changed_by_two_at_once(world: World) -> None:
    s = world.client()
    pool = s.pools.add(Pool(name="Signage", seats=5))
    with http(world) as client:
        tag = client.get(f"/api/v1/pools/{pool.id}").headers["etag"]
        body = {"name": "Signage", "seats": 6}
        assert (
            client.put(f"/api/v1/pools/{pool.id}", json=body, headers={"If-Match": tag}).status_code
            == 200
        )
        stale = client.put(f"/api/v1/pools/{pool.id}", json=body, headers={"If-Match": tag})
        assert (stale.status_code, stale.json()["code"]) == (412, "stale")
    with pytest.raises(Refused, match="already"):
        s.pools.add(Pool(name="SIGNAGE", seats=1))


def revert_last(world: World, operation: str) -> None:
    s = world.client()
    entry = next(iter(s.journal.list(operation)))
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest, "a mistake")


def test_a_gate_is_previewed_against_the_fleet_applied_and_taken_back(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, *(f"p{i},P {i},,,,Crew" for i in range(3)))
    fleet(world, 4)
    code = a_pass(s, person="p0")
    for serial in ("X-1", "X-2", "X-3"):
        s.agent.knock(knocking(code, serial))
    was = s.gate.show().policies
    strict = PlatformRule(open=True, versions=VersionBounds(oldest="15"))
    baseline = was[-1].model_copy(
        update={"platforms": {**was[-1].platforms, Platform.ANDROID: strict}}
    )
    proposed = [Policy(name="Crew", groups=["crew"], quota=Quota(devices=2)), *was[:-1], baseline]
    shown = s.gate.preview(proposed)
    counts = {c.key: c.count for c in shown.counts}
    assert (counts["refused"], counts["over_quota"]) == (7, 1)
    assert any(e.subject == "p0" for e in shown.examples)
    s.gate.apply(proposed, shown.digest, "new season")
    assert s.agent.knock(knocking(code, "X-9")).codes == [
        "os_too_old",
        "quota_reached",
    ]
    assert s.devices.count(filter='stage eq "active"') == 7, "nobody loses a device"
    revert_last(world, "gate.edit")
    assert s.gate.show().policies == was


def test_renaming_is_previewed_applied_and_taken_back_and_names_by_hand_stay(world: World) -> None:
    s = world.client()
    fleet(world, 4)
    devices = list(s.devices.list())
    s.devices.name(devices[0].id, "BY-HAND")
    before = world.rows("SELECT id, name FROM devices ORDER BY id")
    s.naming.save([Template(name="deck", pattern="DECK-{n|pad 4}")])
    shown = s.naming.preview()
    assert {c.key: c.count for c in shown.counts}["renamed"] == 3
    s.naming.rename(shown.digest)
    assert [d.name for d in s.devices.list()] == ["BY-HAND", "DECK-0001", "DECK-0002", "DECK-0003"]
    revert_last(world, "device.rename")
    assert world.rows("SELECT id, name FROM devices ORDER BY id") == before


def test_declaring_a_selection_keeps_the_basis_and_shows_what_turns_corporate(world: World) -> None:
    s = world.client()
    code = a_pass(s)
    for serial in ("A-1", "A-2"):
        s.agent.knock(knocking(code, serial))
    selection = Selection(filter='ownership eq "personal"')
    shown = s.devices.preview_declare(selection, Ownership.CORPORATE)
    assert any("personal" in warning for warning in shown.warnings)
    s.devices.declare(selection, Ownership.CORPORATE, shown.digest, "bought from the crew")
    assert {(d.ownership, s.devices.show(d.id).ownership_basis) for d in s.devices.list()} == {
        (Ownership.CORPORATE, "manual")
    }


def test_people_come_whole_or_not_at_all_and_blanks_erase_nothing(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,maud@wrenmoor.example,Deck,Dunlin,Crew;Officers")
    import_people(s, tmp_path, "MAUD,,,Engine,,", "odo,Odo Gannet,,,,Crew")
    [maud] = s.people.list(query="maud")
    assert (maud.name, maud.department, maud.site, sorted(maud.groups)) == (
        "Maud Fenwick",
        "Engine",
        "Dunlin",
        ["Crew", "Officers"],
    )
    with pytest.raises(Refused, match="row 3"):
        import_people(s, tmp_path, "ann,Ann,,,,", "an n,Bad Name,,,,")
    assert len(list(s.people.list())) == 2
    assert {g.name: g.people for g in s.groups.list()} == {"Crew": 2, "Officers": 1}
    assert s.people.show(maud.id).quotas[0].devices == 5


def test_the_journal_only_grows(world: World) -> None:
    s = world.client()
    s.pools.add(Pool(name="p", seats=1))
    for statement in (
        "UPDATE journal SET actor = 'x'",
        "DELETE FROM journal",
        "TRUNCATE journal_effects",
        "DELETE FROM journal_effects",
    ):
        with pytest.raises(Exception, match="append-only"):
            world.rows(statement)
    entry = next(iter(s.journal.list("pool")))
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    with pytest.raises(Refused, match="reverted by"):
        s.journal.preview_revert(entry.id)
    assert s.pools.list() == []


def test_search_finds_a_device_by_whatever_is_on_the_box(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew")
    import_lot(
        s,
        manifest(
            tmp_path,
            [
                "serial,maker,imei,asset tag,person",
                "KM-77-1234,Kelmar,490154203237518,WL-0042,maud",
                "ZZ-9,Ondry,,,",
            ],
        ),
    )
    for query in (
        "KM-77-1234",
        "km-77-1234",
        "1234",
        "7518",
        "49-015420-323751-8",
        "49015420323751",
        "wl-0042",
        "fenwick",
        "maud",
        "KM-77",
    ):
        assert [d.serial for d in s.devices.list(query=query)] == ["KM-77-1234"], query
    assert list(s.devices.list(query="nothing")) == []


@pytest.mark.parametrize("sort", ["id", "name", "site", "model", "stage", "seen"])
@pytest.mark.parametrize("descending", [False, True])
def test_pages_hold_every_device_once_in_order(
    world: World, tmp_path: Path, sort: str, descending: bool
) -> None:
    s = world.client()
    import_lot(
        s,
        manifest(
            tmp_path,
            [
                "serial,site,model",
                *(
                    f"S-{i:03},{['', 'Ärmel', 'dunlin', 'Petrel'][i % 4]},M{i % 3}"
                    for i in range(23)
                ),
            ],
        ),
    )
    with http(world) as client:
        url: str | None = f"/api/v1/devices?sort={sort}&descending={descending}&limit=5"
        ids: list[int] = []
        while url:
            answer = client.get(url)
            assert len(answer.json()["items"]) <= 5
            ids += [d["id"] for d in answer.json()["items"]]
            url = answer.links.get("next", {}).get("url")
        whole = client.get(f"/api/v1/devices?sort={sort}&descending={descending}&limit=500").json()[
            "items"
        ]
    assert len(ids) == len(set(ids)) == 23
    assert ids == [d["id"] for d in whole]


def test_a_stage_that_may_not_follow_is_refused_whole(world: World, tmp_path: Path) -> None:
    """Whatever operation asks for it: the one door for devices refuses, and names both stages."""
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial", "KM-1", "KM-2"]), platform="android")
    ctx = world.run.context("schedule")
    before = world.rows("SELECT * FROM devices ORDER BY id")
    patches = {1: {"stage": "retired"}, 2: {"stage": "dormant"}}
    refusing = pytest.raises(Conflict, match="it cannot become dormant")
    with refusing as refused, ctx.changing() as connection:
        entry = ctx.record(connection, "device.change", "devices", "Two devices changed")
        store_devices.patch_each(connection, entry, patches)
    assert refused.value.code == "wrong_stage"
    assert "awaited" in refused.value.detail
    assert world.rows("SELECT * FROM devices ORDER BY id") == before
    assert not list(s.journal.list(operation="device.change"))
