"""The journal answers an auditor: by person, device, kind and day, in words, and as a file."""

from __future__ import annotations

import json
from datetime import date
from pathlib import Path

import polars as pl
import pytest
from tests.worlds import World, change_baseline, import_lot, import_people, manifest

from sortitor.client import Sortitor
from sortitor.client.errors import Refused
from sortitor.core.vocabulary import Role
from sortitor.schemas.licences import Pool


@pytest.fixture
def told(world: World, tmp_path: Path) -> Sortitor:
    """Two days: people and devices; then a device goes from one person to the other, a change of
    the gate and one of a pool.
    """
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,Deck,Dunlin,Crew", "odo,Odo Gannet,,,,")
    import_lot(
        s,
        manifest(tmp_path, ["serial", "KM-1", "KM-2"]),
        platform="android",
        ownership="corporate",
    )
    s.pools.add(Pool(name="Charts", seats=1))
    world.later(days=1)
    for person in ("maud", "odo"):
        s.devices.assign(1, person, s.devices.preview_assign(1, person).digest, "night watch")
    change_baseline(s, quota=3)
    s.pools.edit("Charts", Pool(name="Charts", seats=9))
    return s


def operations(s: Sortitor, **asked: object) -> list[str]:
    return [entry.operation for entry in s.journal.list(**asked)]  # type: ignore[arg-type]


def test_entries_are_found_by_whom_what_and_when(world: World, told: Sortitor) -> None:
    s = told
    assert operations(s, person="maud") == ["device.assign", "device.assign"]
    assert operations(s, person="odo") == ["device.assign"]
    assert operations(s, device=1) == ["device.assign", "device.assign", "lot.apply"]
    assert operations(s, device=2) == ["lot.apply"]
    assert operations(s, operation="gate,") == ["gate.edit"]
    assert operations(s, operation="gate,pool") == ["pool.edit", "gate.edit", "pool.add"]
    second = world.now.date()
    assert operations(s, since=second, operation="device,lot")[-1] == "device.assign"
    first = date.fromordinal(second.toordinal() - 1)
    assert operations(s, until=first, operation="pool") == ["pool.add"]
    assert operations(s, since=first, until=second, device=2) == ["lot.apply"]
    assert operations(s, actor="COORDINATOR", operation="gate") == ["gate.edit"]
    assert operations(s, actor="nobody") == []
    for asked, words in (
        ({"person": "nemo"}, "There is no person nemo"),
        ({"since": second, "until": first}, "before the first"),
    ):
        with pytest.raises(Refused, match=words):
            operations(s, **asked)


def test_pages_hold_together(told: Sortitor) -> None:
    whole = [entry.id for entry in told.journal.list()]
    assert whole == sorted(whole, reverse=True)
    by_device = [entry.id for entry in told.journal.list(device=1, most=2)]
    assert len(by_device) == 2


def test_oldest_first(told: Sortitor) -> None:
    newest = [entry.id for entry in told.journal.list()]
    assert [entry.id for entry in told.journal.list(descending=False)] == newest[::-1]
    assert [entry.id for entry in told.journal.list(most=1, descending=False)] == newest[-1:]


def test_what_changed_is_told_in_words(told: Sortitor) -> None:
    s = told
    pool, gate, given, *_ = s.journal.list()
    assert [(one.field, one.before, one.after) for one in pool.changes] == [("seats", "1", "9")]
    [change] = [one for one in gate.changes if "quota" in one.field]
    assert change.field == "policies › Baseline › quota › devices"
    assert change.after == "3"
    [effect] = s.journal.show(given.id).effects
    assert effect.label == s.devices.show(1).serial
    [person] = [one for one in effect.changes if one.field == "person"]
    assert (person.before, person.after) == ("Maud Fenwick", "Odo Gannet")
    assert not {"person id", "manual"} & {one.field for one in effect.changes}
    [happening, *_] = s.devices.show(1).timeline
    assert [one.field for one in happening.changes] == [one.field for one in effect.changes]
    # What took it back says so, too.
    s.journal.revert(pool.id, s.journal.preview_revert(pool.id).digest)
    [back] = s.journal.list(most=1)
    assert [(one.before, one.after) for one in back.changes] == [("9", "1")]


def test_the_same_entries_as_files(told: Sortitor, tmp_path: Path) -> None:
    s, path = told, tmp_path / "out"
    s.journal.file(path, "csv", person="odo")
    table = pl.read_csv(path, infer_schema=False)
    assert table.columns[:4] == ["Entry", "At (UTC)", "By", "What"]
    assert table["Why"].to_list() == ["night watch"]
    s.journal.file(path, "csv", operation="pool.edit")
    assert pl.read_csv(path, infer_schema=False)["Changes"].to_list() == ["seats 1 → 9"]
    s.journal.file(path, "xlsx", operation="pool")
    assert pl.read_excel(path.read_bytes())["Operation"].to_list() == ["pool.edit", "pool.add"]
    s.journal.file(path, "jsonl", operation="gate")
    [line] = path.read_text().splitlines()
    assert json.loads(line)["operation"] == "gate.edit"
    assert json.loads(line)["changes"]
    assert operations(s, operation="export", most=1) == ["export"]
    # What cannot be asked is refused, not a file that breaks off.
    for form in ("csv", "jsonl"):
        with pytest.raises(Refused, match="There is no person nemo"):
            s.journal.file(path, form, person="nemo")  # type: ignore[arg-type]


def test_many_entries_come_whole(world: World, told: Sortitor, tmp_path: Path) -> None:
    world.rows(
        "INSERT INTO journal (at, actor, operation, subject, summary)"
        " SELECT now(), 'night', 'device.knock', 'device', 'knock ' || n"
        " FROM generate_series(1, 1203) AS n"
    )
    path = tmp_path / "out"
    world.client(Role.VIEWER).journal.file(path, "jsonl", actor="night")
    numbers = [json.loads(line)["id"] for line in path.read_text().splitlines()]
    assert len(numbers) == len(set(numbers)) == 1203
    told.journal.file(path, "csv", actor="night")
    assert pl.read_csv(path, infer_schema=False).height == 1203
