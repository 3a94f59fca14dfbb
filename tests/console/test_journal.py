"""The journal in the console, and refusals found where somebody looks for the device."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page, expect
from tests.console.hands import choose
from tests.console.test_console import confirm
from tests.worlds import (
    World,
    a_pass,
    change_baseline,
    import_lot,
    import_people,
    knocking,
    manifest,
)

from sortitor.core.vocabulary import Ownership
from sortitor.schemas.licences import Pool


def test_the_journal_is_asked_told_in_words_and_taken_back(
    page: Page, world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,Deck,Dunlin,Crew")
    import_lot(s, manifest(tmp_path, ["serial", "KM-1"]), platform="android", ownership="corporate")
    s.devices.assign(1, "maud", s.devices.preview_assign(1, "maud").digest)
    s.pools.add(Pool(name="Charts", seats=1))
    page.goto("/devices/1")
    page.get_by_role("link", name="All of it in the journal").click()
    table = page.get_by_role("table", name="Journal")
    expect(table.get_by_role("row")).to_have_count(3)
    page.get_by_role("combobox", name="Person").fill("Fenw")
    choose(page, "Maud Fenwick (maud)")
    expect(table.get_by_role("row")).to_have_count(2)
    table.get_by_role("link").first.click()
    expect(page.get_by_text("person: – → Maud Fenwick")).to_be_visible()
    expect(page.get_by_role("link", name="KM-1")).to_be_visible()
    table.get_by_role("button", name="Take back").click()
    confirm(page, "Set 1 device back")
    expect(table.get_by_text("reverted", exact=True)).to_be_visible()
    assert s.devices.show(1).person_id is None
    page.get_by_role("button", name="Export").click()
    with page.expect_download() as download:
        page.get_by_role("link", name="CSV").click()
    assert "Maud" in Path(download.value.path()).read_text()


def test_a_refused_device_is_found_and_tried_again(
    page: Page, world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial", "KM-1"]), platform="android", ownership="corporate")
    change_baseline(s, android="13")
    s.agent.knock(knocking(a_pass(s, ownership=Ownership.CORPORATE), "KM-42", os_version="9"))
    page.goto("/today")
    page.get_by_role("textbox", name="Find a device").fill("km-1")
    page.keyboard.press("Enter")
    page.wait_for_url("**/devices/1")
    page.get_by_role("textbox", name="Find a device").fill("KM-42")
    page.keyboard.press("Enter")
    alert = page.get_by_role("alert").filter(has_text="Not in the fleet. Refused")
    expect(alert).to_contain_text("13")
    alert.get_by_role("link", name="Try it again with changes").click()
    expect(page.get_by_role("textbox", name="OS version")).to_have_value("9")
    expect(page.get_by_text("As it arrived on")).to_be_visible()
    expect(page.get_by_text("refused", exact=True)).to_be_visible()
    page.get_by_role("textbox", name="OS version").fill("13")
    page.get_by_role("button", name="Try it", exact=True).click()
    expect(page.get_by_text("refused", exact=True)).to_have_count(0)
    expect(page.get_by_text("parked", exact=True)).to_be_visible()
