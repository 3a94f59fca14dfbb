"""What devices fetch and tell: by revision, with secrets for them alone, woken at once."""

from __future__ import annotations

import threading
import time
from pathlib import Path
from typing import Any

import pytest
from tests.kits import agree_on_kits
from tests.worlds import World, a_pass, import_lot, knocking, manifest

from sortitor.client import Sortitor
from sortitor.client.errors import Refused, SignInNeeded
from sortitor.core.vocabulary import Activation, Expiry, GivenAs, ItemState, Ownership
from sortitor.operations.arrivals import setting_up
from sortitor.operations.kits.reading import bring_up
from sortitor.operations.sources.credentials import renew_all
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.devices import Selection
from sortitor.schemas.kits import AgentKit, AgentReport, Checklist, Given, Item, Kit, SetupSheet

SECRET = "seven seas and a harbour"
WIFI = {"kind": "network", "ssid": "Deck", "security": "secret", "secret": SECRET}
LOCK = {"kind": "setting", "setting": "screen-lock", "value": True}


def an_item(name: str, payload: dict[str, Any], **beside: Any) -> Item:
    return Item.model_validate({"name": name, "payload": payload, **beside})


@pytest.fixture
def crew(world: World, tmp_path: Path) -> tuple[Sortitor, dict[int, str]]:
    """Three phones that are in use, with their credentials."""
    s = world.client()
    lines = [f"KM-{number},{['Deck', 'Deck', 'Bridge'][number]}" for number in range(3)]
    import_lot(
        s,
        manifest(tmp_path, ["serial,site", *lines]),
        platform="android",
        ownership="corporate",
    )
    code = a_pass(s, activation=Activation.SHARED, ownership=Ownership.CORPORATE)
    credentials = {}
    for number in range(3):
        answer = s.agent.knock(knocking(code, f"KM-{number}"))
        assert answer.device_id is not None
        assert answer.credential is not None
        credentials[answer.device_id] = answer.credential
    s.cohorts.add(Cohort(name="Deck", filter='site eq "Deck"'))
    s.items.add(an_item("Wi-Fi", WIFI))
    s.items.add(an_item("Lock", LOCK))
    s.kits.add(Kit(name="On deck", items=("Wi-Fi", "Lock"), given=(Given(cohort="Deck"),)))
    return s, credentials


def fetched(s: Sortitor, credential: str, known: str | None = None) -> AgentKit:
    kit = s.agent.kit(credential, known)
    assert kit is not None
    return kit


def report(kit: AgentKit, name: str, state: ItemState, **beside: Any) -> AgentReport:
    [item] = [one for one in kit.items if one.name == name]
    return AgentReport(item=item.id, revision=item.revision, state=state, **beside)


def test_a_device_hears_of_another_revision_and_fetches_it_once(
    world: World, crew: tuple[Sortitor, dict[int, str]]
) -> None:
    s, credentials = crew
    first, _, other = credentials
    bring_up(world.run.context("test"))
    told = s.agent.check_in(credentials[first]).kit
    kit = fetched(s, credentials[first])
    assert told == kit.revision
    assert [(one.name, one.word) for one in kit.items] == [
        ("Wi-Fi", GivenAs.REQUIRED),
        ("Lock", GivenAs.REQUIRED),
    ]
    assert s.agent.kit(credentials[first], kit.revision) is None
    empty = fetched(s, credentials[other])
    assert (empty.items, empty.sheet, empty.checklist) == ([], None, None)
    s.setup_sheets.add(SetupSheet(name="Shared", given=(Given(),)))
    assert s.agent.check_in(credentials[first]).kit != told
    sheet = fetched(s, credentials[first], kit.revision).sheet
    assert sheet is not None
    assert sheet["name"] == "Shared"
    # An item that changes is told in the moment of the change, to those that get it.
    before = {one: s.agent.check_in(credentials[one]).kit for one in credentials}
    s.items.edit("Lock", an_item("Lock", {**LOCK, "value": False}))
    after = {one: s.agent.check_in(credentials[one]).kit for one in credentials}
    assert [after[one] == before[one] for one in credentials] == [False, False, True]
    # By what a device says of itself, too.
    s.items.add(an_item("New", LOCK | {"setting": "camera", "value": "refused"},
                        platforms={"android": "16"}, given=(Given(),)))  # fmt: skip
    assert s.agent.check_in(credentials[other]).kit == before[other]
    agree_on_kits(world)
    assert s.agent.check_in(credentials[other], "16.1").kit != before[other]
    agree_on_kits(world)


def test_a_secret_is_for_the_device_alone(
    world: World, crew: tuple[Sortitor, dict[int, str]]
) -> None:
    s, credentials = crew
    [first, *_] = credentials
    shown = s.items.show("Wi-Fi")
    mark = shown.payload.secret  # type: ignore[union-attr]
    assert mark is not None
    assert mark.startswith("kept:")

    def secret() -> str:
        [item] = [one for one in fetched(s, credentials[first]).items if one.name == "Wi-Fi"]
        return str(item.payload.secret)  # type: ignore[union-attr]

    assert secret() == SECRET
    # What is sent back unchanged keeps it; what is kept is encrypted, also after the keys change.
    s.items.edit("Wi-Fi", an_item("Wi-Fi", {**WIFI, "secret": mark}, note="on board"))
    assert secret() == SECRET
    renew_all(world.run.context("test"))
    assert secret() == SECRET
    other = an_item("Wi-Fi", {**WIFI, "secret": "another one of them"})
    preview = s.items.preview_edit("Wi-Fi", other)
    assert SECRET not in preview.model_dump_json()
    assert "another one" not in preview.model_dump_json()
    s.items.edit("Wi-Fi", other, preview.digest)
    assert secret() == "another one of them"
    entry = next(iter(s.journal.list(most=1)))
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert secret() == SECRET
    code = s.items.network_code("Wi-Fi")
    assert code.text == f"WIFI:T:WPA;S:Deck;P:{SECRET};;"
    assert code.svg.startswith('<svg xmlns="http://www.w3.org/2000/svg"')
    assert next(iter(s.journal.list(most=1))).operation == "item.look"
    with pytest.raises(Refused, match="is no network"):
        s.items.network_code("Lock")
    with pytest.raises(Refused, match="not kept here"):
        s.items.add(an_item("Copied", {**WIFI, "secret": "kept:000000000000000000000000"}))
    for table in ("items", "journal", "kit_secrets", "kit_outcomes"):
        [(everything,)] = world.rows(f"SELECT string_agg(t::text, ' ') FROM {table} t")
        assert "seas" not in str(everything), table
        assert "another one" not in str(everything), table


def test_what_devices_tell_is_counted_and_what_failed_is_tried_again(
    world: World, crew: tuple[Sortitor, dict[int, str]]
) -> None:
    s, credentials = crew
    first, second, other = credentials
    kit = fetched(s, credentials[first])
    assert s.items.states("Wi-Fi").states[ItemState.WAITING] == 2
    s.agent.report(credentials[first], report(kit, "Wi-Fi", ItemState.WORKING))
    world.later(seconds=20)
    s.agent.report(credentials[first], report(kit, "Wi-Fi", ItemState.DONE))
    broken = report(kit, "Wi-Fi", ItemState.FAILED, code="no_radio", words="No radio", log="x" * 9)
    s.agent.report(credentials[second], broken)
    found = s.items.states("Wi-Fi")
    assert (found.states[ItemState.DONE], found.states[ItemState.FAILED]) == (1, 1)
    assert [(one.code, one.devices, one.words) for one in found.failures] == [
        ("no_radio", 1, "No radio")
    ]
    assert found.times is not None
    assert found.times.median_seconds >= 20
    assert s.items.times() == [found.times]
    assert [d.id for d in s.devices.list(filter='items.failed eq "wi-fi"')] == [second]
    assert [d.id for d in s.devices.list(filter="items.done pr")] == [first]
    [told] = s.kits.reports(second)
    assert (told.code, told.has_log) == ("no_radio", True)
    assert s.kits.log(second, "Wi-Fi") == "x" * 9
    # Tried again: the device sees another revision, and waits.
    before = s.agent.check_in(credentials[second]).kit
    everybody = Selection(filter="id pr")
    shown = s.items.preview_retry("Wi-Fi", everybody)
    s.items.retry("Wi-Fi", everybody, shown.digest)
    after = s.agent.check_in(credentials[second]).kit
    assert after not in (None, before)
    assert fetched(s, credentials[second], before).revision == after
    assert s.items.states("Wi-Fi").states[ItemState.FAILED] == 0
    # What was told of a former item says nothing of the new one.
    s.items.edit("Wi-Fi", an_item("Wi-Fi", WIFI, version="2"))
    assert s.items.states("Wi-Fi").states[ItemState.WAITING] == 2
    assert s.kits.reports(first) == []
    with pytest.raises(SignInNeeded):
        s.agent.report("no such credential", report(kit, "Lock", ItemState.DONE))
    with pytest.raises(SignInNeeded):
        s.agent.kit("no such credential")
    # Nothing is kept of what is not known here.
    unknown = AgentReport(item=4_000, revision="0" * 64, state=ItemState.DONE)
    s.agent.report(credentials[other], unknown)
    assert s.kits.reports(other) == []


def test_a_checklist_tells_the_person_how_far_it_is(
    world: World, crew: tuple[Sortitor, dict[int, str]]
) -> None:
    s, credentials = crew
    [first, *_] = credentials
    s.checklists.add(
        Checklist(name="Handover", items=("Wi-Fi", "Lock"), given=(Given(cohort="Deck"),))
    )
    kit = fetched(s, credentials[first])
    assert kit.checklist is not None
    by_id = {one.id: one.name for one in kit.items}
    assert [by_id[one] for one in kit.checklist.items] == ["Lock", "Wi-Fi"]

    def progress() -> tuple[int, int, str | None, str | None]:
        [arrival] = [a for a in s.arrivals.list() if a.device_id == first]
        told = s.arrivals.show(arrival.id).progress
        assert told is not None
        return told["done"], told["total"], told["doing"], told["failed"]

    s.agent.report(credentials[first], report(kit, "Lock", ItemState.WORKING))
    assert progress() == (0, 2, "Lock", None)
    s.agent.report(credentials[first], report(kit, "Lock", ItemState.DONE))
    assert progress() == (1, 2, "Wi-Fi", None)
    s.agent.report(credentials[first], report(kit, "Wi-Fi", ItemState.FAILED, code="no_radio"))
    assert progress() == (1, 2, "Wi-Fi", "Wi-Fi")
    s.agent.report(credentials[first], report(kit, "Wi-Fi", ItemState.DONE))
    assert progress() == (2, 2, None, None)


def test_a_device_that_waits_is_woken_at_once_and_no_other(
    world: World, crew: tuple[Sortitor, dict[int, str]]
) -> None:
    s, credentials = crew
    first, _, other = credentials
    woken: dict[int, bool] = {}

    def wait(device: int, seconds: int) -> None:
        with Sortitor(world.url) as mine:
            woken[device] = mine.agent.wait(credentials[device], seconds)

    waiting = [
        threading.Thread(target=wait, args=(one, seconds))
        for one, seconds in ((first, 30), (other, 3))
    ]
    for one in waiting:
        one.start()
    time.sleep(1)
    on_deck = Selection(filter='site eq "Deck"')
    started = time.monotonic()
    shown = s.kits.preview_push(on_deck)
    assert shown.title == "Wake 2 devices"
    s.kits.push(on_deck, shown.digest)
    for one in waiting:
        one.join()
    assert woken == {first: True, other: False}
    # One that was not waiting is told as soon as it does, until it has given a sign of life.
    _, second, _ = credentials
    assert s.agent.wait(credentials[second], 20)
    s.agent.check_in(credentials[second])
    assert not s.agent.wait(credentials[second], 1)
    assert time.monotonic() - started < 10
    with pytest.raises(SignInNeeded):
        s.agent.wait("no such credential")


def test_a_device_that_waits_for_a_coordinator_gets_nothing_yet(
    world: World, crew: tuple[Sortitor, dict[int, str]]
) -> None:
    s, credentials = crew
    [first, *_] = credentials
    credential = credentials[first]
    assert len(fetched(s, credential).items) == 2
    # It stands parked, with its credential.
    world.rows("UPDATE devices SET stage = 'parked' WHERE id = %s RETURNING id", first)
    told = s.agent.check_in(credential).kit
    kit = fetched(s, credential)
    assert (kit.items, kit.sheet, kit.checklist) == ([], None, None)
    assert told == kit.revision
    world.rows("UPDATE devices SET stage = 'active' WHERE id = %s RETURNING id", first)
    assert s.agent.check_in(credential).kit not in (None, told)
    assert len(fetched(s, credential, told).items) == 2


def test_each_device_has_a_password_of_its_own_and_another_one_after_a_look(
    world: World, crew: tuple[Sortitor, dict[int, str]]
) -> None:
    s, credentials = crew
    first, second, _ = credentials
    with pytest.raises(Refused, match="has no local administrator"):
        s.kits.administrator_password(first)
    s.setup_sheets.add(SetupSheet(name="Whole", local_administrator="mate", given=(Given(),)))
    with pytest.raises(Refused, match="has not fetched"):
        s.kits.administrator_password(first)

    def held(device: int, known: str | None = None) -> tuple[str, str]:
        kit = fetched(s, credentials[device], known)
        assert kit.administrator is not None
        assert kit.administrator.user == "mate"
        return kit.administrator.password, kit.revision

    password, revision = held(first)
    assert held(first) == (password, revision)
    assert held(second)[0] != password
    assert len(password) == 19
    assert password not in world.client().setup_sheets.show("Whole").model_dump_json()
    looked = s.kits.administrator_password(first)
    assert (looked.user, looked.password, looked.former) == ("mate", password, None)
    # Another look before the device came back: it still has the same one.
    assert s.kits.administrator_password(first).password == password
    renew_all(world.run.context("test"))
    bring_up(world.run.context("test"))
    assert s.agent.check_in(credentials[first]).kit != revision
    other, again = held(first, revision)
    assert other != password
    assert s.agent.kit(credentials[first], again) is None
    # It may not have changed it yet.
    looked = s.kits.administrator_password(first)
    assert (looked.password, looked.former) == (other, password)
    told = [entry.operation for entry in s.journal.list(most=4)]
    assert told.count("device.password") == 3
    for table in ("device_passwords", "journal", "way_messages"):
        [(everything,)] = world.rows(f"SELECT string_agg(t::text, ' ') FROM {table} t")
        assert password not in str(everything), table


def test_it_is_waited_for_a_checklist_as_long_as_it_says(
    world: World, crew: tuple[Sortitor, dict[int, str]]
) -> None:
    s, credentials = crew
    first, second, _ = credentials
    ctx = world.run.context("test")
    s.checklists.add(
        Checklist(
            name="Hold",
            items=("Wi-Fi", "Lock"),
            limit_minutes=10,
            message="Have a coffee",
            given=(Given(cohort="Deck"),),
        )
    )
    kit = fetched(s, credentials[first])
    assert setting_up.watch_limits(ctx) == 0

    def arrival(device: int) -> dict[str, Any]:
        [one] = [one for one in s.arrivals.list() if one.device_id == device]
        return {"way": one.way, **(one.progress or {})}

    shown = arrival(first)
    assert (shown["total"], shown["finished"], shown["message"]) == (2, False, "Have a coffee")
    world.later(minutes=9)
    s.agent.report(credentials[first], report(kit, "Wi-Fi", ItemState.DONE))
    assert setting_up.watch_limits(ctx) == 0
    world.later(minutes=2)
    assert setting_up.watch_limits(ctx) == 1
    assert setting_up.watch_limits(ctx) == 0
    shown = arrival(first)
    assert (shown["done"], shown["failed"], shown["way"]) == (
        1,
        "not ready after 10 minutes",
        "failed",
    )
    # Whoever helps it lets it go on.
    s.agent.report(credentials[first], report(kit, "Lock", ItemState.DONE))
    shown = arrival(first)
    assert (shown["done"], shown["failed"], shown["way"]) == (2, None, "done")
    s.checklists.edit(
        "Hold",
        Checklist(
            name="Hold",
            items=("Wi-Fi", "Lock"),
            limit_minutes=5,
            on_expiry=Expiry.LET_IN,
            given=(Given(cohort="Deck"),),
        ),
    )
    kit = fetched(s, credentials[second])
    world.later(minutes=6)
    assert setting_up.watch_limits(ctx) == 1
    assert arrival(second)["way"] == "done"
    s.agent.report(credentials[second], report(kit, "Lock", ItemState.WORKING))
    assert arrival(second)["way"] == "done"


def test_a_checklist_is_for_the_first_start_or_for_every_one(
    world: World, crew: tuple[Sortitor, dict[int, str]]
) -> None:
    s, credentials = crew
    [first, *_] = credentials
    wanted = Checklist(name="Lock first", items=("Lock",), given=(Given(cohort="Deck"),))
    s.checklists.add(wanted)
    kit = fetched(s, credentials[first])
    assert kit.checklist is not None
    s.agent.report(credentials[first], report(kit, "Lock", ItemState.DONE))
    code = a_pass(s, activation=Activation.SHARED, ownership=Ownership.CORPORATE)
    answer = s.agent.knock(knocking(code, "KM-0"), credentials[first])
    assert answer.credential is not None
    assert fetched(s, answer.credential).checklist is None
    s.checklists.edit("Lock first", wanted.model_copy(update={"every_start": True}))
    assert fetched(s, answer.credential).checklist is not None


def test_a_sheet_names_a_network_and_how_a_device_calls_itself(
    world: World, crew: tuple[Sortitor, dict[int, str]]
) -> None:
    s, _ = crew
    for choices, words in (
        ({"joins": "Lock"}, "no item “Lock” that is a network"),
        ({"joins": "Nowhere"}, "no item “Nowhere”"),
        ({"name_template": "DECK-{nonsense}"}, "is not a field"),
        ({"name_template": "DECK-{n|pad 3}"}, "cannot count"),
    ):
        with pytest.raises(Refused, match=words):
            s.setup_sheets.add(SetupSheet(name="Deck", **choices))
    s.setup_sheets.add(SetupSheet(name="Deck", joins="Wi-Fi", name_template="DECK-{serial|last 4}"))
    s.kits.remove("On deck")
    with pytest.raises(Refused, match="sheet “Deck” names it"):
        s.items.remove("Wi-Fi")
