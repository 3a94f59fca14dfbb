"""The Today page: everything that needs a hand, oldest first, each with a page and a command that
lead there.
"""

import shlex
from datetime import date
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

import click
from tests.worlds import (
    World,
    a_pass,
    change_baseline,
    hold,
    import_lot,
    import_people,
    knocking,
    manifest,
)

from sortitor.cli.main import root
from sortitor.core.vocabulary import Activation
from sortitor.schemas.licences import Pool
from sortitor.schemas.passes import PassTerms
from sortitor.schemas.sweeps import Rule
from sortitor.schemas.today import Today


def kinds(today: Today) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for item in today.items:
        found.setdefault(item.kind, []).append(item.title)
    return found


def test_an_empty_fleet_needs_nothing(world: World) -> None:
    today = world.client().today.show()
    assert (today.items, today.stages) == ([], {})


def everything_at_once(world: World, tmp_path: Path) -> None:
    """One of each thing that needs a hand."""
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew", "odo,Odo Gannet,,,,Crew")
    shared, own = a_pass(s, activation=Activation.SHARED), a_pass(s)
    for number in range(3):
        s.agent.knock(knocking(a_pass(s, person="maud"), f"MA-{number}"))
    s.agent.knock(knocking(a_pass(s, person="odo"), "OD-1"))
    for number in range(4):
        s.agent.knock(knocking(shared, f"SH-{number}"))
    s.agent.knock(knocking(own, "PA-1"))
    ended = s.passes.add(PassTerms(label="ended"))
    s.passes.revoke(ended.id, "over")
    s.agent.knock(knocking(ended.code, "RE-1"))
    s.people.set_left(2)
    change_baseline(s, quota=2)
    s.pools.add(Pool(name="Signage", seats=1))
    hold(s, 5, until=date(2026, 1, 20))
    s.sweep_rules.add(Rule(name="Quiet", idle_window_days=30))
    s.lots.check(manifest(tmp_path, ["serial", "NEW-1", "TBC"]))


def test_each_thing_is_named_once_with_its_number(world: World, tmp_path: Path) -> None:
    everything_at_once(world, tmp_path)
    today = world.client().today.show()
    assert kinds(today) == {
        "parked": ["1 device waits to be assigned"],
        "refused": ["1 device refused in the last 7 days"],
        "leavers": ["1 device of people who left"],
        "lot": ["Lot 1 “lot.csv”"],
        "pool": ["Signage is short of 8 seats"],
        "quota": ["1 person is over the quota"],
        "hold": ["The hold on DEVICE-00005 ends on 2026-01-20"],
    }
    assert today.stages == {"active": 8, "parked": 1}
    [lot] = [item for item in today.items if item.kind == "lot"]
    assert (lot.detail, lot.count) == ("1 to add, 0 to change, 1 needs a look", 1)
    world.later(days=31)
    later = kinds(world.client().today.show())
    assert later["sweep"] == ["9 devices past the idle window of “Quiet”"]
    assert "refused" not in later, "a week has passed"
    assert "hold" not in later, "it has ended"


def test_the_oldest_comes_first_and_what_has_no_time_last(world: World, tmp_path: Path) -> None:
    everything_at_once(world, tmp_path)
    times = [item.since_at for item in world.client().today.show().items]
    known = [time for time in times if time]
    assert known == sorted(known)
    assert times[: len(known)] == known


def test_what_is_counted_is_what_is_seen_there(world: World, tmp_path: Path) -> None:
    everything_at_once(world, tmp_path)
    s = world.client()
    items = {item.kind: item for item in s.today.show().items}
    [filter_text] = parse_qs(urlsplit(items["leavers"].page).query)["filter"]
    assert s.devices.count(filter=filter_text) == items["leavers"].count == 1
    assert items["quota"].page == "/people?over=1"
    assert [one.user_name for one in s.people.list(over_quota=True)] == ["maud"]


def test_every_item_leads_to_a_command_that_exists(world: World, tmp_path: Path) -> None:
    everything_at_once(world, tmp_path)
    world.later(days=1)
    for item in world.client().today.show().items:
        program, *words = shlex.split(item.command)
        assert program == "sortitor"
        command: click.Command = root
        while isinstance(command, click.Group):
            ctx = click.Context(command)
            found = command.get_command(ctx, words.pop(0))
            assert found is not None, item.command
            command = found
        assert command.make_context(command.name, words) is not None, item.command
        assert item.page.startswith("/")


def test_what_is_done_is_gone_from_the_list(world: World, tmp_path: Path) -> None:
    everything_at_once(world, tmp_path)
    s = world.client()
    s.lots.discard(1)
    s.pools.edit(1, Pool(name="Signage", seats=99))
    s.people.set_left(2, False)
    parked = next(iter(s.devices.list(filter='stage eq "parked"')))
    s.devices.assign(parked.id, None, s.devices.preview_assign(parked.id, None).digest)
    assert set(kinds(s.today.show())) == {"refused", "quota", "hold"}


def test_a_lot_applied_is_no_longer_asked_about(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial", "NEW-1"]))
    assert s.today.show().items == []
    assert s.today.show().stages == {"awaited": 1}
    import_lot(s, manifest(tmp_path, ["serial", "NEW-2", "TBC"]))
    [lot] = s.today.show().items
    assert (lot.detail, lot.count) == ("Applied; 1 row of it needs a look", 1)
