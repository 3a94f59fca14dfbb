"""Levelling the books through the service: rosters handed over, compared, decided, mended."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable
from datetime import timedelta
from pathlib import Path

import openpyxl
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.worlds import World, import_lot, import_people, manifest

from sortitor.client import Sortitor
from sortitor.client import levels as levels_client
from sortitor.client.errors import FactsMoved, Refused
from sortitor.core.levels import FleetDevice, Line, compare
from sortitor.core.sources import Source
from sortitor.core.vocabulary import Gap, GapState, JobState, Mend, Role, SourceKind, Stage
from sortitor.operations import levels as levels_operation
from sortitor.schemas.levels import Discrepancy, GapSelection

HEADERS = "serial,maker,model,person,site"


def add_roster(s: Sortitor, name: str = "Deck books", **more: object) -> int:
    """A roster that is handed over by hand."""
    return s.sources.add(Source(name=name, kind=SourceKind.ROSTER, **more)).id


def hand_over(s: Sortitor, source: int, tmp_path: Path, lines: Iterable[str]) -> dict[str, int]:
    """Give a roster its file; gives what the run counted."""
    path = manifest(tmp_path, [HEADERS, *lines], "roster.csv")
    done = s.sources.take_file(source, path, s.sources.preview_file(source, path).digest)
    return done.counts


def fleet(s: Sortitor, tmp_path: Path, *lines: str) -> None:
    """Devices by lines of serial, maker, model, person, site."""
    import_lot(s, manifest(tmp_path, [HEADERS, *lines]), ownership="corporate")


def gaps(s: Sortitor, **asked: object) -> list[tuple[str, str]]:
    return [(gap.kind.value, gap.label) for gap in s.levels.list(**asked)]


def the_gap(s: Sortitor, kind: Gap) -> Discrepancy:
    [found] = s.levels.list(kind=kind)
    return found


def mend(s: Sortitor, what: Mend, **which: object) -> None:
    chosen = GapSelection(**which)
    s.levels.mend(chosen, what, s.levels.preview_mend(chosen, what).digest, "test")


def test_a_roster_beside_the_fleet(s: Sortitor, tmp_path: Path) -> None:
    """What it misses, what it knows alone, what resembles, what differs."""
    fleet(
        s,
        tmp_path,
        "DH800123,Kelmar,Deckhand 8,,Quill",
        "DH800124,Kelmar,Deckhand 8,,Quill",
        "DH900001,Kelmar,Deckhand 8,,Quill",
    )
    source = add_roster(s, covers='maker eq "Kelmar"')
    counts = hand_over(
        s,
        source,
        tmp_path,
        [
            "DH8OO123,Kelmar,Deckhand 8,,",
            "DH800124,Kelmar,Deckhand 8,,Tarn",
            "XX777777,Ondry,Halyard S2,,",
        ],
    )
    assert counts == {"devices_added": 3}
    found = {gap.key: gap for gap in s.levels.list()}
    kinds = sorted(gap.kind.value for gap in found.values())
    assert kinds == ["absent", "absent", "differs", "unknown", "unknown"]
    near = next(gap for gap in found.values() if gap.near_id is not None)
    assert (near.their_serial, near.near_percent) == ("DH8OO123", 95)
    assert "".join(p.text for p in near.near_theirs if p.differs) == "OO"
    differs = the_gap(s, Gap.DIFFERS)
    assert (differs.field, differs.ours, differs.theirs) == ("site", "Quill", "Tarn")
    levels = s.levels.show()
    assert [(r.name, r.devices) for r in levels.rosters] == [
        ("Bought", 3),
        ("Managed", 0),
        ("Deck books", 3),
    ]
    patterns = {pattern.mask: pattern.devices for pattern in levels.patterns}
    assert patterns == {1: 2, 5: 1, 4: 2}
    assert [d.serial for d in s.levels.pattern(4)] == ["DH8OO123", "XX777777"]
    assert len(list(s.levels.pattern(1))) == 2


def test_keys_stay_and_close_by_themselves(s: Sortitor, tmp_path: Path, world: World) -> None:
    """A decision outlives runs; what is gone closes; what comes again is open again."""
    fleet(s, tmp_path, "DH800123,Kelmar,Deckhand 8,,Quill")
    source = add_roster(s, covers='stage ne "retired"')
    hand_over(s, source, tmp_path, ["XX777777,Ondry,Halyard S2,,"])
    unknown = the_gap(s, Gap.UNKNOWN)
    absent = the_gap(s, Gap.ABSENT)
    assert s.levels.decide(GapSelection(ids=[unknown.id]), GapState.ACCEPTED, owner="Maud") == 1
    until = (world.now + timedelta(days=30)).date()
    s.levels.decide(GapSelection(ids=[absent.id]), GapState.IGNORED, until_on=until)
    hand_over(s, source, tmp_path, ["XX777777,Ondry,Halyard S2,,", "YY888888,Ondry,,,"])
    assert s.levels.show_one(unknown.id).state is GapState.ACCEPTED
    assert s.levels.show_one(unknown.id).owner == "Maud"
    world.later(days=31)
    s.levels.compare()
    assert s.levels.show_one(absent.id).state is GapState.OPEN
    hand_over(s, source, tmp_path, ["DH800123,Kelmar,Deckhand 8,,Quill"])
    assert s.levels.show_one(absent.id).state is GapState.CLOSED
    assert s.levels.show_one(unknown.id).state is GapState.CLOSED
    assert gaps(s) == []
    hand_over(s, source, tmp_path, ["XX777777,Ondry,Halyard S2,,"])
    assert s.levels.show_one(unknown.id).state is GapState.OPEN
    assert {(day.kind, day.open) for day in s.levels.trend() if day.open} == {
        (Gap.UNKNOWN, 1),
        (Gap.ABSENT, 1),
    }


def test_decisions_are_taken_back(s: Sortitor, tmp_path: Path) -> None:
    source = add_roster(s)
    hand_over(s, source, tmp_path, ["XX777777,Ondry,Halyard S2,,"])
    gap = the_gap(s, Gap.UNKNOWN)
    s.levels.decide(GapSelection(ids=[gap.id]), GapState.ACCEPTED, owner="Maud", note="fine")
    entry = next(s.journal.list())
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    again = s.levels.show_one(gap.id)
    assert (again.state, again.owner, again.note) == (GapState.OPEN, None, None)
    # What was decided again since is left as it is, and that is said before.
    s.levels.decide(GapSelection(ids=[gap.id]), GapState.ACCEPTED)
    entry = next(s.journal.list())
    s.levels.decide(GapSelection(ids=[gap.id]), GapState.DONE, owner="Odo")
    preview = s.journal.preview_revert(entry.id)
    assert [count.count for count in preview.counts] == [0, 1]
    s.journal.revert(entry.id, preview.digest)
    assert s.levels.show_one(gap.id).owner == "Odo"
    with pytest.raises(Refused) as refused:
        s.levels.decide(GapSelection(ids=[gap.id]), GapState.IGNORED)
    assert refused.value.problem.code == "until_when"


def test_remedies_close_what_they_promise(s: Sortitor, tmp_path: Path, world: World) -> None:
    """Each kind of remedy, previewed, applied, and taken back."""
    import_people(s, tmp_path, "anna,Anna,anna@x.example,,,")
    fleet(
        s,
        tmp_path,
        "DH800123,Kelmar,Deckhand 8,,Quill",
        "DH800124,Kelmar,Deckhand 8,,Quill",
        "DH900001,Kelmar,Deckhand 8,,Quill",
    )
    source = add_roster(s, covers='maker eq "Kelmar"')
    lines = [
        "DH8OO123,Kelmar,Deckhand 8,,",
        "DH800124,Kelmar,Deckhand 8,anna@x.example,Tarn",
        "XX777777,Ondry,Halyard S2,,",
    ]
    hand_over(s, source, tmp_path, lines)
    mend(s, Mend.TAKE_WORD, kind=Gap.DIFFERS)
    [device] = s.devices.list(query="DH800124")
    assert (device.site, device.person_name) == ("Tarn", "Anna")
    mend(s, Mend.SAME, near_only=True)
    assert gaps(s, kind=Gap.DIFFERS) == []
    assert [gap.label for gap in s.levels.list(kind=Gap.UNKNOWN)] == ["XX777777"]
    [both] = s.devices.list(query="DH8OO123")
    assert both.id == next(s.devices.list(query="DH800123")).id
    mend(s, Mend.TAKE_IN, kind=Gap.UNKNOWN)
    [taken] = s.devices.list(query="XX777777")
    assert taken.stage is Stage.AWAITED
    mend(s, Mend.RETIRE, kind=Gap.ABSENT)
    assert next(s.devices.list(query="DH900001")).stage is Stage.RETIRED
    assert gaps(s) == []
    # What retires here and lives there is the follow-up, until the source lets go of it.
    entry = next(s.journal.list())
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    s.levels.compare()
    assert [kind for kind, _ in gaps(s)] == ["absent"]
    hand_over(s, source, tmp_path, [*lines, "DH900001,Kelmar,Deckhand 8,,"])
    mend_all_retired(s, world)
    assert [kind for kind, _ in gaps(s)] == ["alive"]
    follow_up = the_gap(s, Gap.ALIVE)
    s.levels.decide(GapSelection(ids=[follow_up.id]), GapState.DONE)
    done = s.levels.show_one(follow_up.id)
    assert (done.state, done.done_by) == (GapState.DONE, "coordinator")
    world.later(hours=1)
    hand_over(s, source, tmp_path, [*lines, "DH900001,Kelmar,Deckhand 8,,"])
    assert s.levels.show_one(follow_up.id).state is GapState.OPEN
    hand_over(s, source, tmp_path, lines)
    assert s.levels.show_one(follow_up.id).state is GapState.CLOSED


def mend_all_retired(s: Sortitor, world: World) -> None:
    """Retire the device that is known there, as a sweep would."""
    world.rows(
        "UPDATE devices SET stage = 'retired' WHERE model = 'Deckhand 8' AND id = "
        "(SELECT device_id FROM identifiers WHERE value = 'DH900001') RETURNING id"
    )
    s.levels.compare()


def test_a_mend_that_was_not_shown_is_not_done(s: Sortitor, tmp_path: Path) -> None:
    fleet(s, tmp_path, "DH800124,Kelmar,Deckhand 8,,Quill")
    source = add_roster(s)
    hand_over(s, source, tmp_path, ["DH800124,Kelmar,Deckhand 8,,Tarn"])
    chosen = GapSelection(kind=Gap.DIFFERS)
    preview = s.levels.preview_mend(chosen, Mend.TAKE_WORD)
    hand_over(s, source, tmp_path, ["DH800124,Kelmar,Deckhand 8,,Skerry"])
    with pytest.raises(FactsMoved):
        s.levels.mend(chosen, Mend.TAKE_WORD, preview.digest)
    assert next(s.devices.list()).site == "Quill"


def test_what_a_viewer_sees_of_personal_devices(world: World, s: Sortitor, tmp_path: Path) -> None:
    """Their numbers stay hidden in rosters, discrepancies, patterns and files."""
    import_lot(
        s,
        manifest(tmp_path, [HEADERS, "PERSONAL123,Tavik,Lumen 5,,Quill"]),
        ownership="personal",
    )
    source = add_roster(s)
    hand_over(s, source, tmp_path, ["PERSONAL123,Tavik,Lumen 5,,Tarn", "OTHER00001,Ondry,,,"])
    viewer = world.client(Role.VIEWER)
    assert [line.serial for line in viewer.sources.devices(source)] == ["OTHER00001"]
    assert [line.serial for line in viewer.sources.devices(source, query="PERS")] == []
    path = tmp_path / "gaps.csv"
    viewer.levels.export(path)
    told = path.read_text() + str([gap.model_dump() for gap in viewer.levels.list()])
    masks = [pattern.mask for pattern in viewer.levels.show().patterns]
    told += str([d.model_dump() for mask in masks for d in viewer.levels.pattern(mask)])
    assert "PERSONAL123" not in told
    with pytest.raises(Refused) as refused:
        viewer.levels.decide(GapSelection(source_id=source), GapState.ACCEPTED)
    assert refused.value.problem.status == 403


def test_files_to_take_away(s: Sortitor, tmp_path: Path) -> None:
    source = add_roster(s)
    hand_over(s, source, tmp_path, ["DH8OO123,Kelmar,Deckhand 8,,"])
    path = tmp_path / "gaps.xlsx"
    s.levels.export(path, "xlsx")
    sheet = openpyxl.load_workbook(io.BytesIO(path.read_bytes())).active
    assert [cell.value for cell in sheet[1]][:3] == ["id", "key", "kind"]
    titles = [cell.value for cell in sheet[1]]
    assert sheet.cell(2, titles.index("their_serial") + 1).value == "DH8OO123"


serials = st.sampled_from(["AA00001", "AA00002", "AA00003", "BB00001", "BB00002"])
sides = st.sampled_from(["", "Quill", "quill", "Tarn"])
fleets = st.lists(st.tuples(serials, sides), unique_by=lambda one: one[0], max_size=4)
roster_lines = st.lists(st.tuples(serials, sides), unique_by=lambda one: one[0], max_size=5)


@settings(
    max_examples=12,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(fleets, roster_lines, roster_lines)
def test_the_database_compares_as_the_core_does(
    make_world: object,
    tmp_path_factory: pytest.TempPathFactory,
    there: list[tuple[str, str]],
    first: list[tuple[str, str]],
    second: list[tuple[str, str]],
) -> None:
    """Two rosters against a fleet: the same disagreements by the same keys."""
    world: World = make_world()  # type: ignore[operator]
    s, tmp_path = world.client(), tmp_path_factory.mktemp("levels")
    if there:
        fleet(s, tmp_path, *(f"{serial},Kelmar,,,{site}" for serial, site in there))
    sources = {
        add_roster(s, "One", covers='site eq "Quill"'): first,
        add_roster(s, "Two"): second,
    }
    for source, lines in sources.items():
        if lines:
            hand_over(s, source, tmp_path, [f"{serial},Kelmar,,,{site}" for serial, site in lines])
    s.levels.compare()
    numbers = {device.serial: device for device in s.devices.list()}
    expected = compare(
        [FleetDevice(device.id, device.stage, site=device.site) for device in numbers.values()],
        {
            source: [
                Line(
                    f"serial {serial}",
                    numbers[serial].id if serial in numbers else None,
                    said={"site": site or None},
                )
                for serial, site in lines
            ]
            for source, lines in sources.items()
        },
        {
            next(iter(sources)): [
                device.id for device in numbers.values() if (device.site or "").lower() == "quill"
            ]
        },
    )
    found = sorted((gap.key, gap.kind, gap.ours, gap.theirs) for gap in s.levels.list())
    assert found == [(one.key, one.kind, one.ours, one.theirs) for one in expected]


def test_what_takes_long_is_compared_as_a_job(
    make_world: Callable[..., World], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What a mend closes is closed at once; what follows from it is found by the job."""
    for module in (levels_operation, levels_client):
        monkeypatch.setattr(module, "JOB_ROWS", 0)
    s = make_world(worker=True).client()
    fleet(s, tmp_path, "DH800123,Kelmar,Deckhand 8,,Quill", "DH800124,Kelmar,Deckhand 8,,Quill")
    source = add_roster(s, covers='stage ne "retired"')
    other = add_roster(s, "Yard books")
    hand_over(s, source, tmp_path, ["DH800123,Kelmar,Deckhand 8,,Quill"])
    hand_over(s, other, tmp_path, ["DH800124,Kelmar,Deckhand 8,,Quill"])
    watched: list[JobState] = []
    s.levels.compare(lambda job: watched.append(job.state))
    assert watched[-1] is JobState.DONE
    absent = the_gap(s, Gap.ABSENT)
    mend(s, Mend.RETIRE, ids=[absent.id])
    assert s.levels.show_one(absent.id).state is GapState.CLOSED
    [_, asked] = [job for job in s.jobs.list() if job.kind == "level"]
    assert s.jobs.follow(s.jobs.show(asked.id), lambda job: None).state is JobState.DONE
    for job in s.jobs.list():
        s.jobs.follow(job, lambda job: None)
    assert the_gap(s, Gap.ALIVE).label == absent.label
    assert s.levels.show_one(absent.id).state is GapState.CLOSED
