"""Filters over HTTP and SQL: the database and the core say the same of every device."""

from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import select
from tests.draws import first_of
from tests.worlds import World, imei, import_lot, import_people, manifest

from sortitor.client.errors import Refused
from sortitor.core.filters import ATTRIBUTES, OPERATORS, Kind, matches, parse
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Ownership
from sortitor.schemas import devices as d
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.orders import Order, OrderLine
from sortitor.store import devices as store
from sortitor.store.devices import lists
from sortitor.store.engine import transaction
from sortitor.store.filters import facts
from sortitor.store.tables import ORDERS, devices

SITES = [
    "Dunlin",
    "dunlin",
    "Ärmel",
    "ärmel quay",
    "İstanbul",
    "ΣΑΣ",
    "straße",
    "",
    "100%_\\",
    "漁港",
    "\uffffx",
    "\U0010ffff\U0010ffff",
    "\ud7ff\ue000",
]
VERSIONS = [
    "10",
    "10.0",
    "10.0.1",
    "9.9",
    "11",
    "",
    "x.1",
    "10.00",
    "0",
    "0.0",
    "10.0.22631.4460",
    "1234567890",
    "1.2.3.4.5.6.7.8.9",
    "1.2.3.4.5.6.7.0",
    "10.",
    "999999999.1",
]


def furnish(world: World, tmp_path: Path) -> None:
    """Devices with gaps, accents, odd versions and times at boundaries."""
    s = world.client()
    import_people(
        s,
        tmp_path,
        "maud,Maud Fenwick,,Deck,Dunlin,Crew;Officers",
        "odo,Odo Gannet,,,,Crew",
        "ivo,Ivo Ärmel,,,,",
    )
    lines = [
        f"S-{i:03},{['Kelmar', '', 'Ondry'][i % 3]},{imei(i + 1) if i % 4 else ''},"
        f'"{SITES[i % len(SITES)]}",{["android", "ios", ""][i % 3]},'
        f"{['maud', 'odo', 'ivo', ''][i % 4]},"
        f"{['a;Spare', '', 'b'][i % 3]},{['2026-01-09', '', '2025-12-31'][i % 3]}"
        for i in range(40)
    ]
    import_lot(
        s, manifest(tmp_path, ["serial,maker,imei,site,platform,person,tags,purchased on", *lines])
    )
    for number, version in enumerate(VERSIONS):
        these = f"id %% {len(VERSIONS)} = {number}"
        world.rows(f"UPDATE devices SET os_version = nullif(%s, '') WHERE {these}", version)
        world.saw(these, world.now - timedelta(days=number * 30, seconds=number % 2))
    world.saw("id %% 7 = 0", None)


def values(kind: Kind) -> st.SearchStrategy[str]:
    def quoted(texts: list[str]) -> st.SearchStrategy[str]:
        return st.sampled_from(texts).map(lambda text: '"' + text.replace("\\", "\\\\") + '"')

    return {
        Kind.TEXT: quoted(
            [
                *SITES,
                "DUN",
                "rmel",
                "Kelmar",
                "maud",
                "Maud",
                "%",
                "_",
                "ι",
                "\uffff",
                "\U0010ffff",
                "d\U0010ffff",
                "\ud7ff",
            ]
        ),
        Kind.TRUTH: st.sampled_from(["true", "false"]),
        Kind.TEXTS: quoted(["spare", "A", "crew", "Officers", "S-00", "S-001", "3569380"]),
        Kind.VERSION: quoted(
            [
                "10",
                "10.0",
                "10.0.1",
                "9.9",
                "0",
                "0.0",
                "10.0.22631.4460",
                "10.0.22631",
                "1.2.3.4.5.6.7",
                "1.2.3.4.5.6.7.1",
                "999999999",
            ]
        ),
        Kind.NUMBER: st.one_of(
            st.integers(-1, 500).map(str),
            st.sampled_from(["30.0", "29.5", "30.5", "-0.5", "0.5", "1000000000"]),
        ),
        Kind.DAY: quoted(["2026-01-09", "2025-12-31", "2026-01-01"]),
        Kind.TIME: quoted(
            ["2026-01-17T09:00:00Z", "2025-12-18T09:00:00+00:00", "2025-12-18T08:59:59Z"]
        ),
    }[kind]


@st.composite
def comparisons(draw: st.DrawFn) -> str:
    name = draw(st.sampled_from(list(ATTRIBUTES)))
    known = ATTRIBUTES[name]
    operator = draw(st.sampled_from(OPERATORS[known.kind]))
    if operator == "pr":
        return f"{name} pr"
    value = (
        st.sampled_from(known.words).map(lambda word: f'"{word.upper()}"')
        if known.words
        else values(known.kind)
    )
    return f"{name} {operator} {draw(value)}"


def opposites() -> Iterator[str]:
    """Every comparison that there is, turned round, once more and twice."""
    values = {
        Kind.TEXT: '"dun"',
        Kind.TEXTS: '"spare"',
        Kind.TRUTH: "true",
        Kind.VERSION: '"10.0"',
        Kind.NUMBER: "30",
        Kind.DAY: '"2026-01-09"',
        Kind.TIME: '"2026-01-17T09:00:00Z"',
    }
    for name, known in ATTRIBUTES.items():
        value = f'"{known.words[0]}"' if known.words else values[known.kind]
        for operator in OPERATORS[known.kind]:
            said = f"{name} pr" if operator == "pr" else f"{name} {operator} {value}"
            yield f"not ({said})"
            yield f"not (not ({said}))"


trees = st.recursive(
    comparisons(),
    lambda inner: st.one_of(
        inner.map(lambda one: f"not ({one})"),
        st.tuples(inner, st.sampled_from(["and", "or"]), inner).map(
            lambda three: f"({three[0]}) {three[1]} ({three[2]})"
        ),
    ),
    max_leaves=5,
)


def test_the_database_and_the_core_agree(world: World, tmp_path: Path) -> None:
    furnish(world, tmp_path)
    s = world.client()
    s.orders.add(Order(name="wl-1", supplier="Dunlin", lines=[OrderLine(product="x", quantity=1)]))
    world.rows("UPDATE devices SET order_name = 'WL-1' WHERE id %% 3 = 0")
    world.rows(
        "WITH h AS (INSERT INTO holds (reason, owner, from_on, until_on, created_by, created_at)"
        " SELECT 'x', 'x', %s::date - 5, %s::date + n - 1, 'x', now() FROM generate_series(0, 2) n"
        " RETURNING id) INSERT INTO hold_devices SELECT h.id, d.id FROM h, devices d"
        " WHERE d.id %% 4 = 0 AND d.id %% 3 = h.id %% 3",
        world.now,
        world.now,
    )
    world.rows("UPDATE people SET left_at = now() WHERE user_name = 'odo'")
    s.cohorts.add(Cohort(name="Crew", filter='person.groups eq "crew"'))
    s.cohorts.add(Cohort(name="Officers", filter="imei pr"))
    with transaction(world.run.engine) as connection:
        fleet = facts(connection, range(1, 1000), world.now)

    def agree(text: str) -> None:
        found = parse(text)
        with transaction(world.run.engine) as connection:
            by_sql = {
                row.id
                for row in store.page(
                    connection, Selection(filter=found), world.now, "id", False, None, 500
                )
            }
            first = store.page(connection, Selection(filter=found), world.now, "id", False, None, 1)
        assert by_sql == {
            number for number, device in fleet.items() if matches(found, device)[0]
        }, text
        assert [row.id for row in first] == sorted(by_sql)[:1], text

    for text in opposites():
        agree(text)
    settings(max_examples=300, deadline=None)(given(trees)(agree))()


@pytest.mark.parametrize("reach", first_of((2, 8), (2_000, 20_000)))
def test_a_page_is_the_same_however_it_is_found(
    world: World, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, reach: tuple[int, int]
) -> None:
    furnish(world, tmp_path)
    s = world.client()
    s.cohorts.add(Cohort(name="Quay", filter='site sw "d" and (platform pr or tags pr)'))
    listed = s.cohorts.add(Cohort(name="Listed"))
    given = d.Selection(filter='maker eq "Ondry"')
    s.cohorts.change_list(listed.id, given, s.cohorts.preview_list(listed.id, given).digest)
    filters = [
        "id pr",
        'cohorts eq "QUAY"',
        'idleDays lt 200 and cohorts eq "Quay"',
        'cohorts eq "listed"',
        'site eq "dunlin"',
        'site sw "ä" and idleDays lt 200',
        'tags eq "spare" or platform eq "ios"',
        "idleDays ge 90",
        'name eq "nobody"',
    ]
    for sort, descending, text in [
        (sort, descending, text)
        for sort in ORDERS
        for descending in (False, True)
        for text in filters
    ]:
        selection = Selection(filter=parse(text))
        with transaction(world.run.engine) as connection:
            whole = store.page(connection, selection, world.now, sort, descending, None, 500)
            assert {row.id for row in whole} == set(store.ids(connection, selection, world.now))
            assert [(row.sort_key, row.id) for row in whole] == sorted(
                ((row.sort_key, row.id) for row in whole), reverse=descending
            )
            monkeypatch.setattr(lists, "_LOOK", reach[0])
            monkeypatch.setattr(lists, "_WALK", reach[1])
            found, after = [], None
            while page := store.page(connection, selection, world.now, sort, descending, after, 9):
                found += [row.id for row in page]
                after = (
                    page[-1].sort_key.isoformat() if sort == "seen" else page[-1].sort_key,
                    page[-1].id,
                )
            monkeypatch.undo()
        assert found == [row.id for row in whole], (sort, descending, text)


INDEXES = {
    'site eq "Quay 7"': "ix_devices_by_site",
    'site sw "Quay 3"': "ix_devices_by_site",
    'platform eq "ios"': "ix_devices_platform",
    'model eq "Model 11"': "ix_devices_by_model",
    'name sw "deck-12"': "ix_devices_by_name",
    'stage eq "parked"': "ix_devices_by_stage",
    "idleDays ge 900": "ix_devices_by_seen",
    'tags eq "spare"': "ix_devices_tags",
    'flag eq "stolen"': "ix_devices_flag",
    'assetTag eq "WM-1"': "ix_devices_asset_tag",
    'serial eq "sn-1"': "pk_identifiers",
    'serial sw "sn-12"': "pk_identifiers",
    'person.userName eq "maud"': "ix_devices_person_id",
    'cohorts eq "Crew"': "pk_devices",
    'person.groups eq "crew"': "ix_devices_person_id",
}


def test_a_filter_finds_its_devices_by_an_index(world: World) -> None:
    world.rows(
        "INSERT INTO people (user_name, name) SELECT 'p' || n, 'P' FROM generate_series(1, 500) n"
        " RETURNING id"
    )
    world.rows(
        """
        INSERT INTO devices (stage, stage_at, name, site, model, person_id, created_at, tags)
        SELECT CASE WHEN n % 90 = 0 THEN 'parked' ELSE 'awaited'
            END, now(), 'DECK-' || n, 'Quay ' || n % 50, 'Model ' || n % 90, 1 + n % 500,
            %s::timestamptz - make_interval(days => n / 10),
            CASE WHEN n % 100 = 0 THEN ARRAY['Spare'] ELSE '{}' END FROM generate_series(1, 10000) n
                RETURNING id
        """.replace("%", "%%").replace("%%s", "%s"),
        world.now,
    )
    world.rows(
        "INSERT INTO identifiers (kind, value, device_id) SELECT 'serial', 'SN-' || id, id FROM"
        " devices RETURNING kind"
    )
    world.saw("true", None)
    world.rows("ANALYZE devices, sightings, identifiers, people, memberships, cohort_members")
    for text, index in INDEXES.items():
        with transaction(world.run.engine) as connection:
            query = (
                select(devices.c.id)
                .where(store.matching(Selection(filter=parse(text)), world.now))
                .compile(connection, compile_kwargs={"literal_binds": True})
            )
            plan = "\n".join(
                row[0]
                for row in connection.exec_driver_sql(
                    f"EXPLAIN {query}".replace("%%", "%").replace("%", "%%")
                )
            )
        assert index in plan, (text, plan)
        assert "Seq Scan on devices" not in plan, (text, plan)


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
    exported = pl.read_excel(
        s.devices.file("xlsx", ["name", "serial", "person.groups", "idleDays"], filter=wanted)
    )
    assert exported.columns == ["name", "serial", "person.groups", "idleDays"]
    assert exported.height == len(found)
    with pytest.raises(Refused, match="did you mean site"):
        list(s.devices.list(filter='sitte eq "x"'))
