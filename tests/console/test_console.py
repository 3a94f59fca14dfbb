"""The day's work in the browser: from a dropped file to a reverted sweep, with keyboard and screen
reader in mind.
"""

from pathlib import Path

import httpx
import polars as pl
import pytest
from playwright.sync_api import Page, expect
from tests.console.browsers import Pages
from tests.console.hands import choose, click_entry
from tests.draws import first_of
from tests.workbooks import xlsx
from tests.worlds import (
    World,
    a_pass,
    change_baseline,
    imei,
    import_lot,
    import_people,
    knocking,
    manifest,
)

from sortitor.core.sources import Source
from sortitor.core.vocabulary import Activation, FirstStep, Ownership, Platform, Role, SourceKind
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.gate import VersionBounds
from sortitor.schemas.kits import Checklist, Given, Item, Kit, SetupSheet
from sortitor.schemas.licences import Pool
from sortitor.schemas.orders import Order, OrderLine
from sortitor.schemas.sweeps import Rule

AXE = Path(__file__).parents[2] / "console" / "node_modules" / "axe-core" / "axe.min.js"
PAGES = [
    "/today",
    "/lots",
    "/lots/1",
    "/lots/2",
    "/orders",
    "/devices",
    "/devices/1",
    "/cohorts",
    "/cohorts/1",
    "/cohorts/2",
    "/people",
    "/people?person=1",
    "/groups",
    "/gate",
    "/names",
    "/arrivals",
    "/arrivals?tab=board",
    "/arrivals?tab=mails",
    "/arrivals?tab=passes",
    "/arrivals?tab=texts",
    "/kits",
    "/kits?tab=items",
    "/kits?tab=settings",
    "/kits?tab=sheets",
    "/kits?tab=checklists",
    "/kits?tab=trial",
    "/items/1",
    "/licences",
    "/licences/1",
    "/licences/report",
    "/sweeps",
    "/sources",
    "/sources/1",
    "/levels",
    "/levels?kind=unknown&pattern=4",
    "/ends",
    "/journal",
    "/account",
]


def furnish(world: World, tmp_path: Path) -> None:
    """A little of everything."""
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,maud@wrenmoor.example,Deck,Dunlin,Crew")
    import_lot(
        s,
        manifest(
            tmp_path,
            [
                "serial,maker,imei,site",
                f"KM-771234,Kelmar,{imei(1)},Dunlin",
                "KM-2,Kelmar,,Petrel",
                "TBC,,,",
            ],
        ),
        ownership="corporate",
        platform="android",
    )
    code = a_pass(s, activation=Activation.SHARED)
    s.agent.knock(knocking(code, "KM-771234"))
    s.agent.knock(knocking(a_pass(s, ownership=Ownership.CORPORATE), "KM-9"))
    s.agent.knock(knocking("AAAAA-AAAAA", "KM-10"))
    s.lots.check(
        manifest(tmp_path, ["serial,imei,Karton", "KM-50,3.5E+14,7", "KM-51,,7"], "draft.csv")
    )
    s.orders.add(Order(name="WL-1", lines=[OrderLine(product="Mate 3", quantity=2)]))
    s.pools.add(Pool(name="Signage", seats=1))
    payload = {"kind": "setting", "setting": "camera", "value": "refused"}
    s.items.add(Item.model_validate({"name": "No camera", "payload": payload}))
    s.kits.add(Kit(name="Everybody", items=("No camera",), given=(Given(),)))
    s.setup_sheets.add(SetupSheet(name="Shared", skipped=(FirstStep.ACCOUNT,), given=(Given(),)))
    s.checklists.add(Checklist(name="Handover", items=("No camera",), given=(Given(),)))
    s.cohorts.add(Cohort(name="Deck", filter='site eq "Dunlin"'))
    s.cohorts.add(Cohort(name="Lent out"))
    s.sweep_rules.add(Rule(name="Quiet", idle_window_days=30, brake_percent=100))
    s.sources.add(Source(name="Yard list", kind=SourceKind.ROSTER))
    yard = manifest(tmp_path, ["serial,site", "KM-771234,Gull", "KM-77I234,"], "yard.csv")
    s.sources.take_file(1, yard, s.sources.preview_file(1, yard).digest)


def confirm(page: Page, label: str) -> None:
    """Press the preview's one button, and see the preview go."""
    page.get_by_role("dialog").get_by_role("button", name=label).click()
    expect(page.get_by_role("dialog")).to_have_count(0)


@pytest.mark.parametrize("theme", first_of("light", "dark"))
def test_every_page_serves_screen_readers_and_small_screens(
    page: Page, world: World, tmp_path: Path, theme: str
) -> None:
    """Tables scroll in themselves; no page does, so that no button is out of reach."""
    furnish(world, tmp_path)
    import_people(
        world.client(),
        tmp_path,
        "odo,Odo Gannet-Featherstonehaugh of the Long"
        " Quay,odo.gannet.featherstonehaugh@long-quay.example,Deck,Dunlin,Crew",
    )
    page.evaluate(f"localStorage.setItem('theme', '{theme}')")
    faults, wide = {}, []
    pages = Pages(page)
    for path in PAGES:
        page.set_viewport_size({"width": 1280, "height": 800})
        pages.go(path)
        if found := violations(page, theme):
            faults[path] = found
        for width in (768, 360):
            page.set_viewport_size({"width": width, "height": 740})
            page.evaluate(_STANDING_STILL)
            over = page.evaluate("document.documentElement.scrollWidth - window.innerWidth")
            wide += [(path, width, over)] if over > 0 else []
    assert (faults, wide) == ({}, [])


#: What fades in or out has other colours on its way: a dialog that goes dims the page behind it.
_STANDING_STILL = """
async () => {
    const moving = document.getAnimations().filter(
        (one) => one.effect.getComputedTiming().endTime !== Infinity)
    await Promise.all(moving.map((one) => one.finished.catch(() => null)))
}
"""


def violations(page: Page, theme: str) -> list[tuple[str, str]]:
    """What axe finds on the page as it stands. The dark theme differs by its colours alone."""
    only = {} if theme == "light" else {"runOnly": ["color-contrast"]}
    # Evaluated from outside the page, which its own policy against foreign scripts allows.
    if not page.evaluate("'axe' in window"):
        page.evaluate(AXE.read_text())
    found = page.evaluate(
        "options => axe.run(document, options)", {"resultTypes": ["violations"], **only}
    )
    return [(one["id"], one["nodes"][0]["html"][:160]) for one in found["violations"]]


def no_violations(page: Page, theme: str, *where: str) -> None:
    """Nothing, once nothing moves any more."""
    page.evaluate(_STANDING_STILL)
    assert violations(page, theme) == [], (theme, *where)


def test_a_wrong_password_and_a_page_behind_the_door(page: Page, world: World) -> None:
    page.get_by_label("Sign out").click()
    page.wait_for_url("**/sign-in")
    page.goto("/lots")
    page.wait_for_url("**/sign-in?then=/lots")
    page.get_by_label("Account").fill("coordinator")
    page.get_by_label("Password").fill("wrong wrong wrong")
    page.get_by_label("Password").press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("not right")
    page.get_by_label("Password").fill("a long enough password")
    page.get_by_label("Password").press("Enter")
    page.wait_for_url("**/lots")


def test_a_lot_is_checked_read_applied_and_reverted(
    page: Page, world: World, tmp_path: Path
) -> None:
    file = manifest(tmp_path, ["S/N,IMEI,Karton", f"KM-1,{imei(1)},7", "KM-2,3.5E+14,8", "KM-3,,9"])
    page.get_by_role("link", name="Lots", exact=True).click()
    page.get_by_role("button", name="Check a file or a paste").click()
    page.locator("input[type=file]").set_input_files(file)
    page.get_by_role("dialog").get_by_role("button", name="Check it").click()
    page.wait_for_url("**/lots/1")
    expect(page.get_by_label("What Karton means")).to_have_value("")
    page.get_by_role("button", name="power of ten").first.click()
    page.wait_for_url("**note=scientific_notation**")
    # The picture of the file has that row, too.
    expect(page.get_by_role("row", name="Edit row 3").filter(has_text="3.5E+14")).to_be_visible()
    page.get_by_role("button", name="Preview and apply").click()
    expect(page.get_by_role("dialog")).to_contain_text("devices to add")
    page.get_by_label("Reason").fill("delivery")
    confirm(page, "Add 2 devices")
    expect(page.get_by_text("applied", exact=True)).to_be_visible()
    assert world.rows("SELECT count(*) FROM devices") == [(2,)]
    page.get_by_role("button", name="Preview the revert").click()
    confirm(page, "Remove 2 devices")
    expect(page.get_by_text("reverted", exact=True)).to_be_visible()
    assert world.rows("SELECT count(*) FROM devices") == [(0,)]


def test_a_damaged_workbook_is_read_mended_applied_and_reverted(
    page: Page, world: World, tmp_path: Path
) -> None:
    """The walk: columns corrected, a group mended in place, a row mended by itself, the rest taken
    out, applied, reverted.
    """
    file = tmp_path / "delivery.xlsx"
    file.write_bytes(
        xlsx(
            ("Cover", [["Ondry Trade"]]),
            (
                "Delivery",
                [
                    ["Gerät", "IMEI 1", "Karton"],
                    ["KM-1", "3.5E+14", "7"],
                    ["KM-2", "3.5E+14", "7"],
                    ["TBC", None, "8"],
                    ["KM-4", imei(4), "8"],
                    ["KM-5", imei(5)[:-1] + "X", "9"],
                ],
            ),
        )
    )
    page.goto("/lots")
    page.get_by_role("button", name="Check a file or a paste").click()
    page.locator("input[type=file]").set_input_files(file)
    page.get_by_role("dialog").get_by_role("button", name="Check it").click()
    page.wait_for_url("**/lots/1")
    page.get_by_label("What Gerät means").select_option("serial")
    expect(page.get_by_role("button", name="1 add")).to_be_visible()
    group = page.locator(".group").filter(has_text="power of ten")
    group.get_by_role("button", name="Set a column").click()
    page.get_by_role("dialog").get_by_role("button", name="Set it in 2 rows").click()
    expect(page.get_by_role("button", name="3 add")).to_be_visible()
    page.get_by_role("button", name="Edit row 6").click()
    page.get_by_role("dialog").get_by_label("IMEI 1").fill(imei(5))
    page.get_by_role("dialog").get_by_role("button", name="Check it again").click()
    expect(page.get_by_role("button", name="4 add")).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="CSV").click()
    assert "placeholder" in Path(download.value.path()).read_text()
    page.get_by_role("button", name="Preview and apply").click()
    confirm(page, "Add 4 devices")
    assert [d.serial for d in world.client().devices.list()] == ["KM-1", "KM-2", "KM-4", "KM-5"]
    page.get_by_role("button", name="Preview the revert").click()
    confirm(page, "Remove 4 devices")
    assert world.client().devices.count() == 0


def test_conflicts_are_resolved_by_group(page: Page, world: World, tmp_path: Path) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial,maker,imei", "KM-2,Kelmar,", f",,{imei(2)}"]))
    lot = s.lots.check(
        manifest(
            tmp_path,
            [
                "serial,maker,imei",
                f"KM-2,Kelmar,{imei(2)}",
                "KM-7,Kelmar,",
                "KM-7,Ondry,",
                "KM-7,,",
            ],
            "b.csv",
        )
    )
    page.goto(f"/lots/{lot.id}")
    page.get_by_role("button", name="Merge the devices").click()
    expect(page.get_by_role("button", name="1 change")).to_be_visible()
    # The list of notes follows the counts.
    expect(page.get_by_role("button", name="Leave out the rows")).to_have_count(1)
    page.get_by_role("button", name="Leave out the rows").click()
    expect(page.get_by_role("button", name="0 conflict")).to_be_disabled()


def test_an_order_is_added_and_counts(page: Page, world: World, tmp_path: Path) -> None:
    import_lot(
        world.client(), manifest(tmp_path, ["serial,maker,model,order", "KM-1,Kelmar,Mate 3,WL-9"])
    )
    page.goto("/orders")
    page.get_by_role("button", name="Add an order").click()
    page.get_by_label("Name, as it stands").fill("WL-9")
    page.get_by_label("Product: model").first.fill("Mate 3")
    page.get_by_label("Quantity").first.fill("3")
    page.get_by_role("button", name="Preview").click()
    confirm(page, "Add the order")
    expect(page.get_by_text("2 never sent")).to_be_visible()
    expect(page.get_by_role("row").filter(has_text="Mate 3")).to_contain_text("2")


def test_a_device_in_two_seconds_by_keyboard_alone(
    page: Page, world: World, tmp_path: Path
) -> None:
    furnish(world, tmp_path)
    page.goto("/today")
    page.wait_for_load_state("networkidle")
    page.keyboard.press("/")
    page.keyboard.type("1234")
    page.keyboard.press("Enter")
    page.wait_for_url("**/devices?query=1234")
    link = page.get_by_role("table").get_by_role("link").first
    link.focus()
    page.keyboard.press("Enter")
    page.wait_for_url("**/devices/1")
    expect(page.get_by_text("KM-771234").first).to_be_visible()
    expect(page.get_by_role("heading", name="Timeline")).to_be_visible()


def test_devices_are_filtered_and_a_fault_is_pointed_at(
    page: Page, world: World, tmp_path: Path
) -> None:
    furnish(world, tmp_path)
    page.goto("/devices")
    page.get_by_label("Filter", exact=True).fill('site sw "dun" and not (stage eq "retired")')
    page.get_by_label("Filter", exact=True).press("Escape")
    expect(page.get_by_text("1 device fits now")).to_be_visible()
    page.get_by_label("Filter", exact=True).fill('sitte eq "x"')
    page.get_by_label("Filter", exact=True).press("Escape")
    expect(page.get_by_role("alert")).to_contain_text("did you mean site?")
    page.get_by_label("Filter", exact=True).fill("location = Dunlin")
    page.get_by_label("Filter", exact=True).press("Escape")
    expect(page.get_by_role("alert")).to_contain_text("“location” is called site here")
    page.get_by_role("button", name='Take site eq "Dunlin"').click()
    expect(page.get_by_label("Filter", exact=True)).to_have_value('site eq "Dunlin"')
    expect(page.get_by_text("1 device fits now")).to_be_visible()
    page.get_by_label("Filter", exact=True).fill('site eq ""')
    page.get_by_label("Filter", exact=True).press("Escape")
    expect(page.get_by_text("Do you mean not (site pr)?")).to_be_visible()
    page.get_by_role("button", name="Take not (site pr)").click()
    expect(page.get_by_label("Filter", exact=True)).to_have_value("not (site pr)")


def test_a_parked_device_gets_its_person(page: Page, world: World, tmp_path: Path) -> None:
    furnish(world, tmp_path)
    page.goto("/arrivals")
    row = page.get_by_role("row").filter(has_text="Mate 3").first
    row.get_by_label("Person for").fill("maud")
    choose(page, "Maud Fenwick")
    row.get_by_role("button", name="Give").click()
    expect(page.get_by_role("dialog")).to_contain_text("Maud Fenwick")
    confirm(page, "Give it to Maud Fenwick")
    expect(page.get_by_text("Nobody is waiting")).to_be_visible()


def test_marked_rows_go_to_one_person_or_each_to_its_own(
    page: Page, world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew", "odo,Odo Gannet,,,,Crew")
    change_baseline(s, quota=9)
    code = a_pass(s, activation=Activation.COORDINATOR)
    for number in range(1, 5):
        s.agent.knock(knocking(code, f"KM-{number}"))
    page.goto("/arrivals")
    rows = page.get_by_role("row").filter(has_text="Mate 3")
    expect(rows).to_have_count(4)
    for place in (0, 1):
        rows.nth(place).get_by_role("checkbox").check()
    preview = page.get_by_role("button", name="Preview giving them")
    expect(preview).to_be_disabled()
    page.get_by_label("One person for the marked ones").fill("maud")
    choose(page, "Maud Fenwick")
    preview.click()
    confirm(page, "Give 2 devices")
    expect(rows).to_have_count(2)
    page.get_by_role("checkbox").first.check()
    for place, name in enumerate(("maud", "odo")):
        rows.nth(place).get_by_label("Person for").fill(name)
        choose(page, name.capitalize())
    preview.click()
    confirm(page, "Give 2 devices")
    expect(page.get_by_text("Nobody is waiting")).to_be_visible()
    assert (s.people.show("maud").holding, s.people.show("odo").holding) == (3, 1)


def test_a_pass_is_made_and_its_code_shown_once(page: Page, world: World) -> None:
    page.goto("/arrivals")
    page.get_by_role("button", name="Make a pass").click()
    page.get_by_label("What it is for").fill("Help desk")
    page.get_by_role("button", name="Make the pass").click()
    expect(page.get_by_alt_text("QR of http")).to_be_visible()
    page.get_by_role("button", name="Done").click()
    page.get_by_role("tab", name="Passes").click()
    expect(page.get_by_role("row").filter(has_text="Help desk")).to_contain_text("valid")


def test_a_gate_is_tried_and_saved(page: Page, world: World, tmp_path: Path) -> None:
    furnish(world, tmp_path)
    page.goto("/gate")
    page.get_by_label("OS version").last.fill("9")
    page.get_by_role("button", name="Try it").click()
    expect(page.get_by_text("parked").first).to_be_visible()
    dialog = page.get_by_role("dialog")

    def state(cell: str, label: str, value: str) -> None:
        page.get_by_role("button", name=cell).click()
        dialog.get_by_role("textbox", name=label).or_(
            dialog.get_by_role("spinbutton", name=label)
        ).fill(value)
        dialog.get_by_role("button", name="State it").click()
        expect(dialog).to_be_hidden()

    state("Baseline, all platforms, devices per person", "Devices per person", "99")
    expect(page.get_by_role("alert").first).to_contain_text("1 to 50")
    state("Baseline, all platforms, devices per person", "Devices per person", "4")
    state("Baseline, Android, OS version", "From", "15")
    page.get_by_role("button", name="Replay").click()
    expect(page.get_by_text("lets in Android 15 or later").first).to_be_visible()
    page.get_by_role("link", name="2", exact=True).first.click()
    expect(page.get_by_role("region", name="The list").get_by_role("row")).to_have_count(3)
    with page.expect_download() as taken:
        page.get_by_role("button", name="CSV").click()
    assert b"lets in Android 15" in taken.value.path().read_bytes()
    page.get_by_role("button", name="Preview and save").click()
    confirm(page, "Save the gate")
    saved = world.client().gate.show().policies[-1]
    assert saved.quota is not None
    assert saved.quota.devices == 4
    assert saved.platforms[Platform.ANDROID].versions == VersionBounds(oldest="15")


def test_a_policy_is_added_copied_and_marked_for_whom_it_counts(
    page: Page, world: World, tmp_path: Path
) -> None:
    furnish(world, tmp_path)
    page.goto("/gate")
    dialog = page.get_by_role("dialog")
    page.get_by_role("button", name="Add a policy").click()
    expect(page.get_by_role("status")).to_contain_text("holds nobody")
    dialog.get_by_label("Policy").fill("Crew of the Dunlin")
    dialog.get_by_label("People in these groups").first.fill("cr")
    choose(page, "Crew")
    page.keyboard.press("Escape")
    dialog.get_by_role("button", name="Keep in the draft").click()
    page.get_by_role("button", name="Crew of the Dunlin, all platforms, devices per").click()
    dialog.get_by_role("button", name="As the baseline").click()
    page.get_by_role("button", name="What to do with Crew of the Dunlin").click()
    click_entry(page, "Copy")
    expect(page.get_by_role("status")).to_contain_text("never heard")
    page.locator(".kind .v-field").click()
    choose(page, "a person")
    page.locator(".whom input").fill("maud")
    choose(page, "Maud Fenwick")
    won = "Crew of the Dunlin copy, all platforms, devices per person: 5 devices, which counts"
    expect(page.get_by_role("button", name=won)).to_be_visible()
    page.get_by_role("button", name="Undo the changes").click()
    expect(page.get_by_text("Crew of the Dunlin")).to_have_count(0)


def test_a_sweep_is_previewed_with_its_histogram_applied_and_reverted(
    page: Page, world: World, tmp_path: Path
) -> None:
    furnish(world, tmp_path)
    world.later(days=45)
    page.goto("/sweeps")
    page.get_by_role("button", name="Preview the sweep").click()
    expect(page.get_by_role("img", name="Idle days")).to_be_visible()
    confirm(page, "Retire 2 devices")
    assert world.client().devices.count(filter='stage eq "retired"') == 2
    page.get_by_role("button", name="Preview the revert").click()
    confirm(page, "Set 2 devices back")
    assert world.client().devices.count(filter='stage eq "retired"') == 0


def test_a_count_leads_to_the_devices_that_make_it_up(
    page: Page, world: World, tmp_path: Path
) -> None:
    furnish(world, tmp_path)
    page.goto("/licences")
    row = page.get_by_role("row").filter(has_text="Signage")
    expect(row).to_contain_text("short of 1")
    row.get_by_role("link", name="2", exact=True).click()
    page.wait_for_url("**/devices?pool=1")
    expect(page.get_by_text("2 devices fit")).to_be_visible()


def test_the_facts_moved_so_the_new_preview_is_shown(
    page: Page, world: World, tmp_path: Path
) -> None:
    s = world.client()
    first = s.lots.check(manifest(tmp_path, ["serial,maker,site", "KM-1,Kelmar,Dunlin"], "a.csv"))
    other = s.lots.check(manifest(tmp_path, ["serial,maker,site", "KM-1,Kelmar,Petrel"], "b.csv"))
    page.goto(f"/lots/{other.id}")
    page.get_by_role("button", name="Preview and apply").click()
    expect(page.get_by_role("button", name="Add 1 device")).to_be_visible()
    s.lots.apply(first.id, s.lots.preview(first.id).digest)
    page.get_by_role("button", name="Add 1 device").click()
    expect(page.get_by_text("The facts have changed since")).to_be_visible()
    confirm(page, "Change 1 device")
    assert next(iter(s.devices.list())).site == "Petrel"


def test_a_page_asks_early_and_once_for_what_every_page_needs(page: Page, world: World) -> None:
    """A slow line waits for who is signed in and for the scripts at once."""
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url.removeprefix(world.url)))
    shown = page.goto("/devices")
    page.wait_for_load_state("networkidle")
    assert shown is not None
    for name in ("/api/v1/session", "/api/v1/vocabulary"):
        assert f"<{name}>; rel=preload" in shown.headers["link"]
        assert asked.count(name) == 1, asked
    stranger = httpx.get(f"{world.url}/sign-in")
    assert "link" not in stranger.headers, "whoever is not known asks for nothing"


@pytest.mark.parametrize("role", [Role.VIEWER])
def test_a_viewer_sees_no_buttons_that_change(page: Page, world: World, tmp_path: Path) -> None:
    furnish(world, tmp_path)
    for path in ("/lots", "/arrivals", "/licences", "/sweeps"):
        page.goto(path)
        page.wait_for_load_state("networkidle")
        for label in ("Check a file", "Make a pass", "Add a pool", "Add a rule"):
            expect(page.get_by_role("button", name=label)).to_have_count(0)


def test_a_technicians_phone(page: Page, world: World, tmp_path: Path) -> None:
    furnish(world, tmp_path)
    page.set_viewport_size({"width": 400, "height": 800})
    page.get_by_label("Navigation").click()
    page.get_by_role("link", name="Devices", exact=True).click()
    page.wait_for_url("**/devices")


def test_an_address_that_is_none(page: Page) -> None:
    page.goto("/nowhere")
    expect(page.get_by_role("heading")).to_contain_text("no such page")


def test_a_cohort_is_made_by_hands_on_the_keyboard_only(
    page: Page, world: World, tmp_path: Path
) -> None:
    """From Today to a saved cohort without touching the mouse; suggestions are taken by arrows and
    Enter.
    """
    furnish(world, tmp_path)

    def go(name: str) -> None:
        for _ in range(60):
            page.keyboard.press("Tab")
            if (
                page.evaluate(
                    "document.activeElement.innerText ||"
                    " document.activeElement.getAttribute('aria-label') || ''"
                ).strip()
                == name
            ):
                page.keyboard.press("Enter")
                return
        raise AssertionError(f"{name} cannot be reached by Tab")

    for _ in range(60):
        page.keyboard.press("Tab")
        if page.evaluate("document.activeElement.closest('[aria-label=Pages]') !== null"):
            break
    for _ in range(15):
        if page.evaluate("document.activeElement.innerText").strip() == "Cohorts":
            break
        page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Cohorts")).to_be_visible()
    go("Add a cohort")
    expect(page.get_by_label("Name", exact=True)).to_be_focused()
    page.keyboard.type("Kelmars at Petrel")
    field = page.get_by_role("textbox", name="Filter")
    for _ in range(6):
        page.keyboard.press("Tab")
        if field.evaluate("(element) => element === document.activeElement"):
            break
    page.keyboard.type("sit")
    expect(page.get_by_role("option", name="site site", exact=True)).to_have_attribute(
        "aria-selected", "true"
    )
    page.keyboard.press("Enter")
    page.keyboard.type("eq ")
    page.keyboard.type('"Pe')
    expect(page.get_by_role("option")).to_have_text(["Petrel"])
    page.keyboard.press("Enter")
    expect(field).to_have_value('site eq "Petrel" ')
    page.keyboard.press("Escape")
    expect(page.get_by_text("1 device fits now")).to_be_visible()
    go("Preview the cohort")
    expect(page.get_by_role("dialog").last).to_contain_text("devices in it")
    go("Save the cohort")
    expect(page.get_by_role("heading", name="Kelmars at Petrel")).to_be_visible()
    expect(page.get_by_role("table", name="Members")).to_contain_text("KM-2")


def test_a_filter_is_built_by_clicking_and_the_text_follows_and_back(
    page: Page, world: World, tmp_path: Path
) -> None:
    furnish(world, tmp_path)
    page.goto("/devices")
    field = page.get_by_role("textbox", name="Filter")
    field.fill('site eq "Dunlin"')
    field.press("Escape")
    expect(page.get_by_text("1 device fits now")).to_be_visible()
    page.get_by_role("button", name="Build by clicking").click()
    expect(page.get_by_label("Attribute")).to_have_value("site")
    page.get_by_label("Comparison").select_option("sw")
    page.get_by_label("Value").fill("P")
    page.get_by_label("Value").press("Tab")
    expect(field).to_have_value('site sw "P"')
    page.get_by_label("Holds or not").select_option("not")
    expect(field).to_have_value('not (site sw "P")')
    page.wait_for_url("**filter=not+(site+sw+%22P%22)**")
    field.fill('not (site sw "P") and platform eq "andriod"')
    field.press("Escape")
    expect(page.get_by_role("alert")).to_contain_text("did you mean android")


def test_members_change_while_one_looks(page: Page, world: World, tmp_path: Path) -> None:
    furnish(world, tmp_path)
    s = world.client()
    page.goto("/cohorts/1")
    expect(page.get_by_role("table", name="Members")).to_contain_text("KM-771234")
    import_lot(s, manifest(tmp_path, ["serial,maker,site", "KM-888888,Kelmar,Dunlin"], "more.csv"))
    expect(page.get_by_role("table", name="Members")).to_contain_text("KM-888888", timeout=15_000)
    device = page.get_by_role("combobox", name="Device: name, serial or IMEI")
    device.fill("nobody")
    expect(page.get_by_text("No device here is known by that.")).to_be_visible()
    device.fill("KM-2")
    choose(page, "KM-2")
    expect(page.get_by_text("It is not in, because of this:")).to_be_visible()
    field = page.get_by_role("textbox", name="Who is in it")
    field.fill('site eq "Petrel"')
    field.press("Escape")
    expect(page.get_by_text("1 would enter")).to_be_visible()
    page.get_by_role("button", name="Preview the change").click()
    confirm(page, "Save: 1 device in, 2 devices out")
    expect(page.get_by_role("table", name="Members")).to_contain_text("KM-2")
    page.get_by_role("button", name="Remove", exact=True).click()
    confirm(page, "Remove the cohort")
    page.wait_for_url("**/cohorts")


def test_devices_by_bulk_view_and_file(page: Page, world: World, tmp_path: Path) -> None:
    furnish(world, tmp_path)
    page.goto("/devices?platform=android")
    page.get_by_role("button", name="Columns").click()
    page.get_by_label("IMEI").check()
    page.get_by_label("supplier", exact=True).check()
    expect(page.get_by_role("columnheader", name="supplier")).to_be_visible()
    page.get_by_label("supplier", exact=True).uncheck()
    page.keyboard.press("Escape")
    expect(page.get_by_role("columnheader", name="IMEI")).to_be_visible()
    page.get_by_role("button", name="Export").click()
    with page.expect_download() as taken:
        page.get_by_text("Workbook (XLSX)").click()
    frame = pl.read_excel(taken.value.path())
    assert "imei" in frame.columns
    assert frame.height == page.get_by_role("table", name="Devices").get_by_role("row").count() - 1
    page.get_by_label("Choose all shown").check()
    page.get_by_role("button", name="Put in a list").click()
    page.get_by_role("dialog").get_by_label("List", exact=True).fill("lent")
    choose(page, "Lent out")
    page.get_by_role("dialog").get_by_role("button", name="Preview").click()
    confirm(page, f"Put {frame.height} devices in")
    assert world.client().cohorts.show(2).devices == frame.height
    page.get_by_role("button", name="Views").click()
    page.get_by_label("Keep this list as").fill("With IMEIs")
    with page.expect_response(lambda found: found.request.method == "POST"):
        page.get_by_role("button", name="Keep the view").last.click()
    page.goto("/devices")
    expect(page.get_by_role("columnheader", name="IMEI")).to_be_hidden()
    page.get_by_role("button", name="Views").click()
    page.get_by_text("With IMEIs").click()
    expect(page.get_by_role("columnheader", name="IMEI")).to_be_visible()


def test_somebody_leaves_and_groups_hold_groups(page: Page, world: World, tmp_path: Path) -> None:
    furnish(world, tmp_path)
    import_people(world.client(), tmp_path, "odo,Odo Gannet,,,,Officers")
    page.goto("/people?person=1")
    page.get_by_role("button", name="Has left").click()
    page.get_by_role("dialog").get_by_role("button", name="Preview").click()
    confirm(page, "Maud Fenwick has left")
    expect(page.get_by_text("left on")).to_be_visible()
    page.get_by_label("Pages").get_by_role("link", name="Groups").click()
    page.get_by_role("row", name="Officers").get_by_role("button", name="Groups in it").click()
    page.get_by_label("Whoever is in these is in it").click(force=True)
    choose(page, "Crew")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Set the groups").click()
    expect(page.get_by_role("row", name="Officers")).to_contain_text("Crew")


@pytest.mark.parametrize("theme", first_of("light", "dark"))
def test_dialogs_and_long_tables_serve_screen_readers(
    page: Page, world: World, tmp_path: Path, theme: str
) -> None:
    furnish(world, tmp_path)
    lines = [f"KM-L{number:03},Kelmar,,Dunlin" for number in range(60)]
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial,maker,imei,site", *lines], "long.csv"))
    page.evaluate("theme => localStorage.setItem('theme', theme)", theme)
    pages = Pages(page)
    for path, button in (
        ("/devices", "From a list"),
        ("/devices/1", "Give to somebody"),
        ("/devices/1", "Put in a list"),
        ("/devices/1", "Hold until"),
        ("/people?person=1", "Has left"),
        ("/gate", "Add a policy"),
        ("/lots", "Check a file or a paste"),
        ("/orders", "Add an order"),
        ("/arrivals", "Make a pass"),
    ):
        pages.go(path)
        page.get_by_role("button", name=button).click()
        expect(page.get_by_role("dialog")).to_be_visible()
        no_violations(page, theme, path, button)
        page.keyboard.press("Escape")
        expect(page.get_by_role("dialog")).to_have_count(0)
    pages.go("/devices")
    page.get_by_label("Choose all shown").check()
    page.get_by_role("button", name="Retire", exact=True).click()
    expect(page.get_by_role("dialog").get_by_role("row")).to_have_count(51)
    no_violations(page, theme, "a long preview")
    # Wider than the screen and longer than its frame, both are reached without a mouse.
    page.set_viewport_size({"width": 360, "height": 740})
    page.goto("/devices")
    expect(page.get_by_role("region", name="Devices")).to_have_attribute("tabindex", "0")
    no_violations(page, theme, "a wide table")
