"""Filters over HTTP and SQL: the database and the core say the same of every device."""

from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.worlds import World, imei, import_lot, import_people, manifest

from sortitor.client.errors import Refused
from sortitor.core.filters import ATTRIBUTES, OPERATORS, Kind, matches, parse
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Ownership
from sortitor.schemas import devices as d
from sortitor.store import devices as store
from sortitor.store.engine import transaction

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


def facts(world: World) -> dict[int, dict[str, object]]:
    """Every device as the core sees it."""
    columns = {
        "stage": "stage", "platform": "platform", "ownership": "ownership", "ownershipBasis": "ownership_basis", "flag": "flag", "osVersion": "os_version", "name": "d.name",
        "maker": "maker", "model": "model", "productCode": "product_code", "site": "d.site", "department": "d.department", "assetTag": "asset_tag", "note": "note", "order": "order_name",
        "purchaseOrder": "purchase_order", "supplier": "supplier", "tags": "tags", "purchasedOn": "purchased_on", "warrantyUntil": "warranty_until", "enrolledAt": "enrolled_at",
        "lastSeenAt": "last_seen_at", "id": "d.id", "lot": "lot_id", "person.userName": "p.user_name", "person.name": "p.name", "person.department": "p.department", "person.site": "p.site",
        "person.groups": "ARRAY(SELECT g.name FROM memberships m JOIN groups g ON g.id = m.group_id WHERE m.person_id = p.id)",
        "serial": "ARRAY(SELECT value FROM identifiers i WHERE i.device_id = d.id AND kind = 'serial')", "imei": "ARRAY(SELECT value FROM identifiers i WHERE i.device_id = d.id AND kind = 'imei')",
        "idleDays": "coalesce(last_seen_at, enrolled_at, created_at)",
    }  # fmt: skip
    rows = world.rows(f"SELECT {', '.join(columns.values())} FROM devices d LEFT JOIN people p ON p.id = d.person_id ORDER BY d.id")
    found = {}
    for row in rows:
        device = dict(zip(columns, row, strict=True))
        device["idleDays"] = max(0, (world.now - device["idleDays"]).days)  # type: ignore[operator]
        found[int(str(device["id"]))] = device
    return found


def values(kind: Kind) -> st.SearchStrategy[str]:
    quoted = lambda texts: st.sampled_from(texts).map(lambda text: '"' + text.replace("\\", "\\\\") + '"')  # noqa: E731
    return {
        Kind.TEXT: quoted([*SITES, "DUN", "rmel", "Kelmar", "maud", "Maud", "%", "_", "ι"]), Kind.TOKEN: quoted(["android", "IOS", "awaited", "corporate", "unknown"]),
        Kind.TEXTS: quoted(["spare", "A", "crew", "Officers", "S-00", "S-001", "3569380"]), Kind.VERSION: quoted([v for v in VERSIONS if v and v != "x.1"]),
        Kind.NUMBER: st.integers(-1, 300).map(str), Kind.DAY: quoted(["2026-01-09", "2025-12-31", "2026-01-01"]),
        Kind.TIME: quoted(["2026-01-17T09:00:00Z", "2025-12-18T09:00:00+00:00", "2025-12-18T08:59:59Z"]),
    }[kind]  # fmt: skip


@st.composite
def comparisons(draw: st.DrawFn) -> str:
    name = draw(st.sampled_from(list(ATTRIBUTES)))
    operator = draw(st.sampled_from(OPERATORS[ATTRIBUTES[name]]))
    return f"{name} pr" if operator == "pr" else f"{name} {operator} {draw(values(ATTRIBUTES[name]))}"


trees = st.recursive(
    comparisons(),
    lambda inner: st.one_of(inner.map(lambda one: f"not ({one})"), st.tuples(inner, st.sampled_from(["and", "or"]), inner).map(lambda three: f"({three[0]}) {three[1]} ({three[2]})")),
    max_leaves=5,
)


def test_the_database_and_the_core_agree(world: World, tmp_path: Path) -> None:
    furnish(world, tmp_path)
    fleet = facts(world)

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
    with pytest.raises(Refused, match="did you mean site"):
        list(s.devices.list(filter='sitte eq "x"'))
