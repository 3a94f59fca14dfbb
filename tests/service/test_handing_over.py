"""Devices given and taken in numbers, and somebody who leaves."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import date
from pathlib import Path

import pytest
from tests.identifiers import imei
from tests.worlds import (
    World,
    a_pass,
    change_baseline,
    http,
    import_lot,
    import_people,
    knocking,
    manifest,
)

from sortitor.client import Sortitor
from sortitor.client.errors import FactsMoved, Refused, SortitorProblem
from sortitor.core.vocabulary import Activation, Parting, Role, Stage
from sortitor.schemas.base import Preview
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.devices import Selection
from sortitor.schemas.holds import HoldNew
from sortitor.schemas.people import Departure, PartingOf


def furnished(s: Sortitor, tmp_path: Path, count: int = 4) -> list[int]:
    """Maud, Odo and Eve; so many devices of Maud's in use."""
    people = ("maud,Maud Fenwick,maud@example.org,,,Crew", "odo,Odo Gannet,,,,Crew", "eve,Eve,,,,")
    import_people(s, tmp_path, *people)
    change_baseline(s, quota=9)
    code = a_pass(s, person="maud", max_uses=50)
    numbers = [s.agent.knock(knocking(code, f"KM-{n}")).device_id or 0 for n in range(count)]
    [made] = [one for one in s.passes.list() if one.person_name == "Maud Fenwick"]
    s.passes.revoke(made.id)
    return numbers


def counts(preview: Preview) -> dict[str, int]:
    return {count.key: count.count for count in preview.counts}


def give(s: Sortitor, ids: list[int], person: str | None) -> Preview:
    chosen = Selection(ids=ids)
    return s.devices.give(chosen, person, s.devices.preview_give(chosen, person).digest)


def take_back(s: Sortitor) -> Preview:
    entry = next(iter(s.journal.list()))
    shown = s.journal.preview_revert(entry.id)
    s.journal.revert(entry.id, shown.digest)
    return shown


def test_many_are_given_at_once_as_far_as_the_quota_goes(world: World, tmp_path: Path) -> None:
    s = world.client()
    ids = furnished(s, tmp_path)
    waiting = a_pass(s, activation=Activation.COORDINATOR)
    parked = s.agent.knock(knocking(waiting, "KM-9")).device_id or 0
    change_baseline(s, quota=3)
    chosen = Selection(ids=[*ids, parked])
    shown = s.devices.preview_give(chosen, "odo")
    assert counts(shown) == {
        "given": 3, "holding": 0, "refused": 2, "from": 1, "parked": 0, "same": 0,
    }  # fmt: skip
    assert "allows 3 devices per person" in shown.examples[0].note
    s.devices.give(chosen, "odo", shown.digest, "change of watch")
    assert s.people.show("odo").holding == 3
    assert s.devices.show(parked).stage is Stage.PARKED
    entry = next(iter(s.journal.list()))
    assert entry.summary == "3 devices given to Odo Gannet"
    change_baseline(s, quota=9)
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert (s.people.show("odo").holding, s.people.show("maud").holding) == (0, 4)


def test_a_waiting_one_comes_into_use_and_a_retired_one_is_left_out(
    world: World, tmp_path: Path
) -> None:
    s = world.client()
    ids = furnished(s, tmp_path, 2)
    waiting = a_pass(s, activation=Activation.COORDINATOR)
    parked = s.agent.knock(knocking(waiting, "KM-9")).device_id or 0
    gone = Selection(ids=ids[:1])
    s.devices.retire(gone, s.devices.preview_retire(gone).digest)
    shown = s.devices.preview_give(Selection(ids=[*ids, parked]), "odo")
    assert (counts(shown)["given"], counts(shown)["retired"], counts(shown)["parked"]) == (2, 1, 1)
    give(s, [*ids, parked], "odo")
    assert s.devices.show(parked).stage is Stage.ACTIVE
    give(s, [ids[1], parked], None)
    assert s.devices.show(parked).person_id is None
    assert s.devices.preview_give(Selection(ids=[parked]), None).nothing_to_do
    with pytest.raises(Refused, match="None of these"):
        give(s, [parked], None)
    with pytest.raises(Refused, match="No devices are named"):
        s.devices.preview_give(Selection(), "odo")
    with pytest.raises(SortitorProblem, match="nobody"):
        s.devices.preview_give(Selection(ids=ids), "nobody")


def test_who_has_more_than_some_is_found(world: World, tmp_path: Path) -> None:
    s = world.client()
    ids = furnished(s, tmp_path, 3)
    import_lot(s, manifest(tmp_path, ["serial,site", "ZZ-1,Petrel"]), platform="android")
    give(s, ids[:1], "odo")
    found = {
        asked: s.devices.count(filter=f"person.devices {asked}")
        for asked in ("gt 1", "ge 1", "eq 1", "lt 2", "eq 0", "ge 0", "gt -1", "pr", "ne 2")
    }
    assert found == {
        "gt 1": 2, "ge 1": 3, "eq 1": 1, "lt 2": 1, "eq 0": 0, "ge 0": 3, "gt -1": 3, "pr": 3,
        "ne 2": 2,
    }  # fmt: skip
    [line] = [one for one in s.devices.list(column=["person.devices"]) if one.id == ids[1]]
    assert (line.columns or {})["person.devices"] == "2"
    cohort = Cohort(name="Well furnished", filter="person.devices gt 1")
    made = s.cohorts.add(cohort, s.cohorts.preview_add(cohort).digest)
    assert made.devices == 2
    give(s, ids[1:2], "odo")
    # Nobody's filter changed, and nobody has to wait for a night's work.
    assert s.cohorts.show(made.id).devices == 2
    give(s, ids[2:], "odo")
    assert s.cohorts.show(made.id).devices == 3


def test_a_lot_finds_what_it_added_and_what_it_changed(world: World, tmp_path: Path) -> None:
    s = world.client()
    first = import_lot(s, manifest(tmp_path, ["serial,site", "A-1,Petrel", "A-2,Petrel"]))
    lines = ["serial,site", "A-2,Gannet", "A-3,Gannet", "A-1,Petrel"]
    second = import_lot(s, manifest(tmp_path, lines, "second.csv"))
    serials = sorted(one.serial or "" for one in s.devices.list(lot=second))
    assert serials == ["A-2", "A-3"]
    assert s.devices.count(lot=first) == 2
    chosen = Selection(lot_id=second)
    assert s.devices.preview_retire(chosen).examples_total == 2
    s.lots.revert(second, s.lots.preview_revert(second).digest)
    assert s.devices.count(lot=second) == 0


def leave(s: Sortitor, departure: Departure, reason: str | None = None) -> Preview:
    digest = s.people.preview_departure("maud", departure).digest
    return s.people.leave("maud", departure, digest, reason)


def test_somebody_leaves_with_all_that_is_theirs(world: World, tmp_path: Path) -> None:
    s = world.client()
    given, taken, retired, missing, kept = furnished(s, tmp_path, 5)
    credential = s.agent.knock(knocking(a_pass(s, person="maud"), "KM-77"))
    held = HoldNew(person="maud", reason="leave", until_on=date(2026, 6, 1))
    s.holds.add(held, s.holds.preview(held).digest)
    departure = Departure(
        devices=[
            PartingOf(ids=[given], act=Parting.GIVE, person="odo"),
            PartingOf(ids=[taken], act=Parting.TAKE),
            PartingOf(ids=[retired, credential.device_id or 0], act=Parting.RETIRE),
            PartingOf(ids=[missing], act=Parting.MISSING),
        ]
    )
    shown = s.people.preview_departure("maud", departure)
    assert counts(shown) == {
        "give": 1, "take": 1, "retire": 2, "missing": 1, "stay": 1, "passes": 1, "holds": 1,
    }  # fmt: skip
    assert shown.examples[0].note == "nothing was decided"
    s.people.leave("maud", departure, shown.digest, "end of season")
    person = s.people.show("maud")
    assert person.left_at is not None
    assert person.holds == []
    assert {one.id for one in person.devices if one.stage is not Stage.RETIRED} == {missing, kept}
    assert s.devices.show(given).person_name == "Odo Gannet"
    assert s.devices.show(taken).person_id is None
    assert s.devices.show(missing).flag == "missing"
    with pytest.raises(Exception, match="credential"):
        s.agent.check_in(credential.credential or "")
    entry = next(iter(s.journal.list()))
    assert entry.summary == "Maud Fenwick has left, 5 devices settled"

    # One way back: what went on since stays, and is said first.
    give(s, [given], "eve")
    shown = s.journal.preview_revert(entry.id)
    assert shown.examples[0].device_id == given
    assert "1 pass of theirs stays revoked" in shown.warnings[-1]
    s.journal.revert(entry.id, shown.digest)
    person = s.people.show("maud")
    assert person.left_at is None
    assert len(person.holds) == 1
    assert person.holding == 5
    assert s.devices.show(given).person_name == "Eve"
    assert s.agent.check_in(credential.credential or "") is not None


def test_whoever_has_left_is_closed_afterwards(world: World, tmp_path: Path) -> None:
    s = world.client()
    ids = furnished(s, tmp_path, 2)
    s.people.set_left("maud")
    everything = Departure(devices=[PartingOf(ids=ids, act=Parting.TAKE)])
    leave(s, everything)
    assert s.people.show("maud").holding == 0
    assert s.people.preview_departure("maud", Departure()).nothing_to_do
    take_back(s)
    # It did not begin by this that she has left, so it does not end by taking it back.
    assert s.people.show("maud").left_at is not None
    assert s.people.show("maud").holding == 2


def test_two_shares_of_one_receiver_fill_one_quota(world: World, tmp_path: Path) -> None:
    s = world.client()
    ids = furnished(s, tmp_path, 4)
    change_baseline(s, quota=3)
    departure = Departure(
        devices=[
            PartingOf(ids=ids[:2], act=Parting.GIVE, person="odo"),
            PartingOf(ids=ids[2:], act=Parting.GIVE, person="odo"),
        ]
    )
    shown = s.people.preview_departure("maud", departure)
    assert (counts(shown)["give"], counts(shown)["stay"]) == (3, 1)
    assert "allows 3 devices per person" in shown.examples[0].note
    leave(s, departure)
    assert s.people.show("odo").holding == 3


def test_a_departure_is_checked(world: World, tmp_path: Path) -> None:
    s = world.client()
    first, second = furnished(s, tmp_path, 2)
    give(s, [second], "odo")
    take, to = Parting.TAKE, Parting.GIVE
    for parts, words in (
        ([PartingOf(ids=[second], act=take)], "not in use by Maud"),
        ([PartingOf(ids=[first, first], act=take)], "named twice"),
        ([PartingOf(ids=[first], act=to)], "not said who"),
        ([PartingOf(ids=[first], act=take, person="odo")], "Nobody gets"),
        ([PartingOf(ids=[first], act=to, person="maud")], "the one who leaves"),
        ([PartingOf(ids=[first], act=to, person="nobody")], "nobody"),
    ):
        with pytest.raises(SortitorProblem, match=words):
            s.people.preview_departure("maud", Departure(devices=parts))
    departure = Departure(devices=[PartingOf(ids=[first], act=take)])
    digest = s.people.preview_departure("maud", departure).digest
    give(s, [first], "odo")
    with pytest.raises((FactsMoved, Refused)):
        s.people.leave("maud", departure, digest)
    assert s.people.show("maud").left_at is None
    technician = world.client(Role.TECHNICIAN)
    with pytest.raises(SortitorProblem, match="people"):
        technician.people.leave("maud", Departure(), digest)


def test_two_leave_to_each_other_at_once(world: World, tmp_path: Path) -> None:
    """Neither waits for the other for ever, and no device is lost."""
    s = world.client()
    ids = furnished(s, tmp_path, 6)
    give(s, ids[3:], "odo")

    def go(whom: str, to: str) -> None:
        client = world.client()
        theirs = [one.id for one in client.people.show(whom).devices]
        parts = [PartingOf(ids=theirs, act=Parting.GIVE, person=to)] if theirs else []
        departure = Departure(devices=parts)
        try:
            digest = client.people.preview_departure(whom, departure).digest
            client.people.leave(whom, departure, digest)
        except SortitorProblem:
            return

    with ThreadPoolExecutor(2) as pool:
        list(pool.map(go, ("maud", "odo"), ("odo", "maud")))
    assert s.devices.count(filter="person.userName pr") == 6
    assert sum(s.people.show(one).left_at is not None for one in ("maud", "odo")) >= 1


def test_a_change_names_its_entry(world: World, tmp_path: Path) -> None:
    """Where a change is made, its way back is at hand."""
    s = world.client()
    [first] = furnished(s, tmp_path, 1)
    chosen = {"selection": {"ids": [first]}, "person": None}
    with http(world) as http_client:
        looked = http_client.post("/api/v1/devices/give/preview", json=chosen)
        assert "Sortitor-Journal-Entry" not in looked.headers
        body = {**chosen, "digest": looked.json()["digest"]}
        done = http_client.post("/api/v1/devices/give/apply", json=body)
        entry = int(done.headers["Sortitor-Journal-Entry"])
        refused = http_client.post("/api/v1/devices/give/apply", json=body)
        assert refused.status_code == 409
        assert "Sortitor-Journal-Entry" not in refused.headers
    assert next(iter(s.journal.list())).id == entry


def test_a_list_means_devices_whatever_it_looks_like(world: World, tmp_path: Path) -> None:
    s = world.client()
    number = imei(7)
    lines = ["serial,imei,asset_tag,site", f"A-1,{number},WL-0001,Petrel", "A-2,,WL-0002,Gannet"]
    import_lot(s, manifest(tmp_path, lines), platform="android")
    first, second = sorted(one.id for one in s.devices.list())
    spaced = f"{number[:6]} {number[6:]}"
    for pasted, rows in (
        ("A-2\nA-1\n", 2),
        ("a-2; a-1", 2),
        (f"Name\tSerial\tIMEI\nOdo\tA-2\t\nMaud\t\t{spaced}\n", 2),
        ("Odo\tA-2\tGannet\nMaud\tA-1\tPetrel\n", 2),
        ("wl-0002\nWL-0001", 2),
    ):
        found = s.devices.find(pasted)
        assert (found.rows, sorted(found.ids)) == (rows, [first, second]), pasted
        assert not found.unknown, pasted
    found = s.devices.find("Serial\tSite\nA-1\tPetrel\nZZ-9\tPetrel\n")
    assert found.ids == [first]
    assert [(one.row, one.text) for one in found.unknown] == [(3, "ZZ-9, Petrel")]
    path = tmp_path / "listed.csv"
    path.write_text("Gerät;Seriennummer\nx;A-2\n", "utf-8")
    assert s.devices.find(path).ids == [second]
    assert s.devices.count() == 2


def test_a_list_is_bounded_and_read_for_whoever_may_act_on_it(world: World) -> None:
    s = world.client()
    many = "\n".join(f"ZZ-{number}" for number in range(10_001))
    with pytest.raises(Refused, match="10,000 rows and 200,000 cells can be found at once"):
        s.devices.find(many)
    wide = "\n".join("\t".join(f"Z{row}-{cell}" for cell in range(300)) for row in range(700))
    with pytest.raises(Refused, match="can be found at once"):
        s.devices.find(wide)
    with pytest.raises(SortitorProblem, match="change devices"):
        world.client(Role.VIEWER).devices.find("KM-1")
    with pytest.raises(Refused):
        s.devices.find("   ")


def test_columns_of_a_spreadsheet_are_columns_in_a_lot_too(world: World, tmp_path: Path) -> None:
    s = world.client()
    lot = s.lots.check(paste="Serial\tSite\nKM-1\tPetrel\nKM-2\tGannet\n")
    assert lot.headers == ["Serial", "Site"]
    assert lot.counts["reject"] == 2, "a paste makes no devices"
    [row, _] = list(s.lots.rows(lot.id))
    assert row.cells["Site"] == "Petrel"
