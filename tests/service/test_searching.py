"""The search box: whether a text is found at few devices or at many, the same ones are found."""

from pathlib import Path

import pytest
from tests.worlds import World, a_pass, import_people, knocking

from sortitor.core.vocabulary import Activation, Role
from sortitor.store.devices import lists

PEOPLE = ("Maud Fenwick", "İzmir Kaya", "Łucja 100%", "Ola_Ny", "سلمى", "Straße")
TEXTS = (
    *("maud", "fenwick", "İzmir", "izm", "łucja", "100%", "%", "_", "ola_", "سل", "STRASSE"),
    *("SE-0", "SE-01", "E-01", "0011", "WM-1", "a-7", "quay", "se", "", "nothing"),
)


@pytest.fixture
def fleet(world: World, tmp_path: Path) -> World:
    """Devices of people with names of many kinds, of which every third is personal."""
    s = world.client()
    import_people(s, tmp_path, *(f"p{n},{name},,Deck,Dunlin," for n, name in enumerate(PEOPLE)))
    for number in range(18):
        code = a_pass(s, person=f"p{number % 6}", activation=Activation.PERSON)
        s.agent.knock(knocking(code, f"SE-{number:04}"))
    world.rows(
        "UPDATE devices SET name = 'WM-' || id, asset_tag = 'A-' || id, ownership = CASE WHEN"
        " id %% 3 = 0 THEN 'personal' ELSE 'corporate' END RETURNING 1"
    )
    return world


@pytest.mark.parametrize("role", [Role.COORDINATOR, Role.VIEWER])
def test_few_and_many_are_found_alike(
    fleet: World, role: Role, monkeypatch: pytest.MonkeyPatch
) -> None:
    s = fleet.client(role)

    def found(text: str, sort: str) -> list[int]:
        return [device.id for device in s.devices.list(query=text, sort=sort)]

    for sort in ("id", "name", "site", "seen"):
        few = {text: found(text, sort) for text in TEXTS}
        for look in (1, 3):
            # So many are found, and looked at on the way, before they count as many.
            monkeypatch.setattr(lists, "_LOOK", look)
            assert {text: found(text, sort) for text in TEXTS} == few
        monkeypatch.undo()


def test_names_are_found_as_they_are_written(fleet: World) -> None:
    s = fleet.client()

    def whose(text: str) -> set[str | None]:
        return {device.person_name for device in s.devices.list(query=text)}

    for name in PEOPLE:
        assert whose(name) == {name}
        assert [one.name for one in s.people.list(query=name)] == [name]
    assert whose("%") == {"Łucja 100%"}
    assert whose("ola_") == {"Ola_Ny"}
    assert whose("la_") == {"Ola_Ny"}
