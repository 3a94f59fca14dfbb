"""Devices taken out: in parts of one moment, as a workbook written apart, and never so many at
once that others wait.
"""

import io
from pathlib import Path

import polars as pl
import pytest
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


def test_a_large_workbook_is_written_apart(fleet: World, monkeypatch: pytest.MonkeyPatch) -> None:
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


def test_more_rows_than_a_sheet_holds_go_to_another(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(workbooks, "_SHEET_ROWS", 3)
    path = tmp_path / "book.xlsx"
    rows = [["id"], *([f"{number}"] for number in range(7))]
    workbooks.write(iter(rows), path, "devices")
    found = pl.read_excel(path, sheet_id=0)
    assert list(found) == ["Devices", "Devices 2", "Devices 3"]
    assert [one["id"].to_list() for one in found.values()] == [
        ["0", "1", "2"],
        ["3", "4", "5"],
        ["6"],
    ]


def test_a_writer_that_dies_is_told(fleet: World, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(routes, "_FEW", 0)
    monkeypatch.setattr(workbooks.sys, "executable", "/bin/false")
    with http(fleet) as client:
        answer = client.get("/api/v1/devices/file", params={**COLUMNS, "form": "xlsx"})
    assert (answer.status_code, answer.json()["code"]) == (503, "no_workbook")


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
