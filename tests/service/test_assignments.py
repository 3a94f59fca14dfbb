"""Waiting devices given to their people by a list that was taken out and comes back filled in."""

from __future__ import annotations

import csv
import io
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import polars as pl
import pytest
from tests.worlds import World, a_pass, change_baseline, import_people, knocking

from sortitor.client import Sortitor
from sortitor.client.errors import FactsMoved, Refused
from sortitor.core.vocabulary import Activation, Role, Stage
from sortitor.operations import files


def waiting(world: World, tmp_path: Path, number: int) -> Sortitor:
    """So many devices that wait."""
    s = world.client()
    import_people(
        s,
        tmp_path,
        "maud,Maud Fenwick,maud@wrenmoor.example,,,Crew",
        "odo,Odo Gannet,,,,Crew",
        "eve,Eve Sallow,,,,Crew",
    )
    code = a_pass(s, activation=Activation.COORDINATOR)
    for place in range(number):
        s.agent.knock(knocking(code, f"KM-{place}0", person="maud"))
    return s


def filled(s: Sortitor, tmp_path: Path, people: list[str], name: str = "list.csv") -> Path:
    """The list as it comes back, with these people in order."""
    text = s.arrivals.waiting_file().decode("utf-8-sig")
    lines = list(csv.DictReader(io.StringIO(text)))
    for line, person in zip(lines, people, strict=False):
        line["Person"] = person
    path = tmp_path / name
    with path.open("w", newline="") as file:
        writer = csv.DictWriter(file, list(lines[0]))
        writer.writeheader()
        writer.writerows(lines)
    return path


def counts(preview: object) -> dict[str, int]:
    return {count.key: count.count for count in preview.counts}  # type: ignore[attr-defined]


def test_a_list_comes_back_filled_is_previewed_applied_and_reverted(
    world: World, tmp_path: Path
) -> None:
    s = waiting(world, tmp_path, 5)
    path = filled(s, tmp_path, ["MAUD@wrenmoor.example", "", "nobody.here", "odo", "odo"])
    shown = s.arrivals.preview_assignments(path)
    assert counts(shown) == {"given": 3, "blank": 1, "faults": 1}
    [fault] = [one for one in shown.examples if one.note]
    assert (fault.field, fault.note) == (
        "row 4",
        "There is no person nobody.here. Write the user name or the mail address.",
    )
    s.arrivals.apply_assignments(path, shown.digest, "the April list")
    by_person = [(d.person_name, d.stage) for d in s.devices.list()]
    assert by_person == [
        ("Maud Fenwick", Stage.ACTIVE),
        (None, Stage.PARKED),
        (None, Stage.PARKED),
        ("Odo Gannet", Stage.ACTIVE),
        ("Odo Gannet", Stage.ACTIVE),
    ]
    entry = next(e for e in s.journal.list() if e.operation == "device.assign_list")
    assert (entry.summary, entry.reason) == ("3 devices given by a list", "the April list")
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest, "wrong list")
    assert {(d.person_name, d.stage) for d in s.devices.list()} == {(None, Stage.PARKED)}


def test_any_name_is_found_as_it_is_written(world: World, tmp_path: Path) -> None:
    s = waiting(world, tmp_path, 4)
    odd = 'o"d\\o, {1}'
    world.rows("UPDATE people SET user_name = %s WHERE user_name = 'odo'", odd)
    path = filled(s, tmp_path, [odd, "\\", '"},{"', "NULL"])
    shown = s.arrivals.preview_assignments(path)
    assert counts(shown) == {"given": 1, "blank": 0, "faults": 3}
    s.arrivals.apply_assignments(path, shown.digest)
    assert {d.person_name for d in s.devices.list()} == {None, "Odo Gannet"}


@pytest.mark.parametrize("digits", [19, 25, 5_000])
def test_a_number_longer_than_any_is_no_devices(world: World, tmp_path: Path, digits: int) -> None:
    s = waiting(world, tmp_path, 1)
    path = filled(s, tmp_path, ["odo"])
    titles, row = path.read_text().splitlines()
    path.write_text(f"{titles}\n{'9' * digits},{row.partition(',')[2]}\n")
    [fault] = s.arrivals.preview_assignments(path).examples
    assert fault.note.startswith(f"There is no device {'9' * digits}.")


def test_what_a_preview_has_read_is_not_read_again(
    world: World, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    s = waiting(world, tmp_path, 3)
    path, other = (
        filled(s, tmp_path, ["odo"], name) for name in ("list.csv", "the same by any name.csv")
    )
    digest = s.arrivals.preview_assignments(path).digest
    monkeypatch.setattr(files, "read_file", None)
    s.arrivals.apply_assignments(other, digest)
    assert [d.person_name for d in s.devices.list()].count("Odo Gannet") == 1


def test_the_quota_holds_row_by_row(world: World, tmp_path: Path) -> None:
    s = waiting(world, tmp_path, 4)
    change_baseline(s, quota=2)
    shown = s.arrivals.preview_assignments(filled(s, tmp_path, ["odo"] * 4))
    assert counts(shown) == {"given": 2, "blank": 0, "faults": 2}
    assert "allows 2 devices per person; odo has 2" in shown.examples[0].note


def test_two_lists_at_once_never_pass_the_quota(world: World, tmp_path: Path) -> None:
    s = waiting(world, tmp_path, 6)
    change_baseline(s, quota=3)
    paths = [
        filled(s, tmp_path, people, f"{place}.csv")
        for place, people in enumerate((["eve"] * 3 + [""] * 3, [""] * 3 + ["eve"] * 3))
    ]
    looked = [(path, s.arrivals.preview_assignments(path).digest) for path in paths]

    def apply(one: tuple[Path, str]) -> str:
        with Sortitor(world.url, world.tokens[Role.COORDINATOR]) as colleague:
            try:
                colleague.arrivals.apply_assignments(*one)
            except FactsMoved:
                return "moved"
            return "given"

    with ThreadPoolExecutor(2) as threads:
        assert sorted(threads.map(apply, looked)) == ["given", "moved"]
    assert s.people.show("eve").holding == 3


def test_a_device_twice_one_that_waits_no_longer_and_one_unknown(
    world: World, tmp_path: Path
) -> None:
    s = waiting(world, tmp_path, 2)
    path = filled(s, tmp_path, ["odo", "eve"])
    lines = path.read_text().splitlines()
    path.write_text("\n".join([*lines, lines[1], lines[1].replace("1,", "999,", 1)]) + "\n")
    shown = s.arrivals.preview_assignments(path)
    assert [one.note.partition(".")[0] for one in shown.examples if one.note] == [
        "Row 2 gives the same device",
        "There is no device 999",
    ]
    s.arrivals.apply_assignments(path, shown.digest)
    again = s.arrivals.preview_assignments(path)
    assert counts(again)["given"] == 0
    assert "waits no longer" in again.examples[0].note
    with pytest.raises(Refused, match="no column “Person”"):
        s.arrivals.preview_assignments(_written(tmp_path, "Device\n1\n"))


def _written(tmp_path: Path, text: str) -> Path:
    path = tmp_path / "other.csv"
    path.write_text(text)
    return path


def test_the_list_as_a_workbook_hides_what_a_viewer_may_not_see(
    world: World, tmp_path: Path
) -> None:
    s = waiting(world, tmp_path, 1)
    book = pl.read_excel(io.BytesIO(s.arrivals.waiting_file("xlsx")))
    assert book.row(0, named=True)["Serial"] == "KM-00"
    assert book.row(0, named=True)["Says"] == "maud"
    viewers = world.client(Role.VIEWER).arrivals.waiting_file().decode()
    assert "KM-00" not in viewers
