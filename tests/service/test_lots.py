"""Lots through the client: check, preview, apply, revert; nothing lost, nothing applied twice."""

from pathlib import Path

import pytest
from tests.worlds import World, a_pass, imei, import_lot, import_people, knocking, manifest

from sortitor.client.errors import FactsMoved, Refused
from sortitor.core.vocabulary import LotStatus, Ownership, Stage, Verdict
from sortitor.schemas.devices import Selection

TABLES = (
    "devices",
    "identifiers",
    "people",
    "memberships",
    "rulebooks",
    "counters",
    "holds",
    "pools",
    "credentials",
    "passes",
)


def everything(world: World) -> dict[str, list[tuple[object, ...]]]:
    """Whole tables, in order."""
    return {table: world.rows(f"SELECT * FROM {table} t ORDER BY t::text") for table in TABLES}


def test_every_row_is_found_again_with_its_verdict_and_its_text(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    lines = [f"km-{i},{imei(i)},  Dunlin ,Karton {i}" for i in range(1, 40)] + [
        "TBC,3.5E+14,x,y",
        "KM-1,,Petrel,",
        '"a ""b""",,"c,d",',
    ]
    path = manifest(tmp_path, ["S/N,IMEI,Harbour,Karton", *lines])
    lot = s.lots.check(path)
    rows = list(s.lots.rows(lot.id))
    assert len(rows) == len(lines)
    assert sum(lot.counts.values()) == len(lines)
    for row, line in zip(rows[:39], lines, strict=False):
        assert list(row.cells.values()) == line.split(","), "the very text, blanks and all"
    assert rows[-1].cells["S/N"] == 'a "b"'
    assert {v: sum(r.verdict is v for r in rows) for v in Verdict} == lot.counts
    for verdict in Verdict:
        assert [r.row for r in s.lots.rows(lot.id, verdict)] == [
            r.row for r in rows if r.verdict is verdict
        ]
    for group in s.lots.notes(lot.id):
        assert len({r.row for r in s.lots.rows(lot.id, note=group.code)}) >= 1
    assert s.lots.file(lot.id) == path.read_bytes()


def test_apply_then_revert_leaves_whole_tables_as_they_were(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew")
    import_lot(
        s,
        manifest(
            tmp_path,
            ["serial,maker,site,note", *(f"KM-{i},Kelmar,Dunlin,old {i}" for i in range(50))],
        ),
    )
    before = everything(world)
    lot = s.lots.check(
        manifest(
            tmp_path,
            [
                "serial,maker,site,note,imei,person,tags",
                *(f"KM-{i},Kelmar,Petrel,new,{imei(i)},maud,a;b" for i in range(25, 90)),
            ],
            "b.csv",
        )
    )
    assert (lot.counts[Verdict.ADD], lot.counts[Verdict.CHANGE]) == (40, 25)
    applied = s.lots.apply(lot.id, s.lots.preview(lot.id).digest, "delivery")
    assert applied.status is LotStatus.APPLIED
    assert world.rows("SELECT count(*) FROM devices") == [(90,)]
    changed = next(iter(s.devices.list(query="KM-30")))
    assert (changed.site, changed.imei, changed.person_name) == ("Petrel", imei(30), "Maud Fenwick")
    preview = s.lots.preview_revert(lot.id)
    assert {c.key: c.count for c in preview.counts} == {"removed": 40, "restored": 25, "left": 0}
    assert s.lots.revert(lot.id, preview.digest).status is LotStatus.REVERTED
    assert everything(world) == before


def test_a_revert_leaves_what_somebody_changed_since_and_says_so(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    lot_id = import_lot(
        s,
        manifest(tmp_path, ["serial,maker", "KM-1,Kelmar", "KM-2,Kelmar", "KM-3,Kelmar"]),
        ownership="corporate",
    )
    arrived = s.agent.knock(knocking(a_pass(s, activation="shared"), "KM-1")).device_id
    touched = next(iter(s.devices.list(query="KM-2"))).id
    selection = Selection(ids=[touched])
    s.devices.declare(
        selection, Ownership.PARTNER, s.devices.preview_declare(selection, Ownership.PARTNER).digest
    )
    preview = s.lots.preview_revert(lot_id)
    assert {c.key: c.count for c in preview.counts} == {"removed": 1, "restored": 0, "left": 2}
    assert [e.device_id for e in preview.examples[:2]] == [arrived, touched]
    assert all(e.note for e in preview.examples[:2])
    s.lots.revert(lot_id, preview.digest)
    assert {d.id for d in s.devices.list()} == {arrived, touched}


def test_the_same_bytes_twice_are_the_same_lot(world: World, tmp_path: Path) -> None:
    s = world.client()
    path = manifest(tmp_path, ["serial", "KM-1"])
    first = s.lots.check(path)
    again = s.lots.check(path)
    assert (again.id, again.repeated, first.repeated) == (first.id, True, False)
    s.lots.apply(first.id, s.lots.preview(first.id).digest)
    assert s.lots.check(path).status is LotStatus.APPLIED
    with pytest.raises(Refused, match="applied"):
        s.lots.preview(first.id)
    assert s.lots.check(path, defaults={"site": "Dunlin"}).repeated is False, (
        "read in another way it is another lot"
    )
    assert world.rows("SELECT count(*) FROM devices") == [(1,)]


def test_applying_again_what_was_applied_changes_nothing(world: World, tmp_path: Path) -> None:
    s = world.client()
    lines = ["serial,maker,site", "KM-1,Kelmar,Dunlin", "KM-2,Kelmar,Petrel"]
    import_lot(s, manifest(tmp_path, lines))
    lot = s.lots.check(manifest(tmp_path, [*lines, ""], "again.csv"))
    assert lot.counts[Verdict.UNCHANGED] == 2


def test_two_lots_over_the_same_devices_the_second_sees_what_changed(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    first = s.lots.check(manifest(tmp_path, ["serial,maker,site", "KM-1,Kelmar,Dunlin"], "a.csv"))
    second = s.lots.check(
        manifest(
            tmp_path, ["serial,maker,site", "KM-1,Kelmar,Petrel", "KM-2,Kelmar,Petrel"], "b.csv"
        )
    )
    digest = s.lots.preview(second.id).digest
    s.lots.apply(first.id, s.lots.preview(first.id).digest)
    with pytest.raises(FactsMoved) as moved:
        s.lots.apply(second.id, digest)
    assert {c.key: c.count for c in moved.value.preview.counts if c.count} == {
        "add": 1,
        "change": 1,
    }
    s.lots.apply(second.id, moved.value.preview.digest)
    assert [d.site for d in s.devices.list()] == ["Petrel", "Petrel"]


def test_a_discarded_draft_stays_readable_and_is_not_applied(world: World, tmp_path: Path) -> None:
    s = world.client()
    lot = s.lots.check(manifest(tmp_path, ["serial", "KM-1"]))
    digest = s.lots.preview(lot.id).digest
    assert s.lots.discard(lot.id, "wrong supplier").status is LotStatus.DISCARDED
    assert len(list(s.lots.rows(lot.id))) == 1
    with pytest.raises(Refused, match="discarded"):
        s.lots.apply(lot.id, digest)


def test_a_paste_and_devices_awaited(world: World) -> None:
    s = world.client()
    lot = s.lots.check(
        paste=f"KM-1 {imei(1)}\nKM-2;TBC",
        add_unknown=True,
        defaults={"platform": "android", "ownership": "corporate"},
    )
    assert (lot.counts[Verdict.ADD], lot.counts[Verdict.REJECT]) == (3, 1)
    s.lots.apply(lot.id, s.lots.preview(lot.id).digest)
    assert {d.stage for d in s.devices.list()} == {Stage.AWAITED}


def test_names_in_other_scripts_pass_through_whole(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_lot(
        s,
        manifest(
            tmp_path, ["serial,site,note", "KM-1,ميناء الشمال,漁港の端末", "KM-2,Øresund,🛳️ deck"]
        ),
    )
    assert {(d.site) for d in s.devices.list()} == {"ميناء الشمال", "Øresund"}
    assert s.devices.count(filter='site eq "ميناء الشمال"') == 1
