"""Devices taken out: in parts of one moment, as a workbook that goes out as it is written, and
never so many at once that others wait.
"""

import io
from collections.abc import Iterator
from pathlib import Path

import polars as pl
import pytest
from openpyxl import load_workbook
from tests.worlds import World, http, import_lot, manifest

from sortitor.api.http import workbooks
from sortitor.api.routes import devices as routes
from sortitor.operations import devices
from sortitor.store.devices import lists

COLUMNS = {"column": ["id", "serial", "site", "name"]}


@pytest.fixture
def fleet(world: World, tmp_path: Path) -> World:
    rows = [f"EX-{number:03},Kelmar,Dunlin" for number in range(40)]
    import_lot(world.client(), manifest(tmp_path, ["serial,maker,site", *rows]), platform="android")
    world.rows("UPDATE devices SET site = '=Q' WHERE id %% 2 = 0 RETURNING 1")
    return world


def as_csv(content: bytes) -> pl.DataFrame:
    return pl.read_csv(content, infer_schema=False)


def test_parts_are_one_table(fleet: World, monkeypatch: pytest.MonkeyPatch) -> None:
    with http(fleet) as client:
        whole = client.get("/api/v1/devices/file", params=COLUMNS).content
        monkeypatch.setattr(lists, "_PART", 7)
        monkeypatch.setattr(routes, "_FEW", 0)
        parts = client.get("/api/v1/devices/file", params=COLUMNS)
        assert parts.content == whole
        assert parts.headers["content-disposition"] == 'attachment; filename="devices.csv"'
        found = as_csv(whole)
        assert found["serial"].to_list() == [f"EX-{number:03}" for number in range(40)]
        # What a spreadsheet would run stays text in every part.
        assert set(found["site"]) == {"Dunlin", "'=Q"}
        nothing = client.get("/api/v1/devices/file", params={**COLUMNS, "filter": "id gt 999"})
        assert as_csv(nothing.content).columns == COLUMNS["column"]


def test_a_large_workbook_goes_out_as_it_is_written(
    fleet: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked = {**COLUMNS, "form": "xlsx"}
    with http(fleet) as client:
        small = client.get("/api/v1/devices/file", params=asked)
        monkeypatch.setattr(lists, "_PART", 7)
        monkeypatch.setattr(routes, "_FEW", 0)
        large = client.get("/api/v1/devices/file", params=asked)
        one, other = (pl.read_excel(io.BytesIO(answer.content)) for answer in (small, large))
        assert one.equals(other)
        assert one["serial"].to_list() == [f"EX-{number:03}" for number in range(40)]
        assert set(one["site"]) == {"Dunlin", "=Q"}
        nothing = {**asked, "filter": "id gt 999"}
        empty = client.get("/api/v1/devices/file", params=nothing)
        assert pl.read_excel(io.BytesIO(empty.content)).columns == COLUMNS["column"]


def parts_of(frame: pl.DataFrame, size: int) -> Iterator[pl.DataFrame]:
    return (frame.slice(first, size) for first in range(0, frame.height, size))


@pytest.mark.parametrize("size", [1, 2, 3, 5, 7, 100])
def test_more_rows_than_a_sheet_holds_go_to_another(
    monkeypatch: pytest.MonkeyPatch, size: int
) -> None:
    monkeypatch.setattr(workbooks, "_SHEET_ROWS", 3)
    frame = pl.DataFrame({"id": [f"{number}" for number in range(7)]})
    book = b"".join(workbooks.workbook_of(parts_of(frame, size), "devices"))
    found = pl.read_excel(book, sheet_id=0, infer_schema_length=0)
    assert list(found) == ["Devices", "Devices 2", "Devices 3"]
    assert [one["id"].to_list() for one in found.values()] == [
        ["0", "1", "2"],
        ["3", "4", "5"],
        ["6"],
    ]


def test_a_sheet_too_heavy_for_an_archive_is_followed_by_another(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(workbooks, "_SHEET_BYTES", 1_000)
    frame = pl.DataFrame({"id": [f"{number}" for number in range(40)]})
    book = b"".join(workbooks.workbook_of(parts_of(frame, 10), "devices"))
    found = pl.read_excel(book, sheet_id=0, infer_schema_length=0)
    assert len(found) > 2
    assert pl.concat(found.values()).equals(frame)


ODD = [
    "007",
    "=1+1",
    "'=1",
    'a&b<c>"d"',
    "é ش 😀",
    "_x0041_",
    "bell\x07",
    "one\nTwo\tthree",
    "x" * 40_000,
]


def test_a_workbook_says_every_text_as_it_is() -> None:
    frame = pl.DataFrame({"näme & <x>": [*ODD, None, ""], "id": ["1"] * (len(ODD) + 2)})
    book = b"".join(workbooks.workbook_of(iter([frame]), "a very long name of a table of devices"))
    found = pl.read_excel(book, infer_schema_length=0)
    assert found.columns == frame.columns
    assert found["näme & <x>"].to_list() == [*ODD[:-1], "x" * 32_767, None, None]
    # As another reader sees it: text throughout, heads that stay, and a name that fits.
    sheet = load_workbook(io.BytesIO(book)).active
    assert sheet.title == "A very long name of a table "
    assert (sheet.freeze_panes, sheet["A1"].font.b) == ("A2", True)
    assert {cell.data_type for row in sheet.iter_rows() for cell in row if cell.value} == {"s"}
    assert {sheet[f"A{row}"].number_format for row in range(2, 2 + len(ODD))} == {"@"}


def test_the_first_bytes_of_a_workbook_do_not_wait_for_the_last_rows() -> None:
    given = []

    def parts() -> Iterator[pl.DataFrame]:
        for number in range(3):
            given.append(number)
            yield pl.DataFrame({"id": [f"{number}"]})

    book = workbooks.workbook_of(parts(), "devices")
    assert next(book)
    assert given == [0]


def test_parts_say_every_text_as_it_is(fleet: World, monkeypatch: pytest.MonkeyPatch) -> None:
    texts = [
        *ODD[:-1],
        'a "quoted"\r\nline, of two',
        "\\N",
        "\\.",
        "50% of %s",
        "",
        None,
        '"',
        "\n\n",
    ]
    for number, text in enumerate(texts, 1):
        wanted = "UPDATE devices SET note = %s, site = NULL WHERE id = %s RETURNING 1"
        fleet.rows(wanted, text, number)
    monkeypatch.setattr(lists, "_PART", 3)
    monkeypatch.setattr(routes, "_FEW", 0)
    asked = {"column": ["id", "note", "site"], "filter": f"id le {len(texts)}", "form": "xlsx"}
    with http(fleet) as client:
        book = client.get("/api/v1/devices/file", params=asked).content
    found = pl.read_excel(book, infer_schema_length=0)
    assert found["note"].to_list() == [text or None for text in texts]
    assert found["site"].is_null().all()


def test_a_column_that_is_asked_for_twice_is_there_once(fleet: World) -> None:
    with http(fleet) as client:
        twice = {"column": ["site", "serial", "site"]}
        found = client.get("/api/v1/devices/file", params=twice)
        assert as_csv(found.content).columns == ["site", "serial"]
        listed = client.get("/api/v1/devices", params={**twice, "limit": 1}).json()
        assert set(listed["items"][0]["columns"]) == {"site", "serial"}


def test_slow_readers_leave_lists_to_others(fleet: World, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(devices, "_PATIENCE_SECONDS", 0.1)
    with http(fleet) as client:
        for _ in range(4):
            assert devices._AT_ONCE.acquire(timeout=5)
        try:
            answer = client.get("/api/v1/devices/file")
            assert (answer.status_code, answer.json()["code"]) == (503, "busy")
            assert answer.headers["retry-after"]
            listed = client.get("/api/v1/devices", params={"column": "site", "limit": 2}).json()
            assert listed["items"][0]["columns"] == {"site": "Dunlin"}
        finally:
            for _ in range(4):
                devices._AT_ONCE.release()
        assert client.get("/api/v1/devices/file").status_code == 200


def test_a_slow_reader_does_not_keep_its_place_for_ever(
    fleet: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(devices, "_MOST_SECONDS", -1)
    with http(fleet) as client:
        answer = client.get("/api/v1/devices/file")
        assert answer.status_code == 503
        monkeypatch.undo()
        # Every place is free again.
        for _ in range(5):
            assert client.get("/api/v1/devices/file").status_code == 200
