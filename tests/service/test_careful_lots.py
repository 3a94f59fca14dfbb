"""How a lot was understood: shown, corrected, taken back, and remembered for the supplier."""

from __future__ import annotations

from pathlib import Path

import pytest
from tests.corpus.cases import book
from tests.service.test_lots_in_earnest import apply
from tests.worlds import World, http, imei, manifest

from sortitor.client import Sortitor
from sortitor.client.errors import Refused
from sortitor.core.vocabulary import Ownership, Remedy, Role, Verdict
from sortitor.schemas.lots import Lot, LotSettings


def codes(lot: Lot) -> set[str]:
    return {remark.code for remark in lot.remarks}


def notes(s: Sortitor, lot: Lot) -> set[str]:
    return {group.code for group in s.lots.notes(lot.id)}


def serials(s: Sortitor) -> set[str | None]:
    return {device.serial for device in s.devices.list()}


def test_lines_that_are_no_rows_are_shown_and_taken_back(world: World, tmp_path: Path) -> None:
    s = world.client()
    lines = ["Delivery 4711;;", "Serial;Model;Site", "Deck 4;;", "KM-0001;x;y", "TOTAL77;;"]
    lot = s.lots.check(manifest(tmp_path, lines))
    assert [(one.line, one.cells[0]) for one in lot.above] == [(1, "Delivery 4711"), (2, "Serial")]
    assert (lot.header_row, lot.counts[Verdict.NO_ROW], lot.counts[Verdict.ADD]) == (2, 2, 1)
    assert notes(s, lot) == {"line_title", "line_total"}
    lot = s.lots.resolve(lot.id, Remedy.TAKE, rows=[5])
    assert (lot.counts[Verdict.NO_ROW], lot.counts[Verdict.ADD]) == (1, 2)
    lot = s.lots.resolve(lot.id, None, rows=[5])
    assert (lot.counts[Verdict.NO_ROW], lot.counts[Verdict.ADD]) == (2, 1)
    apply(s, lot.id)
    assert serials(s) == {"KM-0001"}


def test_a_doubt_is_set_aside_for_rows_for_a_column_and_for_the_supplier(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    lines = ["Serial;Model", "QWERTZUI;x", "KM-0001;x"]
    supplier = {"supplier": "Ondry Trade"}
    lot = s.lots.check(manifest(tmp_path, lines), defaults=supplier)
    assert (lot.counts[Verdict.REJECT], notes(s, lot)) == (1, {"words"})
    lot = s.lots.resolve(lot.id, Remedy.TAKE, note="words")
    assert lot.counts[Verdict.ADD] == 2
    lot = s.lots.resolve(lot.id, None, rows=[2])
    lot = s.lots.read_again(lot.id, LotSettings(trusted={"Serial": True}))
    assert (lot.counts[Verdict.ADD], lot.manner.trusted) == (2, ["Serial"])
    following = manifest(tmp_path, ["Serial;Model", "ASDFGHJK;x"], "next.csv")
    assert s.lots.check(following, defaults=supplier).counts[Verdict.ADD] == 1
    assert s.lots.check(following).counts[Verdict.REJECT] == 1, "another's files are doubted"
    with pytest.raises(Refused, match="no header"):
        s.lots.read_again(lot.id, LotSettings(trusted={"Nummer": True}))


def test_the_order_of_dates_is_asked_once(world: World, tmp_path: Path) -> None:
    s = world.client()
    lines = ["Serial;Kaufdatum", "KM-0001;01/02/2025", "KM-0002;03/04/2025"]
    supplier = {"supplier": "Ondry Trade"}
    lot = s.lots.check(manifest(tmp_path, lines), defaults=supplier)
    assert (lot.counts[Verdict.REJECT], codes(lot)) == (2, {"date_order_open"})
    lot = s.lots.read_again(lot.id, LotSettings(dates={"Kaufdatum": "day"}))
    assert (lot.counts[Verdict.ADD], lot.manner.dates) == (2, {"Kaufdatum": "day"})
    assert [row.kept["Kaufdatum"] for row in s.lots.rows(lot.id)] == ["2025-02-01", "2025-04-03"]
    following = manifest(tmp_path, ["Serial;Kaufdatum", "KM-0003;05/06/2025"], "next.csv")
    lot = s.lots.check(following, defaults=supplier)
    assert [row.kept["Kaufdatum"] for row in s.lots.rows(lot.id)] == ["2025-06-05"]
    said = s.lots.check(following, dates={"Kaufdatum": "month"})
    assert [row.kept["Kaufdatum"] for row in s.lots.rows(said.id)] == ["2025-05-06"]
    with http(world) as client:
        wrong = client.post(
            "/api/v1/lots",
            params={"date_order": "Kaufdatum=year"},
            content=b"Serial\nKM-1\n",
            headers={"Content-Type": "text/csv"},
        )
    assert (wrong.status_code, wrong.json()["code"]) == (422, "bad_order")


def test_a_maker_is_asked_about_once_and_for_everybody(world: World, tmp_path: Path) -> None:
    s = world.client()
    apply(s, s.lots.check(manifest(tmp_path, ["Serial;Maker", "KM-0001;Kelmar"])).id)
    other = manifest(tmp_path, ["Serial;Maker", "KM-0001;KELMAR GmbH", "KM-0002;Kelmer"], "b.csv")
    lot = s.lots.check(other)
    assert codes(lot) == {"maker_spelled", "maker_near"}
    assert lot.counts[Verdict.UNCHANGED] == 1, "the same maker, so the same device"
    lot = s.lots.read_again(lot.id, LotSettings(makers={"Kelmer": "Kelmar"}))
    assert codes(lot) == {"maker_spelled"}
    apply(s, lot.id)
    assert {device.maker for device in s.devices.list()} == {"Kelmar"}
    third = manifest(tmp_path, ["Serial;Maker", "KM-0003;KELMER"], "c.csv")
    assert codes(s.lots.check(third)) == {"maker_spelled"}
    fourth = manifest(tmp_path, ["Serial;Maker", "KM-0004;Kelmarr"], "d.csv")
    lot = s.lots.read_again(s.lots.check(fourth).id, LotSettings(makers={"Kelmarr": None}))
    assert codes(lot) == set(), "a maker of its own"
    with pytest.raises(Refused, match="formula"):
        s.lots.read_again(lot.id, LotSettings(makers={"Kelmarr": "=1+1"}))


def test_sheets_are_named_and_taken_together(world: World, tmp_path: Path) -> None:
    s = world.client()
    path = tmp_path / "two.xlsx"
    path.write_bytes(
        book(
            ("June", [["Serial", "Site"], ["KM-0001", "x"], ["KM-0002", "x"]]),
            ("July", [["Site", "Serial"], ["y", "KM-0003"]]),
        )
    )
    lot = s.lots.check(path)
    [remark] = lot.remarks
    assert (remark.code, remark.given, lot.counts[Verdict.ADD]) == ("other_sheets", "July (1)", 2)
    lot = s.lots.read_again(lot.id, LotSettings(sheets=["June", "July"]))
    assert (lot.sheets_read, lot.counts[Verdict.ADD]) == (["June", "July"], 3)
    places = [row.cells["(sheet and row)"] for row in s.lots.rows(lot.id)]
    assert places == ["June · 2", "June · 3", "July · 2"]
    at_once = s.lots.check(path, sheets=["June", "July"])
    assert at_once.counts[Verdict.ADD] == 3
    back = s.lots.read_again(lot.id, LotSettings(sheet="July"))
    assert (back.sheets_read, back.sheet, back.counts[Verdict.ADD]) == ([], "July", 1)


def test_an_encoding_is_said(world: World, tmp_path: Path) -> None:
    s = world.client()
    path = tmp_path / "lot.csv"
    path.write_bytes("Serial;Site\nKM-0001;Łódź\n".encode("cp1250"))
    lot = s.lots.check(path, encoding="Windows-1252")
    assert lot.encoding == "Windows-1252"
    lot = s.lots.read_again(lot.id, LotSettings(encoding="windows-1250"))
    [row] = s.lots.rows(lot.id)
    assert (lot.encoding, row.cells["Site"]) == ("Windows-1250", "Łódź")
    with pytest.raises(Refused, match="not an encoding"):
        s.lots.check(path, encoding="klingon")
    with pytest.raises(Refused, match="is not UTF-8"):
        s.lots.check(path, encoding="UTF-8")


def test_a_file_without_headers_and_back(world: World, tmp_path: Path) -> None:
    s = world.client()
    lines = [f"KM-00001;{imei(1)};Dunlin", f"KM-00002;{imei(2)};Dunlin"]
    lot = s.lots.check(manifest(tmp_path, lines))
    assert (lot.header_row, lot.counts[Verdict.ADD]) == (0, 2)
    assert lot.columns == {"column 1": "serial", "column 2": "imei"}
    lot = s.lots.read_again(lot.id, LotSettings(columns={"column 3": "site"}))
    assert lot.columns["column 3"] == "site"
    lot = s.lots.read_again(lot.id, LotSettings(header_row=1))
    assert (lot.header_row, lot.headers[0]) == (1, "KM-00001")
    lot = s.lots.read_again(lot.id, LotSettings(header_row=0))
    assert lot.counts[Verdict.ADD] == 2


def test_a_preview_shows_what_will_be_kept(world: World, tmp_path: Path) -> None:
    s = world.client()
    lot = s.lots.check(manifest(tmp_path, ["Serial;Asset tag;OS", "'KM-0001;'00123;Android 14"]))
    [row] = s.lots.rows(lot.id)
    assert row.kept == {"Serial": "KM-0001", "Asset tag": "00123", "OS": "android"}
    assert [example.subject for example in s.lots.preview(lot.id).examples] == ["KM-0001"]
    apply(s, lot.id)
    [device] = s.devices.list()
    assert (device.serial, device.asset_tag, device.platform) == ("KM-0001", "00123", "android")


def test_what_a_note_promises_is_done(world: World, tmp_path: Path) -> None:
    s = world.client()
    lot = s.lots.check(manifest(tmp_path, ["Serial;User;Colour", "KM-0001;nobody@x.example;red"]))
    assert notes(s, lot) == {"person_unknown"}
    apply(s, lot.id)
    [device] = s.devices.list()
    found = s.devices.show(device.id).details
    assert found == {"Colour": "red", "User": "nobody@x.example"}


def test_an_asset_tag_that_another_device_has_is_said(world: World, tmp_path: Path) -> None:
    s = world.client()
    apply(s, s.lots.check(manifest(tmp_path, ["Serial;Asset tag", "KM-0001;A-1"])).id)
    lot = s.lots.check(manifest(tmp_path, ["Serial;Asset tag", "KM-0002;a-1"], "b.csv"))
    assert (notes(s, lot), lot.counts[Verdict.ADD]) == ({"asset_tag_taken"}, 1)


def test_a_draft_that_is_given_again_is_decided_on_the_facts_of_today(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    path = manifest(tmp_path, ["Serial;Site", "KM-0001;x", "KM-0002;x"])
    assert s.lots.check(path).counts[Verdict.ADD] == 2
    apply(s, s.lots.check(manifest(tmp_path, ["Serial;Site", "KM-0001;x"], "b.csv")).id)
    again = s.lots.check(path)
    assert (again.repeated, again.counts[Verdict.ADD], again.counts[Verdict.UNCHANGED]) == (
        True,
        1,
        1,
    )


def test_two_deliveries_with_the_same_placeholder_are_not_one_device(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    for number in (1, 2):
        lines = ["Seriennummer;IMEI;Modell", f"unbekannt;{imei(number)};Mate"]
        apply(s, s.lots.check(manifest(tmp_path, lines, f"{number}.csv")).id)
    assert len(list(s.devices.list())) == 2
    assert serials(s) == {None}


def test_an_example_of_a_personal_device_is_veiled(world: World, tmp_path: Path) -> None:
    s = world.client()
    lines = ["KM-123456 was sent back;;", "Serial;Kennung;Site", f"KM-1;{imei(1)};x"]
    lines += [f"KM-{n};{imei(n)};x" for n in (2, 3)]
    personal = {"ownership": Ownership.PERSONAL.value}
    lot = s.lots.check(manifest(tmp_path, lines), defaults=personal)
    seen = world.client(Role.VIEWER).lots.show(lot.id)
    assert "123456" in lot.above[0].cells[0]
    assert "123456" not in str(seen.model_dump())
    for row in world.client(Role.VIEWER).lots.rows(lot.id):
        assert imei(1) not in str(row.model_dump())


def test_everyday_words_for_personal_veil_too(world: World, tmp_path: Path) -> None:
    s = world.client()
    lot = s.lots.check(manifest(tmp_path, ["IMEI;Eigentum", f"IMEI: {imei(1)};privat"]))
    [row] = world.client(Role.VIEWER).lots.rows(lot.id)
    assert imei(1) not in str(row.model_dump())


def test_two_numbers_are_never_taken_as_one(world: World, tmp_path: Path) -> None:
    s = world.client()
    lot = s.lots.check(manifest(tmp_path, ["Serial;Site", "R58M000001 R58M000002;x"]))
    lot = s.lots.resolve(lot.id, Remedy.TAKE, rows=[2])
    assert (lot.counts[Verdict.ADD], lot.counts[Verdict.REJECT]) == (0, 1)
