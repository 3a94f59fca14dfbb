"""What devices get, in the console: a setting found, a kit made and previewed, a lint mended, and
how far the devices are.
"""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect
from tests.console.hands import choose, click_entry
from tests.console.test_console import confirm
from tests.worlds import World, a_pass, import_lot, knocking, manifest

from sortitor.client import Sortitor
from sortitor.core.vocabulary import Activation, ItemState, Ownership
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.kits import AgentReport, Checklist, Given, Item, Kit, SetupSheet


@pytest.fixture
def fleet(world: World, tmp_path: Path) -> Sortitor:
    """Three phones, two of them on deck."""
    s = world.client()
    lines = ["serial,site", "KM-1,Deck", "KM-2,Deck", "KM-3,Bridge"]
    import_lot(s, manifest(tmp_path, lines), platform="android", ownership="corporate")
    s.cohorts.add(Cohort(name="Deck phones", filter='site eq "Deck"'))
    return s


def test_a_setting_is_found_made_an_item_and_given_in_a_kit(page: Page, fleet: Sortitor) -> None:
    page.goto("/kits?tab=settings")
    page.get_by_role("textbox", name="Find a setting").fill("touch dark")
    expect(page.get_by_text("1 setting", exact=True)).to_be_visible()
    page.get_by_role("button", name="Make an item of Lock after").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_text("without a touch")).to_be_visible()
    dialog.get_by_label("Item", exact=True).fill("Lock after five")
    dialog.get_by_label("minutes, 0 to 60").fill("600")
    dialog.get_by_role("button", name="Preview").click()
    expect(dialog.get_by_text("Lock after: 600 will not do")).to_be_visible()
    dialog.get_by_label("minutes, 0 to 60").fill("5")
    dialog.get_by_role("button", name="Preview").click()
    confirm(page, "Add the item")
    expect(dialog).to_be_hidden()
    page.get_by_role("tab", name="Kits").click()
    page.get_by_role("button", name="Make a kit").click()
    dialog.get_by_label("Kit", exact=True).fill("On deck")
    dialog.get_by_label("Items").click()
    choose(page, re.compile("Lock after five"))
    page.keyboard.press("Escape")
    dialog.get_by_role("button", name="Give it to a cohort").click()
    dialog.get_by_label("Cohort").click()
    choose(page, "Deck phones")
    dialog.get_by_role("button", name="Preview").click()
    expect(page.get_by_role("dialog").last).to_contain_text("devices gain “Lock after five”")
    confirm(page, "Add the kit")
    expect(page.get_by_text("required for Deck phones")).to_be_visible()
    [kit] = fleet.kits.list()
    assert (kit.items, [one.cohort for one in kit.given]) == (("Lock after five",), ["Deck phones"])
    page.get_by_role("tab", name="Items").click()
    page.get_by_role("link", name="Lock after five").click()
    page.get_by_role("link", name="2 devices").click()
    expect(page.get_by_text("2 devices fit", exact=True)).to_be_visible()
    page.get_by_role("link", name="KM-1").or_(
        page.get_by_role("link", name="device 1")
    ).first.click()
    told = page.get_by_role("table", name="What it gets")
    expect(told).to_contain_text("kit “On deck”, required for Deck phones")


def test_a_lint_leads_to_where_it_is_mended(page: Page, fleet: Sortitor) -> None:
    payload = {"kind": "setting", "setting": "screen-lock", "value": True}
    fleet.items.add(Item.model_validate({"name": "Code", "payload": payload}))
    to_deck = (Given(cohort="Deck phones"),)
    fleet.checklists.add(Checklist(name="Handover", items=("Code",), given=to_deck))
    page.goto("/today")
    page.get_by_role("link", name="Look at the kits").click()
    alert = page.get_by_role("alert").filter(has_text="need")
    expect(alert).to_contain_text("It waits for “Code”, which 2 of its 2 devices do not get.")
    page.get_by_role("tab", name="Items").click()
    page.get_by_role("button", name="Change").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("button", name="Give it to a cohort").click()
    dialog.get_by_role("button", name="Preview").click()
    expect(page.get_by_role("dialog").last).to_contain_text("given › everyone: – → required")
    confirm(page, "Change the item")
    page.get_by_role("tab", name="Checklists").click()
    expect(page.get_by_text("1. Code")).to_be_visible()
    expect(page.get_by_text("do not get")).to_have_count(0)
    assert fleet.kits.lints() == []


def test_what_failed_is_seen_with_its_reason_and_tried_again(page: Page, fleet: Sortitor) -> None:
    payload = {"kind": "network", "ssid": "Deck", "security": "open"}
    fleet.items.add(Item.model_validate({"name": "Wi-Fi", "payload": payload}))
    fleet.kits.add(Kit(name="On deck", items=("Wi-Fi",), given=(Given(),)))
    code = a_pass(fleet, activation=Activation.SHARED, ownership=Ownership.CORPORATE)
    credential = fleet.agent.knock(knocking(code, "KM-1")).credential
    assert credential is not None
    kit = fleet.agent.kit(credential)
    assert kit is not None
    [item] = kit.items
    failed = AgentReport(
        item=item.id,
        revision=item.revision,
        state=ItemState.FAILED,
        code="not_joined",
        words="The network refused the device",
    )
    fleet.agent.report(credential, failed)
    page.goto(f"/items/{item.id}")
    failures = page.get_by_role("table", name="Failures")
    expect(failures).to_contain_text("The network refused the device")
    page.goto("/devices/1")
    expect(page.get_by_role("table", name="What it gets")).to_contain_text("failed")
    page.goto(f"/items/{item.id}")
    page.get_by_role("button", name="Try it again where it failed").click()
    confirm(page, "Try again on 1 device")
    expect(failures).to_be_hidden()
    assert fleet.items.states("Wi-Fi").states[ItemState.WAITING] == 3


def test_an_imagined_device_and_a_cohort_are_looked_at(page: Page, fleet: Sortitor) -> None:
    payload = {"kind": "setting", "setting": "camera", "value": "refused"}
    item = {"name": "No camera", "payload": payload, "given": [{"cohort": "Deck phones"}]}
    fleet.items.add(Item.model_validate(item))
    page.goto("/kits?tab=trial")
    page.get_by_label("Site").fill("Deck")
    page.get_by_role("button", name="What would it get?").click()
    told = page.get_by_role("table", name="What the imagined device gets")
    expect(told).to_contain_text("by itself, required for Deck phones")
    page.get_by_label("Cohort", exact=True).click()
    choose(page, "Deck phones")
    expect(page.get_by_role("table", name="What Deck phones gets")).to_contain_text("No camera")
    expect(page.get_by_role("table", name="What everyone gets")).not_to_contain_text("No camera")


def test_a_setting_of_ones_own_is_added_to_what_can_be_set(page: Page, fleet: Sortitor) -> None:
    page.goto("/kits?tab=settings")
    page.get_by_role("button", name="Add a setting of your own").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("What it is called").fill("Ship’s horn")
    dialog.get_by_label("Key: small letters").fill("horn")
    dialog.get_by_label("What the platform calls it").fill("org.horn")
    dialog.get_by_label("What it does").fill("How loud the horn is.")
    dialog.locator(".v-select").filter(has_text="Platforms that know it").click()
    choose(page, "Android")
    page.keyboard.press("Escape")
    dialog.locator(".v-select").filter(has_text="Its value is").click()
    choose(page, "one of some choices")
    dialog.get_by_label("A line for each choice").fill("low=low\nhigh=as loud as can be")
    dialog.get_by_role("button", name="Preview").click()
    confirm(page, "Add the setting")
    page.get_by_role("textbox", name="Find a setting").fill("horn")
    page.get_by_role("button", name="Make an item of Ship’s horn").click()
    expect(dialog.get_by_text("How loud the horn is.")).to_be_visible()
    [made] = fleet.own_settings.list()
    assert made.choices == {"low": "low", "high": "as loud as can be"}


def test_a_file_is_put_in_for_a_document(page: Page, fleet: Sortitor, tmp_path: Path) -> None:
    path = manifest(tmp_path, ["keep off the ropes"], "ropes.txt")
    page.goto("/kits?tab=items")
    page.get_by_role("button", name="Make an item").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Item", exact=True).fill("Ropes")
    dialog.get_by_label("Kind").click(force=True)
    choose(page, "document", exact=True)
    dialog.get_by_label("File to put in").set_input_files(path)
    expect(dialog.get_by_label("File name")).to_have_value("ropes.txt")
    dialog.get_by_role("button", name="Preview").click()
    confirm(page, "Add the item")
    expect(dialog).to_be_hidden()
    [kept] = fleet.files.list()
    assert (kept.name, kept.size, kept.items) == ("ropes.txt", path.stat().st_size, ["Ropes"])
    page.get_by_role("tab", name="Files").click()
    expect(page.get_by_role("table", name="Files")).to_contain_text("19 bytes")
    expect(page.get_by_role("button", name="Remove")).to_have_count(0)
    page.get_by_label("File to put in").set_input_files(manifest(tmp_path, ["wrong"], "wrong.txt"))
    page.get_by_role("button", name="Remove").click()
    page.get_by_role("button", name="Remove the file").click()
    expect(page.get_by_role("table", name="Files")).not_to_contain_text("wrong.txt")
    assert len(fleet.files.list()) == 1


def test_a_sheet_is_given_to_marked_devices_and_its_password_shown_once(
    page: Page, fleet: Sortitor
) -> None:
    fleet.setup_sheets.add(SetupSheet(name="Bridge", local_administrator="mate"))
    code = a_pass(fleet, activation=Activation.SHARED, ownership=Ownership.CORPORATE)
    credential = fleet.agent.knock(knocking(code, "KM-3")).credential
    assert credential is not None
    page.goto("/devices?filter=" + 'site eq "Bridge"')
    page.get_by_role("checkbox", name=re.compile("KM-3|all|Choose", re.I)).first.check()
    page.get_by_role("button", name="Setup sheet").click()
    click_entry(page, "Give Bridge")
    confirm(page, "Give to 1 device")
    kit = fleet.agent.kit(credential)
    assert kit is not None
    assert kit.administrator is not None
    [device] = fleet.devices.list(filter='site eq "Bridge"')
    page.goto(f"/devices/{device.id}")
    page.get_by_role("button", name="Show the password").click()
    page.get_by_role("button", name="Show it").click()
    expect(page.get_by_role("dialog")).to_contain_text(kit.administrator.password)
    page.get_by_role("button", name="Done").click()
    [entry] = fleet.journal.list(most=1)
    assert entry.operation == "device.password"


def test_what_was_filled_in_does_not_vanish_unasked(page: Page, fleet: Sortitor) -> None:
    page.goto("/kits?tab=sheets")
    button = page.get_by_role("button", name="Make a setup sheet")
    dialog = page.get_by_role("dialog")
    button.click()
    expect(dialog).to_be_visible()
    page.keyboard.press("Escape")
    expect(dialog).to_have_count(0)
    button.click()
    dialog.get_by_label("Setup sheet", exact=True).fill("Gangway")
    page.keyboard.press("Escape")
    expect(dialog.get_by_text("not saved yet")).to_be_visible()
    dialog.get_by_role("button", name="Go on filling in").click()
    expect(dialog.get_by_label("Setup sheet", exact=True)).to_have_value("Gangway")
    page.mouse.click(5, 400)
    dialog.get_by_role("button", name="Close without saving").click()
    expect(dialog).to_have_count(0)
    assert fleet.setup_sheets.list() == []
