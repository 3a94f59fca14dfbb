"""What a lot leaves open is settled in place; rejects go out and come back; jobs, orders,
declarations by list.
"""

import csv
import io
import threading
import time
from collections.abc import Callable
from pathlib import Path

import polars as pl
import psycopg
import pytest
from tests.service.test_lots import everything
from tests.workbooks import xlsx
from tests.worlds import World, a_pass, http, imei, import_lot, knocking, manifest, sized

from sortitor.client.errors import Refused
from sortitor.core.vocabulary import (
    Basis,
    JobState,
    LotStatus,
    Ownership,
    Platform,
    Remedy,
    Role,
    Stage,
    Verdict,
)
from sortitor.schemas.jobs import Job
from sortitor.schemas.lots import LotSettings
from sortitor.schemas.naming import Template
from sortitor.schemas.orders import Order, OrderLine


def apply(s, lot_id: int) -> None:
    s.lots.apply(lot_id, s.lots.preview(lot_id).digest)


def revert(s, lot_id: int) -> None:
    s.lots.revert(lot_id, s.lots.preview_revert(lot_id).digest)


def test_columns_are_corrected_in_place_and_remembered_for_the_supplier(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    lot = s.lots.check(
        manifest(tmp_path, ["Gerätenummer,Ort,Karton", "KM-1,Dunlin,7"]),
        defaults={"supplier": "Ondry Trade"},
    )
    assert (lot.counts[Verdict.REJECT], lot.columns_from) == (1, "meaning")
    lot = s.lots.read_again(lot.id, LotSettings(columns={"Gerätenummer": "serial", "Ort": "site"}))
    assert (lot.counts[Verdict.ADD], lot.columns) == (1, {"Gerätenummer": "serial", "Ort": "site"})
    lot = s.lots.read_again(lot.id, LotSettings(columns={"Ort": None}))
    assert lot.columns == {"Gerätenummer": "serial"}
    following = s.lots.check(
        manifest(tmp_path, ["Gerätenummer,Ort", "KM-2,Dunlin"], "next.csv"),
        defaults={"supplier": "ONDRY trade"},
    )
    assert (following.columns_from, following.columns) == ("remembered", {"Gerätenummer": "serial"})
    with pytest.raises(Refused, match="no header"):
        s.lots.read_again(lot.id, LotSettings(columns={"Nummer": "serial"}))
    with pytest.raises(Refused, match="cannot both be"):
        s.lots.read_again(lot.id, LotSettings(columns={"Gerätenummer": "serial", "Ort": "serial"}))


def test_a_draft_is_read_in_another_way(world: World, tmp_path: Path) -> None:
    s = world.client()
    path = tmp_path / "two.xlsx"
    path.write_bytes(
        xlsx(
            ("A", [["serial", "site"], ["KM-1", "x"]]),
            ("B", [["junk"], ["serial"], ["KM-2"], ["KM-3"]]),
        )
    )
    lot = s.lots.check(path)
    assert (lot.sheet, lot.sheets, lot.counts[Verdict.ADD]) == ("A", ["A", "B"], 1)
    lot = s.lots.read_again(
        lot.id, LotSettings(sheet="B", header_row=2, defaults={"ownership": "partner"})
    )
    assert (lot.sheet, lot.header_row, lot.counts[Verdict.ADD]) == ("B", 2, 2)
    assert [r.cells for r in s.lots.rows(lot.id)] == [{"serial": "KM-2"}, {"serial": "KM-3"}]
    apply(s, lot.id)
    assert {d.ownership for d in s.devices.list()} == {Ownership.PARTNER}


def test_rows_are_edited_one_by_one_or_as_a_group_and_the_original_stays(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    lot = s.lots.check(
        manifest(tmp_path, ["serial,imei", "KM-1,3.5E+14", "KM-2,3.5E+14", f"KM-3,{imei(3)}"])
    )
    assert lot.counts[Verdict.REJECT] == 2
    lot = s.lots.edit(lot.id, "imei", None, note="scientific_notation")
    assert (lot.counts[Verdict.REJECT], lot.counts[Verdict.ADD]) == (0, 3)
    lot = s.lots.edit(lot.id, "imei", imei(1), rows=[2])
    lot = s.lots.edit(lot.id, "site", "Dunlin", verdict=Verdict.ADD)
    rows = list(s.lots.rows(lot.id))
    assert [(r.cells["imei"], r.edited) for r in rows] == [
        ("3.5E+14", {"imei": imei(1), "site": "Dunlin"}),
        ("3.5E+14", {"imei": None, "site": "Dunlin"}),
        (imei(3), {"site": "Dunlin"}),
    ]
    assert s.lots.notes(lot.id) == []
    apply(s, lot.id)
    assert [(d.imei, d.site) for d in s.devices.list()] == [
        (imei(1), "Dunlin"),
        (None, "Dunlin"),
        (imei(3), "Dunlin"),
    ]
    with pytest.raises(Refused, match="applied"):
        s.lots.edit(lot.id, "imei", "1", rows=[2])
    other = s.lots.check(manifest(tmp_path, ["serial", "KM-9"], "b.csv"))
    with pytest.raises(Refused, match="neither a header"):
        s.lots.edit(other.id, "colour", "red", rows=[2])
    with pytest.raises(Refused, match="None of these rows"):
        s.lots.edit(other.id, "site", "x", rows=[99])


def conflicted(world: World, tmp_path: Path) -> int:
    """A draft of three conflicts: a retired device, two devices of one row, rows that disagree."""
    s = world.client()
    import_lot(
        s, manifest(tmp_path, ["serial,maker,imei", "KM-1,Kelmar,", "KM-2,Kelmar,", f",,{imei(2)}"])
    )
    world.rows(
        "UPDATE devices SET stage = 'retired' WHERE id = (SELECT device_id FROM identifiers WHERE"
        " value = 'KM-1')"
    )
    lines = [
        "serial,maker,imei,site",
        "KM-1,Kelmar,,Dunlin",
        f"KM-2,Kelmar,{imei(2)},Dunlin",
        "KM-7,Kelmar,,Dunlin",
        "KM-7,Kelmar,,Petrel",
    ]
    lot = s.lots.check(manifest(tmp_path, lines, "conflicts.csv"))
    assert lot.counts[Verdict.CONFLICT] == 4
    return lot.id


def test_conflicts_are_resolved_by_taking_back_merging_and_skipping_and_all_of_it_reverts(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    lot_id = conflicted(world, tmp_path)
    before = everything(world)
    s.lots.resolve(lot_id, Remedy.TAKE_BACK, note="retired_device")
    s.lots.resolve(lot_id, Remedy.MERGE, note="two_devices")
    lot = s.lots.resolve(lot_id, Remedy.SKIP, rows=[5])
    assert (
        lot.counts[Verdict.CONFLICT],
        lot.counts[Verdict.CHANGE],
        lot.counts[Verdict.ADD],
        lot.counts[Verdict.UNCHANGED],
    ) == (0, 2, 1, 1)
    assert {g.code for g in s.lots.notes(lot_id)} == {"taken_back", "merged", "skipped"}
    apply(s, lot_id)
    back = next(iter(s.devices.list(query="KM-1")))
    assert (back.stage, back.site) == (Stage.AWAITED, "Dunlin")
    [merged] = s.devices.list(query="KM-2")
    assert (merged.imei, merged.site) == (imei(2), "Dunlin")
    assert s.devices.count(filter='stage eq "retired"') == 1, "the other of the two"
    revert(s, lot_id)
    assert everything(world) == before


def test_a_remedy_is_undone_and_one_that_does_not_fit_changes_nothing(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    lot_id = conflicted(world, tmp_path)
    assert s.lots.resolve(lot_id, Remedy.MERGE, note="retired_device").counts[Verdict.CONFLICT] == 4
    assert (
        s.lots.resolve(lot_id, Remedy.SKIP, verdict=Verdict.CONFLICT).counts[Verdict.CONFLICT] == 0
    )
    assert s.lots.resolve(lot_id, None, rows=[2, 3, 4, 5]).counts[Verdict.CONFLICT] == 4


@pytest.mark.parametrize("form", ["csv", "xlsx"])
def test_rejects_go_out_are_mended_and_come_back(world: World, tmp_path: Path, form: str) -> None:
    s = world.client()
    lot = s.lots.check(
        manifest(tmp_path, ["Kiste,Gerät,IMEI", "a,KM-1,3.5E+14", f"b,KM-2,{imei(2)}", "c,TBC,"]),
        columns={"serial": "Gerät"},
        defaults={"ownership": "corporate"},
    )
    apply(s, lot.id)
    content = s.lots.takeout(lot.id, form)
    if form == "csv":
        out = list(csv.DictReader(io.StringIO(content.decode("utf-8-sig"))))
        assert [list(line) for line in out] == [["Kiste", "Gerät", "IMEI", "problem"]] * 2
        assert "power of ten" in out[0]["problem"]
        path = tmp_path / "mended.csv"
        path.write_bytes(content.replace(b"3.5E+14", imei(1).encode()).replace(b"TBC", b"KM-3"))
    else:
        frame = pl.read_excel(io.BytesIO(content), infer_schema_length=0)
        path = tmp_path / "mended.xlsx"
        grid = [
            frame.columns,
            *[
                [
                    imei(1) if cell == "3.5E+14" else "KM-3" if cell == "TBC" else cell
                    for cell in row
                ]
                for row in frame.rows()
            ],
        ]
        path.write_bytes(xlsx(("Devices", grid)))
    again = s.lots.check(path, like=lot.id)
    assert again.counts == {
        Verdict.ADD: 2,
        Verdict.CHANGE: 0,
        Verdict.UNCHANGED: 0,
        Verdict.CONFLICT: 0,
        Verdict.REJECT: 0,
        "no_row": 0,
    }
    apply(s, again.id)
    assert {(d.serial, d.ownership) for d in s.devices.list()} == {
        ("KM-1", Ownership.CORPORATE),
        ("KM-2", Ownership.CORPORATE),
        ("KM-3", Ownership.CORPORATE),
    }
    details = s.devices.show(next(iter(s.devices.list(query="KM-3"))).id).details
    assert details == {"Kiste": "c"}, "what was the matter is no detail of the device"


def test_a_formula_that_is_taken_out_is_not_run(world: World, tmp_path: Path) -> None:
    s = world.client()
    lot = s.lots.check(manifest(tmp_path, ["serial,note", 'KM-1,"=HYPERLINK(1)"', "KM-2,@SUM(A1)"]))
    out = list(csv.DictReader(io.StringIO(s.lots.takeout(lot.id).decode("utf-8-sig"))))
    assert [line["note"] for line in out] == ["'=HYPERLINK(1)", "'@SUM(A1)"]


@pytest.mark.parametrize("form", ["csv", "xlsx"])
def test_a_template_imports_back_without_a_change(world: World, tmp_path: Path, form: str) -> None:
    s = world.client()
    content = s.lots.template(Platform.ANDROID, form)
    path = tmp_path / f"t.{form}"
    path.write_bytes(content)
    with pytest.raises(Refused, match="no rows"):
        s.lots.check(path)
    headers = (
        content.decode("utf-8-sig").strip().split(",")
        if form == "csv"
        else pl.read_excel(io.BytesIO(content), infer_schema_length=0, raise_if_empty=False).columns
    )
    line = {
        "serial": "KM-1",
        "imei": imei(1),
        "imei 2": imei(2),
        "platform": "android",
        "order": "WL-1",
        "site": "Dunlin",
    }
    lot = s.lots.check(
        manifest(
            tmp_path, [",".join(headers), ",".join(line.get(h, "") for h in headers)], "filled.csv"
        )
    )
    assert (lot.counts[Verdict.ADD], set(lot.columns)) == (1, set(headers))


def test_a_declaration_from_a_list_has_the_same_verdicts_and_stands_by_hand(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_lot(
        s, manifest(tmp_path, ["serial,maker", "KM-1,Kelmar", "KM-2,Kelmar"]), ownership="corporate"
    )
    lot = s.lots.check(paste="KM-1 KM-99 TBC", defaults={"ownership": "partner"}, by_hand=True)
    assert (lot.counts[Verdict.CHANGE], lot.counts[Verdict.ADD], lot.counts[Verdict.REJECT]) == (
        1,
        0,
        2,
    ), "a slip makes no device"
    assert {group.code for group in s.lots.notes(lot.id)} >= {"device_unknown"}
    apply(s, lot.id)
    device = s.devices.show(next(iter(s.devices.list(query="KM-1"))).id)
    assert (device.ownership, device.ownership_basis) == (Ownership.PARTNER, Basis.MANUAL)
    supplier = s.lots.check(
        manifest(tmp_path, ["serial,maker", "KM-1,Kelmar"], "again.csv"),
        defaults={"ownership": "corporate"},
    )
    assert supplier.counts[Verdict.UNCHANGED] == 1, "a supplier's file does not change it"
    told = s.lots.check(paste="KM-1 KM-99", by_hand=True, add_unknown=True)
    assert (told.counts[Verdict.ADD], told.known_only) == (1, False)
    later = s.lots.check(paste="KM-1", defaults={"ownership": "corporate"}, by_hand=True)
    assert later.counts[Verdict.CHANGE] == 1, "a newer statement by hand does"


def test_orders_count_what_was_ordered_delivered_and_arrived(world: World, tmp_path: Path) -> None:
    s = world.client()
    order = s.orders.add(
        Order(
            name="WL-1",
            lines=[
                OrderLine(product="Mate 3", quantity=3),
                OrderLine(product="DH-11", quantity=1),
            ],
        )
    )
    lines = [
        "serial,maker,model,product code,order",
        "KM-1,Kelmar,Mate 3,,WL-1",
        "KM-2,Kelmar,mate  3,,wl-1",
        "KM-3,Kelmar,Deckhand 11,DH-11,WL-1",
        "KM-4,Kelmar,Deckhand 11,DH-11,WL-1",
        "KM-5,Kelmar,Mate 1,,WL-1",
    ]
    lot_id = import_lot(s, manifest(tmp_path, lines))
    s.agent.knock(knocking(a_pass(s, activation="shared"), "KM-1"))
    shown = s.orders.show(order.id)
    assert [
        (x.product, x.quantity, x.delivered, x.arrived, x.short, x.over) for x in shown.tally
    ] == [("Mate 3", 3, 2, 1, 1, 0), ("DH-11", 1, 2, 0, 0, 1), ("Mate 1", 0, 1, 0, 0, 1)]
    assert (shown.ordered, shown.delivered, shown.arrived, shown.short, shown.over) == (
        4,
        5,
        1,
        1,
        2,
    )
    revert(s, lot_id)
    assert s.orders.show(order.id).delivered == 1, "the one that arrived stays"
    with pytest.raises(Refused, match="already"):
        s.orders.add(Order(name="wl-1"))
    with pytest.raises(Refused, match="twice"):
        s.orders.edit(
            order.id,
            Order(
                name="WL-1",
                lines=[
                    OrderLine(product="a", quantity=1),
                    OrderLine(product="A", quantity=2),
                ],
            ),
        )
    changed = s.orders.edit(
        order.id,
        Order(
            name="WL-1",
            supplier="Ondry",
            lines=[OrderLine(product="Mate 3", quantity=5, price="189.00")],
        ),
    )
    assert changed.ordered == 5
    entry = next(iter(s.journal.list("order.edit")))
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert s.orders.show(order.id).ordered == 4
    s.orders.remove(order.id)
    entry = next(iter(s.journal.list("order.remove")))
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert s.orders.show(order.id).name == "WL-1"


def test_lots_are_found_again(world: World, tmp_path: Path) -> None:
    s = world.client()
    for name, supplier in (("Deck tablets", "Chandlers"), ("Scanners", "Ondry Trade")):
        s.lots.check(
            manifest(tmp_path, ["serial", f"{name}-1".replace(" ", "")], f"{name}.csv"),
            name=name,
            defaults={"supplier": supplier},
        )
    assert [x.name for x in s.lots.list(query="ondry")] == ["Scanners"]
    assert [x.name for x in s.lots.list(query="deck")] == ["Deck tablets"]
    for sort in ("id", "name", "status", "created_by"):
        for way in (False, True):
            found = [
                (str(getattr(x, sort)).lower(), x.id)
                for x in s.lots.list(sort=sort, descending=way)
            ]
            assert found == sorted(found, reverse=way), (sort, way)


@pytest.fixture
def working(make_world: Callable[..., World]) -> World:
    """A world with a worker."""
    return make_world(worker=True)


ROWS = sized(64_000)


def large(tmp_path: Path, rows: int = ROWS, name: str = "large.csv", **cells: str) -> Path:
    columns = "".join(f",{column}" for column in cells)
    values = "".join(f",{value}" for value in cells.values())
    return manifest(
        tmp_path,
        [
            f"serial,maker,imei{columns}",
            *(f"KM-{i:07},Kelmar,{imei(i)}{values}" for i in range(1, rows + 1)),
        ],
        name,
    )


@pytest.mark.large
def test_a_large_lot_is_checked_applied_and_reverted_as_jobs_with_progress(
    working: World, tmp_path: Path
) -> None:
    s = working.client()
    seen: list[Job] = []
    lot = s.lots.check(large(tmp_path), watch=seen.append)
    assert lot.counts[Verdict.ADD] == ROWS
    assert (
        s.lots.apply(lot.id, s.lots.preview(lot.id).digest, watch=seen.append).status
        is LotStatus.APPLIED
    )
    assert {"keeping the rows", "writing devices", "writing identifiers"} & {
        job.phase for job in seen
    }
    assert all(0 <= job.done <= job.total for job in seen)
    assert (
        s.lots.revert(lot.id, s.lots.preview_revert(lot.id).digest, watch=seen.append).status
        is LotStatus.REVERTED
    )
    assert [job.kind for job in s.jobs.list()] == ["revert", "apply", "check"]
    assert {job.state for job in s.jobs.list()} == {JobState.DONE}
    with http(working) as client:
        events = client.get(f"/api/v1/jobs/{seen[-1].id}/events").text
    assert '"state":"done"' in events


def test_a_file_that_is_none_fails_its_job_and_leaves_nothing(
    working: World, tmp_path: Path
) -> None:
    s = working.client()
    path = tmp_path / "bad.csv"
    path.write_bytes(b"serial\n" + b"KM-1\n" * 500_000 + b"\x00")
    with pytest.raises(Refused, match="NUL"):
        s.lots.check(path, watch=lambda job: None)
    assert list(s.lots.list()) == []
    assert next(iter(s.jobs.list())).problem


@pytest.mark.large
def test_a_job_that_is_stopped_keeps_nothing(working: World, tmp_path: Path) -> None:
    s = working.client()
    lot = s.lots.check(large(tmp_path), watch=lambda job: None)
    digest = s.lots.preview(lot.id).digest

    asked: list[Job] = []

    def stop(job: Job) -> None:
        # Once: by the next look the job may be over, and what is over cannot be stopped.
        if job.state is JobState.RUNNING and job.phase and not asked:
            asked.append(s.jobs.cancel(job.id))

    with pytest.raises(Refused, match="stopped"):
        s.lots.apply(lot.id, digest, watch=stop)
    assert (s.lots.show(lot.id).status, s.devices.count()) == (LotStatus.DRAFT, 0)
    assert next(iter(s.jobs.list())).state is JobState.CANCELLED
    s.lots.apply(lot.id, s.lots.preview(lot.id).digest, watch=lambda job: None)
    assert s.devices.count() == ROWS


@pytest.mark.large
def test_the_database_goes_away_in_the_middle_of_a_job(working: World, tmp_path: Path) -> None:
    s = working.client()
    lot = s.lots.check(large(tmp_path), watch=lambda job: None)
    digest = s.lots.preview(lot.id).digest
    cut = threading.Event()

    def cut_off(job: Job) -> None:
        if job.phase.startswith("writing") and not cut.is_set():
            cut.set()
            with psycopg.connect(working.run.url, autocommit=True) as connection:
                connection.execute(
                    "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname ="
                    " current_database() AND pid <> pg_backend_pid()"
                )

    with pytest.raises(Refused, match="database"):
        s.lots.apply(lot.id, digest, watch=cut_off)
    assert cut.is_set()
    assert (s.lots.show(lot.id).status, s.devices.count()) == (LotStatus.DRAFT, 0)
    until = time.monotonic() + 60
    while True:
        try:
            s.lots.apply(lot.id, s.lots.preview(lot.id).digest, watch=lambda job: None)
            break
        except Refused:
            assert time.monotonic() < until
    assert s.devices.count() == ROWS


@pytest.mark.large
def test_two_people_apply_overlapping_lots_at_the_same_moment(
    working: World, tmp_path: Path
) -> None:
    """The second is not applied on facts that have moved: it is told, with the new preview."""
    s = working.client()
    rows = sized(10_000)
    lots = [
        s.lots.check(large(tmp_path, rows, f"{site}.csv", site=site), watch=lambda job: None)
        for site in ("Dunlin", "Petrel")
    ]
    digests = [s.lots.preview(lot.id).digest for lot in lots]
    outcomes: list[str] = []

    def run(place: int) -> None:
        try:
            outcomes.append(
                working.client(timeout_seconds=1800)
                .lots.apply(lots[place].id, digests[place])
                .status
            )
        except Refused as error:
            outcomes.append(error.problem.code)

    threads = [threading.Thread(target=run, args=(place,)) for place in (0, 1)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(outcomes) == ["applied", "facts_moved"]
    assert s.devices.count() == rows
    assert len({d.site for d in s.devices.list(most=50)}) == 1


def test_a_viewer_settles_nothing(world: World, tmp_path: Path) -> None:
    lot = world.client().lots.check(manifest(tmp_path, ["serial", "TBC"]))
    viewer = world.client(Role.VIEWER)
    for act in (
        lambda: viewer.lots.edit(lot.id, "serial", "KM-1", rows=[2]),
        lambda: viewer.lots.resolve(lot.id, Remedy.SKIP, rows=[2]),
        lambda: viewer.lots.read_again(lot.id, LotSettings(name="x")),
    ):
        with pytest.raises(Refused, match="coordinator"):
            act()
    assert b"placeholder" in viewer.lots.takeout(lot.id)


def test_a_lot_names_its_devices_and_they_keep_their_names(world: World, tmp_path: Path) -> None:
    s = world.client()
    lot = import_lot(
        s,
        manifest(
            tmp_path,
            [
                "serial,maker,platform,hostname",
                "KM-1,Kelmar,android,WM-0042",
                "KM-2,Kelmar,android,",
                "KM-3,Kelmar,android,no name",
            ],
        ),
    )
    assert world.rows("SELECT name, name_basis FROM devices ORDER BY lot_row") == [
        ("WM-0042", "declared"),
        (None, None),
        (None, None),
    ]
    assert {group.code: group.rows for group in s.lots.notes(lot)} == {"name_characters": 1}
    code = a_pass(s)
    assert [s.agent.knock(knocking(code, serial)).name for serial in ("KM-1", "KM-2")] == [
        "WM-0042",
        "DEVICE-00001",
    ]
    assert [
        (fact.value, fact.basis) for fact in s.devices.show(1).facts if fact.field == "name"
    ] == [("WM-0042", f"lot {lot}, row 2")]
    # A template names what a template has named; a later lot names that too, but not what somebody
    # named by hand.
    shown = s.naming.preview(templates=[Template(name="Deck", pattern="DECK-{serial}")])
    assert {c.key: c.count for c in shown.counts if c.key in ("renamed", "by_hand")} == {
        "renamed": 2,
        "by_hand": 1,
    }
    s.devices.name(1, "BRIDGE")
    second = s.lots.check(
        manifest(
            tmp_path,
            [
                "serial,maker,name",
                "KM-1,Kelmar,WM-0050",
                "KM-2,Kelmar,WM-0051",
                "KM-9,Kelmar,bridge",
            ],
            "second.csv",
        ),
        defaults={"platform": "android"},
    )
    assert [
        (row.row, row.verdict, [note.code for note in row.notes]) for row in s.lots.rows(second.id)
    ] == [
        (2, Verdict.UNCHANGED, ["manual_kept"]),
        (3, Verdict.CHANGE, []),
        (4, Verdict.ADD, ["name_taken"]),
    ]
    apply(s, second.id)
    assert world.rows("SELECT name, name_basis FROM devices ORDER BY id") == [
        ("BRIDGE", "manual"),
        ("WM-0051", "declared"),
        (None, None),
        (None, None),
    ]
    revert(s, second.id)
    assert world.rows("SELECT name, name_basis FROM devices ORDER BY id") == [
        ("BRIDGE", "manual"),
        ("DEVICE-00001", "inferred"),
        (None, None),
    ]


def test_a_name_taken_after_the_check_moves_the_facts(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial,maker,platform", "KM-1,Kelmar,android"]))
    lot = s.lots.check(
        manifest(tmp_path, ["serial,maker,platform,name", "KM-2,Kelmar,android,WM-7"], "named.csv")
    )
    seen = s.lots.preview(lot.id).digest
    s.devices.name(1, "wm-7")
    with pytest.raises(Refused) as moved:
        s.lots.apply(lot.id, seen)
    assert moved.value.problem.code == "facts_moved"
    apply(s, lot.id)
    assert [[note.code for note in row.notes] for row in s.lots.rows(lot.id)] == [["name_taken"]]
    assert world.rows("SELECT name FROM devices ORDER BY id") == [("wm-7",), (None,)]
