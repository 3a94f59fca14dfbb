"""Filters over HTTP and SQL: the database and the core say the same of every device."""

from pathlib import Path

import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.worlds import World, imei, import_lot, import_people, manifest

from sortitor.client.errors import Refused
from sortitor.core.filters import ATTRIBUTES, OPERATORS, Kind, matches, parse
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Ownership
from sortitor.schemas import devices as d
from sortitor.schemas.cohorts import CohortNew
from sortitor.schemas.orders import OrderLineNew, OrderNew
from sortitor.store import devices as store
from sortitor.store.engine import transaction
from sortitor.store.filters import facts

SITES = ["Dunlin", "dunlin", "Ärmel", "ärmel quay", "İstanbul", "ΣΑΣ", "straße", "", "100%_\\", "漁港"]
VERSIONS = ["10", "10.0", "10.0.1", "9.9", "11", "", "x.1", "10.00", "0", "0.0"]


def furnish(world: World, tmp_path: Path) -> None:
    """Devices with gaps, accents, odd versions and times at boundaries."""
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,Deck,Dunlin,Crew;Officers", "odo,Odo Gannet,,,,Crew", "ivo,Ivo Ärmel,,,,")
    lines = [
        f'S-{i:03},{["Kelmar", "", "Ondry"][i % 3]},{imei(i + 1) if i % 4 else ""},"{SITES[i % len(SITES)]}",{["android", "ios", ""][i % 3]},{["maud", "odo", "ivo", ""][i % 4]},'
        f'{["a;Spare", "", "b"][i % 3]},{["2026-01-09", "", "2025-12-31"][i % 3]}'
        for i in range(40)
    ]
    import_lot(s, manifest(tmp_path, ["serial,maker,imei,site,platform,person,tags,purchased on", *lines]))
    for number, version in enumerate(VERSIONS):
        world.rows("UPDATE devices SET os_version = nullif(%s, ''), last_seen_at = %s::timestamptz - make_interval(days => %s, secs => %s) WHERE id %% 10 = %s",
                   version, world.now, number * 30, number % 2, number)  # fmt: skip
    world.rows("UPDATE devices SET last_seen_at = NULL WHERE id % 7 = 0".replace("%", "%%"))


def values(kind: Kind) -> st.SearchStrategy[str]:
    quoted = lambda texts: st.sampled_from(texts).map(lambda text: '"' + text.replace("\\", "\\\\") + '"')  # noqa: E731
    return {
        Kind.TEXT: quoted([*SITES, "DUN", "rmel", "Kelmar", "maud", "Maud", "%", "_", "ι"]), Kind.TRUTH: st.sampled_from(["true", "false"]),
        Kind.TEXTS: quoted(["spare", "A", "crew", "Officers", "S-00", "S-001", "3569380"]), Kind.VERSION: quoted([v for v in VERSIONS if v and v != "x.1"]),
        Kind.NUMBER: st.integers(-1, 300).map(str), Kind.DAY: quoted(["2026-01-09", "2025-12-31", "2026-01-01"]),
        Kind.TIME: quoted(["2026-01-17T09:00:00Z", "2025-12-18T09:00:00+00:00", "2025-12-18T08:59:59Z"]),
    }[kind]  # fmt: skip


@st.composite
def comparisons(draw: st.DrawFn) -> str:
    name = draw(st.sampled_from(list(ATTRIBUTES)))
    known = ATTRIBUTES[name]
    operator = draw(st.sampled_from(OPERATORS[known.kind]))
    if operator == "pr":
        return f"{name} pr"
    value = st.sampled_from(known.words).map(lambda word: f'"{word.upper()}"') if known.words else values(known.kind)
    return f"{name} {operator} {draw(value)}"


trees = st.recursive(
    comparisons(),
    lambda inner: st.one_of(inner.map(lambda one: f"not ({one})"), st.tuples(inner, st.sampled_from(["and", "or"]), inner).map(lambda three: f"({three[0]}) {three[1]} ({three[2]})")),
    max_leaves=5,
)


def test_the_database_and_the_core_agree(world: World, tmp_path: Path) -> None:
    furnish(world, tmp_path)
    s = world.client()
    s.orders.add(OrderNew(name="wl-1", supplier="Dunlin", lines=[OrderLineNew(product="x", quantity=1)]))
    world.rows("UPDATE devices SET order_name = 'WL-1' WHERE id %% 3 = 0")
    world.rows("INSERT INTO holds (device_id, reason, until_on, created_by, created_at) SELECT id, 'x', %s::date - 1 + (id %% 3)::int, 'x', now() FROM devices WHERE id %% 4 = 0", world.now)
    world.rows("UPDATE people SET left_at = now() WHERE user_name = 'odo'")
    s.cohorts.add(CohortNew(name="Crew", filter='person.groups eq "crew"'))
    s.cohorts.add(CohortNew(name="Officers", filter='imei pr'))
    with transaction(world.run.engine) as connection:
        fleet = facts(connection, range(1, 1000), world.now)

    @settings(max_examples=300, deadline=None)
    @given(trees)
    def agree(text: str) -> None:
        found = parse(text)
        with transaction(world.run.engine) as connection:
            by_sql = {row.id for row in store.page(connection, Selection(filter=found), world.now, "id", False, None, 500)}
        assert by_sql == {number for number, device in fleet.items() if matches(found, device)[0]}, text

    agree()


def test_a_filter_is_taken_wherever_devices_are_chosen(world: World, tmp_path: Path) -> None:
    furnish(world, tmp_path)
    s = world.client()
    wanted = 'site sw "dun" and not (tags eq "spare")'
    found = {x.id for x in s.devices.list(filter=wanted)}
    assert found
    assert s.devices.count(filter=wanted) == len(found)
    assert s.devices.csv(filter=wanted).count("\r\n") == len(found) + 1
    selection = d.Selection(filter=wanted)
    shown = s.devices.preview_declare(selection, Ownership.PARTNER)
    assert shown.examples_total == len(found)
    s.devices.declare(selection, Ownership.PARTNER, shown.digest)
    assert {x.id for x in s.devices.list(filter='ownership eq "partner"')} == found
    exported = pl.read_excel(s.devices.file("xlsx", ["name", "serial", "person.groups", "idleDays"], filter=wanted))
    assert exported.columns == ["name", "serial", "person.groups", "idleDays"]
    assert exported.height == len(found)
    with pytest.raises(Refused, match="did you mean site"):
        list(s.devices.list(filter='sitte eq "x"'))
