"""Identifiers of personal devices are for those who work with them: nobody else sees one, in any
answer, nor finds one out letter by letter.
"""

from __future__ import annotations

from pathlib import Path

import pytest
from tests.worlds import World, http, imei, import_lot, manifest

from sortitor.core.filters import matches, parse, veiled
from sortitor.core.vocabulary import Role
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.naming import Template

SECRET = "KMSECRET9876"


@pytest.fixture
def mixed(world: World, tmp_path: Path) -> World:
    """A personal device and a corporate one, both without a name, and a cohort that speaks of
    identifiers.
    """
    s = world.client()
    import_lot(
        s,
        manifest(
            tmp_path,
            [
                "serial,imei,ownership,site",
                f"{SECRET},{imei(1)},personal,Dunlin",
                f"KMOFFICE1234,{imei(2)},corporate,Dunlin",
            ],
        ),
    )
    s.cohorts.add(Cohort(name="Kelmars", filter='serial sw "KM" and imei pr'))
    return world


def test_no_answer_holds_one(mixed: World) -> None:
    probes = [
        "/api/v1/devices",
        "/api/v1/devices?query=9876",
        "/api/v1/devices/1",
        "/api/v1/devices/file?column=serial&column=imei&column=id",
        "/api/v1/cohorts/1/explain?device=1",
        "/api/v1/devices?cohort=1&sort=name",
        "/api/v1/people",
        "/api/v1/today",
    ]
    with http(mixed, Role.VIEWER) as viewer, http(mixed) as coordinator:
        for path in probes:
            for accept in ("application/json", "text/csv"):
                text = viewer.get(path, headers={"Accept": accept}).text
                assert SECRET not in text, path
                assert imei(1) not in text, path
        body = {"name": "Dunlin", "filter": 'site eq "Dunlin"'}
        shown = viewer.post("/api/v1/cohorts/preview", json=body)
        assert shown.status_code == 200
        assert SECRET not in shown.text
        assert SECRET in coordinator.post("/api/v1/cohorts/preview", json=body).text
        explained = viewer.get("/api/v1/cohorts/1/explain?device=1").json()
        assert [clause["actual"] for clause in explained["clauses"]] == ["hidden", "hidden"]
        assert SECRET in coordinator.get("/api/v1/cohorts/1/explain?device=1").text
        assert "KMOFFICE1234" in viewer.get("/api/v1/cohorts/1/explain?device=2").text, (
            "a corporate device's is no secret"
        )


def test_no_filter_finds_one_out(mixed: World) -> None:
    viewer, coordinator = mixed.client(Role.VIEWER), mixed.client()
    guesses = [
        'serial sw "KMS"',
        f'serial eq "{SECRET}"',
        'serial co "SECRET"',
        'serial ew "76"',
        f'imei sw "{imei(1)[:6]}"',
        'serial pr and ownership eq "personal"',
        'not (serial ne "KMSECRET9876")',
    ]
    for text in guesses:
        assert coordinator.devices.count(filter=text) >= 1, text
        assert viewer.devices.count(filter=f"id eq 1 and ({text})") == 0, text
        assert viewer.filters.check(f"id eq 1 and ({text})").devices == 0, text
        guess = Cohort(name="Guess", filter=f"id eq 1 and ({text})")
        counts = {count.key: count.count for count in viewer.cohorts.preview_add(guess).counts}
        assert counts["fit"] == 0, text
        asked = [Template(name="guess", pattern="D-{n}", devices=f"id eq 1 and ({text})")]
        assert coordinator.naming.check(asked)[0].devices == 1, text
        assert viewer.naming.check(asked)[0].devices == 0, text
        told = {count.key: count.count for count in viewer.naming.preview(templates=asked).counts}
        assert told["renamed"] == 0, text
    # As if it had none; a device of the organisation is found as ever.
    assert viewer.devices.count(filter=f'serial ne "{SECRET}"') == 2
    assert viewer.devices.count(filter='serial sw "KM"') == 1


def test_the_search_box_finds_it_only_for_whom_has_it_in_hand(mixed: World) -> None:
    viewer, coordinator = mixed.client(Role.VIEWER), mixed.client()
    for part in ("KMSEC", "KMSECRET", "T9876", "9876"):
        assert [device.id for device in coordinator.devices.list(query=part)] == [1], part
        assert list(viewer.devices.list(query=part)) == [], part
    assert [device.id for device in viewer.devices.list(query=SECRET)] == [1], (
        "who reads it off the box may find it"
    )
    assert [device.id for device in viewer.devices.list(query="KMOFF")] == [2]


@pytest.mark.parametrize(
    "text",
    [
        'serial eq "a"',
        'serial ne "a"',
        "imei pr",
        'not (serial sw "a")',
        'serial eq "a" or site eq "x"',
        'site eq "x" and not (serial ne "a" and imei pr)',
    ],
)
def test_a_veiled_filter_is_that_of_a_device_without_identifiers(text: str) -> None:
    personal = {"ownership": "personal", "serial": ["A"], "imei": ["1"], "site": "x"}
    assert (
        matches(veiled(parse(text)), personal)[0]
        == matches(parse(text), {"ownership": "personal", "site": "x"})[0]
    )
    corporate = {**personal, "ownership": "corporate"}
    assert matches(veiled(parse(text)), corporate)[0] == matches(parse(text), corporate)[0]
