"""Numbers of a large fleet are kept for a moment: what is kept is what was counted, it is counted
again meanwhile, and of something else at once.
"""

import json
import time
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from random import Random
from typing import Any

import pytest
from tests.draws import first_of
from tests.service.test_today import everything_at_once
from tests.worlds import World, a_pass, change_baseline, import_lot, knocking, manifest

from sortitor.client import Sortitor
from sortitor.core.orders import Order, OrderLine
from sortitor.core.vocabulary import Activation
from sortitor.operations import kept_numbers
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.devices import Selection
from sortitor.schemas.sweeps import Rule

NEVER = 1e9


@pytest.fixture
def slow(monkeypatch: pytest.MonkeyPatch) -> Callable[[float], None]:
    """From how many seconds on numbers are kept; counted again for each reader who finds them."""
    # Whatever the statistics say: a fleet that was never analysed has -1 devices.
    monkeypatch.setattr(kept_numbers, "LARGE_FLEET", -1)
    monkeypatch.setattr(kept_numbers, "_FRESH", timedelta(0))
    monkeypatch.setattr(kept_numbers, "_SHARE", NEVER)

    def set_to(seconds: float) -> None:
        monkeypatch.setattr(kept_numbers, "SLOW_SECONDS", seconds)

    return set_to


def told(s: Sortitor) -> dict[str, Any]:
    """All that is kept of a large fleet, as it is read."""
    today = s.today.show()
    return {
        "today": [(item.kind, item.title, item.count) for item in today.items],
        "stages": today.stages,
        "cohorts": {one.name: one.devices for one in s.cohorts.list()},
        "facets": s._transport.http.get("/devices/facets").json(),
        "sites": s.filters.values("site"),
        "ends": [(one.title, one.ends_on) for one in s.ends.list()],
        "orders": {one.name: (one.delivered, one.arrived) for one in s.orders.list()},
        "over": [one.user_name for one in s.people.list(over_quota=True)],
    }


def live(s: Sortitor, random: Random, folder: Path, code: str, turn: int) -> None:
    """One thing that moves some of these numbers."""
    act = random.randrange(6)
    if act == 0:
        row = f"LV-{turn},Quay {turn % 3},wl-{turn % 2}"
        path = manifest(folder, ["serial,site,order", row], f"{turn}.csv")
        import_lot(s, path, platform="android", ownership="corporate")
    elif act == 1:
        s.agent.knock(knocking(code, f"KN-{turn}"))
    elif act == 2:
        change_baseline(s, quota=random.randint(1, 4))
    elif act == 3:
        device = random.choice(list(s.devices.list()))
        chosen = Selection(ids=[device.id])
        preview = s.devices.preview_retire(chosen)
        s.devices.retire(chosen, preview.digest)
    elif act == 4:
        s.orders.add(Order(name=f"WL-{turn + 2}", lines=(OrderLine(product="Mate 3", quantity=4),)))
    else:
        s.sweep_rules.add(Rule(name=f"Rule {turn}", idle_window_days=30 + turn))


@pytest.mark.parametrize("seed", first_of(0, 1, 2))
def test_what_is_kept_is_what_would_be_counted(
    world: World, tmp_path: Path, slow: Callable[[float], None], seed: int
) -> None:
    everything_at_once(world, tmp_path)
    s, random = world.client(), Random(seed)
    code = a_pass(s, activation=Activation.SHARED)
    s.cohorts.add(Cohort(name="Androids", filter='platform eq "android"'))
    s.cohorts.add(Cohort(name="Quiet", filter="idleDays ge 3"))
    for name in ("WL-0", "WL-1"):
        s.orders.add(Order(name=name, lines=(OrderLine(product="Mate 3", quantity=4),)))
    for turn in range(8):
        live(s, random, tmp_path, code, turn)
        kept = world.rows("SELECT * FROM kept_numbers")
        slow(NEVER)
        world.rows("DELETE FROM kept_numbers RETURNING 1")
        counted = told(s)
        slow(0)
        for row in kept:
            marks = ", ".join("%s::jsonb" if place == 2 else "%s" for place in range(len(row)))
            values = [json.dumps(value) if place == 2 else value for place, value in enumerate(row)]
            world.rows(f"INSERT INTO kept_numbers VALUES ({marks}) RETURNING 1", *values)
        # Whoever comes first may find what was kept before; it is counted again meanwhile.
        until = time.monotonic() + 20
        while told(s) != counted:
            assert time.monotonic() < until, (told(s), counted)
            time.sleep(0.05)
        kept = world.rows("SELECT family FROM kept_numbers")
        assert {row[0] for row in kept} >= {"fleet", "quota", "due", "cohorts", "facets", "orders"}


def test_readers_get_what_was_counted_last_and_are_told_its_age(
    world: World, tmp_path: Path, slow: Callable[[float], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    everything_at_once(world, tmp_path)
    s = world.client()
    s.orders.add(Order(name="WL-1", lines=(OrderLine(product="Mate 3", quantity=4),)))
    slow(0)
    monkeypatch.setattr(kept_numbers, "_FRESH", timedelta(minutes=1))
    before = s.today.show().stages
    assert [one.age_seconds for one in s.orders.list()] == [0]
    world.rows("UPDATE kept_numbers SET counted_at = counted_at - interval '40 s' RETURNING 1")
    s.agent.knock(knocking(a_pass(s, activation=Activation.SHARED), "NEW-1"))
    found = s.today.show()
    assert found.stages == before
    assert 40 <= found.age_seconds < 60
    [order] = s.orders.list()
    assert 40 <= order.age_seconds < 60
    assert s.orders.show("WL-1").age_seconds == 0
    # Older than a quarter of an hour is nobody's answer.
    world.rows("UPDATE kept_numbers SET counted_at = counted_at - interval '1 h' RETURNING 1")
    found = s.today.show()
    assert sum(found.stages.values()) == sum(before.values()) + 1
    assert found.age_seconds == 0


def test_of_something_else_is_counted_at_once(
    world: World, tmp_path: Path, slow: Callable[[float], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    """A rule, a cohort or a gate that was changed a moment ago is not told by its former number."""
    everything_at_once(world, tmp_path)
    s = world.client()
    slow(0)
    monkeypatch.setattr(kept_numbers, "_FRESH", timedelta(minutes=1))
    s.cohorts.add(Cohort(name="Androids", filter='platform eq "android"'))
    first = {one.name: one.devices for one in s.cohorts.list()}
    s.cohorts.add(Cohort(name="Serials", filter='serial sw "MA"'))
    assert {one.name: one.devices for one in s.cohorts.list()} == {**first, "Serials": 3}
    change_baseline(s, quota=50)
    assert [one for one in s.people.list(over_quota=True)] == []


def test_a_small_fleet_is_counted_for_every_reader(world: World, tmp_path: Path) -> None:
    everything_at_once(world, tmp_path)
    s = world.client()
    assert s.today.show().age_seconds == 0
    s.agent.knock(knocking(a_pass(s), "NEW-1"))
    assert s.today.show().stages["parked"] == 2
