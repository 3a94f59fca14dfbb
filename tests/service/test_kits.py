"""Kits: what devices get is previewed, decided by the core, right in the moment of every change,
and taken back.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from jsonschema_rs import Draft202012Validator
from tests.kits import agree_on_kits
from tests.worlds import World, a_pass, import_lot, import_people, knocking, manifest

from sortitor.client import Sortitor
from sortitor.client.errors import FactsMoved, Refused
from sortitor.core.vocabulary import FirstStep, GivenAs, ItemVerdict, Ownership, Platform, Role
from sortitor.schemas.base import Preview
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.devices import Selection
from sortitor.schemas.kits import (
    Checklist,
    EffectiveKit,
    Given,
    ImaginedDevice,
    Item,
    Kit,
    OwnSetting,
    SetupSheet,
)


def item(name: str, payload: dict[str, Any], **beside: Any) -> Item:
    return Item.model_validate({"name": name, "payload": payload, **beside})


def setting(name: str, key: str, value: Any, **beside: Any) -> Item:
    return item(name, {"kind": "setting", "setting": key, "value": value}, **beside)


def given(*words: str) -> tuple[Given, ...]:
    """`Deck`, `everyone` or `Bridge=excluded`."""
    made = []
    for one in words:
        name, _, word = one.partition("=")
        cohort = None if name == "everyone" else name
        made.append(Given(cohort=cohort, word=GivenAs(word or "required")))
    return tuple(made)


def counts(preview: Preview) -> dict[str, int]:
    return {one.label: one.count for one in preview.counts}


def got(kit: EffectiveKit) -> dict[str, str]:
    return {line.name: line.verdict.value for line in kit.lines}


@pytest.fixture
def fleet(world: World, tmp_path: Path) -> Sortitor:
    """Twelve phones: even ones on deck, odd ones on the bridge, every third nobody's."""
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,Engine,Dunlin,Crew", "odo,Odo Gannet,,,,")
    lines = [
        f"KM-{i:02},{['Deck', 'Bridge'][i % 2]},{['android', 'ios'][i // 6]},"
        f"{['maud', 'odo', ''][i % 3]}"
        for i in range(12)
    ]
    import_lot(
        s, manifest(tmp_path, ["serial,site,platform,person", *lines]), ownership="corporate"
    )
    for name in ("Deck", "Bridge"):
        s.cohorts.add(Cohort(name=name, filter=f'site eq "{name}"'))
    s.cohorts.add(Cohort(name="Drawer"))
    return s


def ids(s: Sortitor, **conditions: Any) -> list[int]:
    return sorted(device.id for device in s.devices.list(**conditions))


def test_a_kit_is_previewed_given_felt_at_once_and_taken_back(
    world: World, fleet: Sortitor
) -> None:
    s = fleet
    s.items.add(setting("No screenshots", "screenshots", "refused"))
    s.items.add(setting("Old phones", "camera", "refused", platforms={"android": "10"}))
    kit = Kit(name="On deck", items=("No screenshots", "Old phones"), given=given("Deck"))
    shown = s.kits.preview_add(kit)
    assert counts(shown) == {
        "devices gain something": 6,
        "devices lose something": 0,
        "devices gain “No screenshots”": 6,
        "devices gain “Old phones”": 3,
    }
    assert shown.examples_total >= 1
    s.kits.add(kit, shown.digest)
    agree_on_kits(world)
    on_deck, on_bridge = ids(s, filter='site eq "Deck"'), ids(s, filter='site eq "Bridge"')
    assert got(s.kits.of_device(on_deck[0])) == {
        "No screenshots": "required",
        "Old phones": "required",
    }
    assert got(s.kits.of_device(on_bridge[0])) == {}
    assert ids(s, filter='items eq "no screenshots"') == on_deck
    assert ids(s, filter="not (items pr)") == on_bridge
    getting = s.items.getting("Old phones")
    assert getting.devices[ItemVerdict.REQUIRED] == getting.devices[ItemVerdict.NOT_FOR] == 3
    assert [(one.through.name, one.through.cohort, one.devices) for one in getting.through] == [
        ("On deck", "Deck", 6)
    ]
    # A device that moves gets it in the same moment, and one that leaves loses it.
    world.client().cohorts.edit("Deck", Cohort(name="Deck", filter='site eq "Bridge"'))
    agree_on_kits(world)
    assert ids(s, filter='items eq "No screenshots"') == on_bridge
    entry = next(iter(s.journal.list(most=1)))
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert ids(s, filter='items eq "No screenshots"') == on_deck
    [added] = [e for e in s.journal.list() if e.operation == "kit.add"]
    s.journal.revert(added.id, s.journal.preview_revert(added.id).digest)
    agree_on_kits(world)
    assert ids(s, filter="items pr") == []
    assert [kit.name for kit in s.kits.list()] == []


def test_excluded_beats_required_beats_offered_and_it_is_said_what_was_beaten(
    world: World, fleet: Sortitor
) -> None:
    s = fleet
    for minutes in (5, 10):
        s.items.add(setting(f"Lock after {minutes}", "lock-after", minutes))
    s.kits.add(Kit(name="Base", position=50, items=("Lock after 10",), given=given("everyone")))
    kit = Kit(name="Strict", position=10, items=("Lock after 5",), given=given("Bridge"))
    shown = s.kits.preview_add(kit)
    assert counts(shown)["devices gain “Lock after 5”"] == 6
    assert counts(shown)["devices lose “Lock after 10”"] == 6
    assert "“Lock after 5” wins over “Lock after 10”" in shown.warnings[0]
    s.kits.add(kit, shown.digest)
    agree_on_kits(world)
    bridge, deck = (ids(s, filter=f'site eq "{name}"')[0] for name in ("Bridge", "Deck"))
    found = s.kits.of_device(bridge)
    [strict, base] = found.lines
    assert (strict.name, strict.verdict, strict.through.name) == (
        "Lock after 5",
        ItemVerdict.REQUIRED,
        "Strict",
    )
    assert (base.verdict, base.beaten_by, base.disagrees) == (
        ItemVerdict.BEATEN,
        "Lock after 5",
        True,
    )
    assert got(s.kits.of_device(deck)) == {"Lock after 10": "required"}
    beside = s.kits.beside("Bridge")
    assert got(beside.everyone) == {"Lock after 10": "required"}
    assert got(beside.cohort) == {"Lock after 5": "required", "Lock after 10": "beaten"}
    # Excluded from a list: the members of it only, from the moment that they are.
    [phone] = [ids(s, filter='site eq "Deck"')[1]]
    s.items.edit("Lock after 10", setting("Lock after 10", "lock-after", 10,
                 given=given("Drawer=excluded")))  # fmt: skip
    chosen = Selection(ids=[phone])
    s.cohorts.change_list("Drawer", chosen, s.cohorts.preview_list("Drawer", chosen, True).digest,
                          True)  # fmt: skip
    agree_on_kits(world)
    [line] = s.kits.of_device(phone).lines
    assert (line.verdict, line.through.kind, line.beat[0].name) == ("excluded", "item", "Base")
    assert {lint.code for lint in s.kits.lints()} == {"conflict"}


def test_an_imagined_device_gets_what_a_real_one_would(
    world: World, fleet: Sortitor, tmp_path: Path
) -> None:
    s = fleet
    s.items.add(
        setting("Camera off", "camera", "refused", platforms={"android": "12"},
                applies_when='person.groups eq "Crew"', given=given("Deck"))
    )  # fmt: skip

    def verdicts(**said: Any) -> dict[str, str]:
        return got(s.kits.of_imagined(ImaginedDevice(**said)))

    crew = {"platform": Platform.ANDROID, "site": "deck", "person": "maud"}
    assert verdicts(**crew) == {"Camera off": "required"}
    assert verdicts(**crew, os_version="11") == {"Camera off": "not_for"}
    assert verdicts(**{**crew, "site": "Galley"}) == {}
    assert verdicts(**{**crew, "site": "Galley"}, cohorts=["deck"]) == {"Camera off": "required"}
    assert verdicts(**{**crew, "person": "odo"}) == {"Camera off": "not_for"}
    with pytest.raises(Refused, match="no cohort"):
        verdicts(cohorts=["Nowhere"])
    # The same, once it is there.
    code = a_pass(s, ownership=Ownership.CORPORATE)
    answer = s.agent.knock(knocking(code, "NEW-1", os_version="11", person="maud"))
    assert answer.device_id is not None
    import_lot(s, manifest(tmp_path, ["serial,site", "NEW-1,Deck"]))
    agree_on_kits(world)
    assert got(s.kits.of_device(answer.device_id)) == {"Camera off": "not_for"}
    assert answer.credential is not None
    shown = s.devices.preview_assign(answer.device_id, "maud")
    s.devices.assign(answer.device_id, "maud", shown.digest)
    s.agent.check_in(answer.credential, "13")
    agree_on_kits(world)
    assert got(s.kits.of_device(answer.device_id)) == {"Camera off": "required"}


def test_a_sheet_and_a_checklist_are_chosen_by_their_place(world: World, fleet: Sortitor) -> None:
    s = fleet
    s.items.add(setting("Locked", "screen-lock", True))
    s.setup_sheets.add(SetupSheet(name="Any", position=90, given=given("everyone")))
    gangway = SetupSheet(
        name="Gangway", position=10, skipped=(FirstStep.ACCOUNT,), given=given("Bridge")
    )
    shown = s.setup_sheets.preview_add(gangway)
    assert counts(shown)["devices get another setup sheet"] == 6
    made = s.setup_sheets.add(gangway, shown.digest)
    assert "nothing can be restored" in made.takes_away[0]
    checklist = Checklist(name="Handover", items=("Locked",), given=given("Deck"))
    assert counts(s.checklists.preview_add(checklist))["devices get a checklist that had none"] == 6
    s.checklists.add(checklist)
    bridge, deck = (ids(s, filter=f'site eq "{name}"')[0] for name in ("Bridge", "Deck"))
    one, other = s.kits.of_device(bridge), s.kits.of_device(deck)
    assert one.sheet is not None
    assert one.sheet.name == "Gangway"
    assert [beat.name for beat in one.sheet.beat] == ["Any"]
    assert other.sheet is not None
    assert other.sheet.name == "Any"
    assert one.checklist is None
    assert other.checklist is not None
    exported = s.setup_sheets.export("Gangway")
    assert exported.sheet["skipped"] == ["account"]
    assert "given" not in exported.sheet
    assert len(exported.digest) == 64
    validator = Draft202012Validator(exported.form)
    assert validator.is_valid(exported.sheet)
    assert not validator.is_valid({**exported.sheet, "reach": "far"})
    assert not validator.is_valid({**exported.sheet, "given": []})
    # What the checklist waits for was given to nobody.
    codes = {(lint.code, lint.kind) for lint in s.kits.lints()}
    assert ("not_assigned", "checklist") in codes
    s.items.edit("Locked", setting("Locked", "screen-lock", True, given=given("Deck")))
    assert s.kits.lints() == []
    agree_on_kits(world)


# ---- what is refused


def test_what_cannot_be_is_refused_where_it_is_written(world: World, fleet: Sortitor) -> None:
    s = fleet
    s.cohorts.add(Cohort(name="Quiet", filter="idleDays gt 30"))
    s.items.add(setting("Locked", "screen-lock", True))
    with pytest.raises(Refused, match="no item “Nothing”"):
        s.kits.add(Kit(name="K", items=("Nothing",)))
    with pytest.raises(Refused, match="no cohort “Nowhere”"):
        s.kits.add(Kit(name="K", items=("Locked",), given=given("Nowhere")))
    with pytest.raises(Refused, match="Time moves devices"):
        s.kits.add(Kit(name="K", items=("Locked",), given=given("Quiet")))
    with pytest.raises(Refused, match="no setting"):
        s.items.add(setting("X", "no-such-setting", True))
    with pytest.raises(Refused, match="will not do"):
        s.items.add(setting("X", "lock-after", 6000))
    with pytest.raises(Refused, match="how long ago"):
        s.items.add(setting("X", "screen-lock", True, applies_when="idleDays gt 3"))
    s.kits.add(Kit(name="K", items=("Locked",), given=given("Deck")))
    with pytest.raises(Refused, match="kit “K” names it"):
        s.items.remove("Locked")
    with pytest.raises(Refused, match="cannot be renamed"):
        s.items.edit("Locked", setting("Bolted", "screen-lock", True))
    for wanted in (Cohort(name="Top", filter='site eq "Deck"'), None):
        with pytest.raises(Refused, match="kit “K” speaks of it"):
            s.cohorts.edit("Deck", wanted) if wanted else s.cohorts.remove("Deck")
    with pytest.raises(Refused, match="cannot be moved by time"):
        s.cohorts.edit("Deck", Cohort(name="Deck", filter="idleDays gt 3"))
    with pytest.raises(Refused, match="already a kit"):
        s.kits.add(Kit(name="k"))
    with pytest.raises(Refused, match="cannot be offered"):
        s.setup_sheets.add(SetupSheet(name="S", given=given("Deck=offered")))
    looking = world.client(Role.VIEWER)
    assert [kit.name for kit in looking.kits.list()] == ["K"]
    with pytest.raises(Refused):
        looking.kits.add(Kit(name="Mine"))


def test_a_preview_that_is_old_is_refused(world: World, fleet: Sortitor, tmp_path: Path) -> None:
    s = fleet
    s.items.add(setting("Locked", "screen-lock", True))
    kit = Kit(name="K", items=("Locked",), given=given("Deck"))
    shown = s.kits.preview_add(kit)
    import_lot(s, manifest(tmp_path, ["serial,site,platform", "LATE-1,Deck,ios"]))
    with pytest.raises(FactsMoved):
        s.kits.add(kit, shown.digest)
    s.kits.add(kit, s.kits.preview_add(kit).digest)
    agree_on_kits(world)


def test_what_a_device_gets_has_another_revision_only_where_it_is_another(
    world: World, fleet: Sortitor
) -> None:
    s = fleet
    s.items.add(setting("Locked", "screen-lock", True))
    s.items.add(setting("Other", "camera", "refused"))
    s.kits.add(Kit(name="K", items=("Locked",), given=given("Deck")))
    bridge, deck = (ids(s, filter=f'site eq "{name}"')[0] for name in ("Bridge", "Deck"))

    def revisions() -> tuple[str, str]:
        return s.kits.of_device(bridge).revision, s.kits.of_device(deck).revision

    before = revisions()
    s.items.edit("Locked", setting("Locked", "screen-lock", True, note="Since the audit."))
    s.kits.edit("K", Kit(name="K", items=("Locked",), position=3, given=given("Deck")))
    s.kits.add(Kit(name="Twice", items=("Locked",), given=given("Deck")))
    assert revisions() == before
    shown = s.items.preview_edit("Locked", setting("Locked", "screen-lock", False))
    assert counts(shown)["devices get again, as it is now"] == 6
    s.items.edit("Locked", setting("Locked", "screen-lock", False), shown.digest)
    assert revisions()[0] == before[0]
    assert revisions()[1] != before[1]
    agree_on_kits(world)


def test_names_in_letters_of_any_language_are_found(world: World, fleet: Sortitor) -> None:
    s = fleet
    s.cohorts.add(Cohort(name="İzmir Straße", filter='site eq "Deck"'))
    s.items.add(setting("Şehir İçi", "screen-lock", True))
    s.kits.add(Kit(name="ميناء", items=("Şehir İçi",), given=given("İzmir Straße")))
    assert len(ids(s, filter='items eq "Şehir İçi"')) == 6
    s.checklists.add(Checklist(name="Önce", items=("Şehir İçi",), given=given("İzmir Straße")))
    assert s.kits.lints() == []
    agree_on_kits(world)


def test_before_anything_is_given_every_device_knows_that_it_gets_nothing(
    world: World, fleet: Sortitor
) -> None:
    agree_on_kits(world)
    assert world.rows("SELECT count(*) FROM kit_outcomes WHERE revision IS NULL") == [(0,)]


# ---- settings of one's own


def horn(**changed: Any) -> OwnSetting:
    said = {
        "name": "Ship’s horn",
        "key": "horn",
        "says": "How loud the horn is.",
        "sends": "org.horn.level",
        "platforms": {"android": "11"},
        "type": "number",
        "least": 0,
        "most": 9,
        "unit": "steps",
    }
    return OwnSetting.model_validate({**said, **changed})


def test_a_setting_of_ones_own_is_found_set_and_sent_by_the_name_that_the_platform_has(
    world: World, fleet: Sortitor
) -> None:
    s = fleet
    s.own_settings.add(horn())
    [found] = s.catalogue.search("loud")
    assert (found.key, found.form) == ("horn", "a whole number from 0 to 9 (steps)")
    with pytest.raises(Refused, match="will not do"):
        s.items.add(setting("Horn", "horn", 10))
    s.items.add(setting("Horn", "horn", 3, given=given("everyone")))
    assert s.items.show("Horn").says == "Ship’s horn: 3 steps"
    assert s.items.getting("Horn").devices[ItemVerdict.REQUIRED] == 6, "the android phones"
    code = a_pass(s, ownership=Ownership.CORPORATE, person="maud")
    answer = s.agent.knock(knocking(code, "NEW-1", os_version="13"))
    assert answer.credential is not None
    kit = s.agent.kit(answer.credential)
    assert kit is not None
    assert [one.payload.model_dump() for one in kit.items] == [
        {"kind": "custom", "key": "org.horn.level", "type": "number", "value": "3"}
    ]
    # While an item sets it, it stays what it is; what it is called may change.
    for changed in (horn(most=20), None):
        with pytest.raises(Refused, match="item “Horn” sets it"):
            s.own_settings.edit(1, changed) if changed else s.own_settings.remove(1)
    s.own_settings.edit(1, horn(name="Horn of the ship"))
    agree_on_kits(world)


def test_a_setting_of_ones_own_that_cannot_be_is_refused(world: World, fleet: Sortitor) -> None:
    s = fleet
    s.own_settings.add(horn())
    for wrong, words in (
        (horn(key="camera", name="x"), "in the catalogue already"),
        (horn(name="x"), "already a setting"),
        (horn(key="x", name="x", unit=None), "needs unit"),
        (horn(key="x", name="x", type="choice"), "needs choices"),
        (horn(key="x", name="x", type="file"), "no file"),
        (horn(key="x", name="x", least=10), "larger than the largest"),
        (horn(key="x", name="ship’s Horn"), "already a setting of your own"),
    ):
        with pytest.raises(Refused, match=words):
            s.own_settings.add(wrong)


def test_a_sheet_is_given_to_chosen_devices_and_cleared_from_them(
    world: World, fleet: Sortitor
) -> None:
    s = fleet
    s.setup_sheets.add(SetupSheet(name="Bridge", position=10, given=given("Bridge")))
    s.setup_sheets.add(SetupSheet(name="Chosen", position=20))

    def hand(sheet: str, clear: bool = False, **which: Any) -> Preview:
        chosen = Selection(**which)
        shown = s.setup_sheets.preview_hand(sheet, chosen, clear)
        s.setup_sheets.hand(sheet, chosen, shown.digest, clear)
        agree_on_kits(world)
        return shown

    def of(device: int) -> str | None:
        sheet = s.kits.of_device(device).sheet
        return sheet and sheet.name

    on_deck, on_bridge = ids(s, filter='site eq "Deck"'), ids(s, filter='site eq "Bridge"')
    before = [(sheet.name, sheet.given) for sheet in s.setup_sheets.list()]
    shown = hand("Chosen", ids=[*on_deck[:3], on_bridge[0]])
    assert counts(shown) == {
        "devices get this sheet": 3,
        "have it already, through a cohort": 0,
        "go by another sheet, whose position wins": 1,
        "were given it by hand before": 0,
        "identifiers not known": 0,
    }
    assert [of(one) for one in (*on_deck[:4], on_bridge[0])] == [*["Chosen"] * 3, None, "Bridge"]
    # Pasted: one is known, one was given it, one is nobody's.
    shown = hand("Chosen", identifiers=["KM-06", "KM-00", "KM-99"])
    assert shown.warnings == ["1 identifier not known: KM-99."]
    assert of(on_deck[3]) == "Chosen"
    shown = hand("Chosen", clear=True, ids=[on_deck[0], on_bridge[0], on_deck[5]])
    assert counts(shown)["devices have this sheet no longer"] == 1
    assert (of(on_deck[0]), of(on_bridge[0])) == (None, "Bridge")
    again = s.setup_sheets.preview_hand("Chosen", Selection(ids=[on_deck[0]]), clear=True)
    assert again.nothing_to_do
    # One after the other taken back; the list goes with the first.
    for entry in list(s.journal.list(most=3)):
        assert entry.operation == "sheet.hand"
        s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
        agree_on_kits(world)
    assert [(sheet.name, sheet.given) for sheet in s.setup_sheets.list()] == before
    assert "Chosen for Chosen" not in {cohort.name for cohort in s.cohorts.list()}
    s.cohorts.add(Cohort(name="Chosen for Chosen"))
    with pytest.raises(Refused, match="already"):
        s.setup_sheets.preview_hand("Chosen", Selection(ids=on_deck))


def test_opposite_words_are_told_once_for_a_kit_and_on_both_cohorts(
    world: World, fleet: Sortitor
) -> None:
    s = fleet
    s.cohorts.add(Cohort(name="Android", filter='platform eq "android"'))
    for key in ("camera", "screenshots"):
        s.items.add(setting(key, key, "refused"))
    both = ("camera", "screenshots")
    s.kits.add(Kit(name="On deck", items=both, given=given("Deck")))
    s.kits.add(Kit(name="Not here", items=both, given=given("Android=excluded")))
    [found] = s.kits.lints()
    assert (found.code, found.about, found.kind) == ("opposite", "kit “On deck”", "kit")
    assert found.words == (
        "It is given to “Deck”, and “camera” and “screenshots” are excluded from “Android”:"
        " 3 devices are in both and do not get it."
    )
    assert found.cohorts == ["Deck", "Android"]
