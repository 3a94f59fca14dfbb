"""What each page of the console does besides the day's main thread: templates, pools, rules,
orders, people, columns, the journal.
"""

import re
from pathlib import Path

from playwright.sync_api import Page, expect
from tests.console.hands import click_entry
from tests.console.test_console import confirm, furnish
from tests.worlds import World, a_pass, import_lot, import_people, knocking, manifest

from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.devices import Selection


def test_names_are_shown_while_they_are_typed_saved_and_given(
    page: Page, world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_lot(
        s, manifest(tmp_path, ["serial,site", "KM-1,Dunlin", "KM-2,Petrel"]), platform="android"
    )
    page.goto("/names")
    pattern = page.get_by_label("Pattern").first
    pattern.fill("{sitte}-{n}")
    expect(page.get_by_role("alert")).to_contain_text("sitte")
    expect(page.get_by_role("button", name="Save for devices to come")).to_be_disabled()
    pattern.fill("{site|upper|first 3}-{serial}")
    expect(page.get_by_text("Fits 2 devices today:")).to_be_visible()
    expect(page.get_by_text("DUN-KM-1")).to_be_visible()
    # A filter and a field put in by clicking go where the caret is.
    pattern.press("Home")
    for _ in range(3):
        pattern.press("ArrowRight")
    page.get_by_role("button", name="Put in a filter").click()
    click_entry(page, "letters")
    expect(pattern).to_have_value("{site|upper|first 3|letters}-{serial}")
    page.get_by_role("button", name="Choose devices").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Devices (empty: all)").fill('site eq "Dunlin"')
    dialog.get_by_role("button", name="Take it").click()
    expect(page.get_by_text("Fits 1 device today:")).to_be_visible()
    page.get_by_role("button", name="Choose devices").click()
    dialog.get_by_label("Devices (empty: all)").fill("")
    dialog.get_by_role("button", name="Take it").click()
    expect(page.get_by_text("Fits 2 devices today:")).to_be_visible()
    page.get_by_role("button", name="Save for devices to come").click()
    page.get_by_role("button", name="Preview the names").click()
    confirm(page, "Rename 2 devices")
    assert [device.name for device in s.devices.list()] == ["DUN-KM-1", "PET-KM-2"]
    page.get_by_role("button", name="Add a template").click()
    expect(page.get_by_label("Pattern")).to_have_count(2)
    page.get_by_role("button", name="Move Template 2 down").click()
    expect(page.get_by_role("textbox", name="Template").last).to_have_value("Template 2")
    page.get_by_role("button", name="Remove Template 2").click()
    expect(page.get_by_role("button", name="Save for devices to come")).to_be_disabled()


def test_heads_sort_lists_of_many_pages_and_columns_are_chosen(
    page: Page, world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "a,Wanda Rook,,Deck,,", "b,Aino Teal,,,,", "c,Maud Heron,,Bridge,,")
    s.agent.knock(knocking(a_pass(s, person="c"), "KM-1"))
    page.goto("/people")
    people = page.get_by_role("table", name="People")
    first = people.get_by_role("row").nth(1)
    expect(first).to_contain_text("Wanda Rook")
    for head, row in (("Name", "Aino Teal"), ("Name", "Wanda Rook"), ("Department", "Aino Teal")):
        people.get_by_role("button", name=head, exact=True).click()
        expect(first).to_contain_text(row)
    people.get_by_role("button", name="Devices", exact=True).click()
    people.get_by_role("button", name="Devices", exact=True).click()
    expect(first).to_contain_text("Maud Heron")
    expect(people.get_by_role("columnheader", name="Devices")).to_have_attribute(
        "aria-sort", "descending"
    )
    page.get_by_role("button", name="Columns of People").click()
    page.get_by_label("Department", exact=True).uncheck()
    page.keyboard.press("Escape")
    page.reload()
    expect(first).to_contain_text("Maud Heron")
    expect(people.get_by_role("columnheader", name="Department")).to_have_count(0)
    page.goto("/journal")
    entries = page.get_by_role("table", name="Journal")
    newest = entries.get_by_role("row").nth(1)
    expect(newest).to_contain_text("let in for Maud Heron")
    entries.get_by_role("button", name="At", exact=True).click()
    expect(newest).to_contain_text("Account viewer added")


def test_a_pool_is_added_changed_and_counts(page: Page, world: World, tmp_path: Path) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial", "KM-1", "KM-2"]), platform="android")
    page.goto("/licences")
    expect(page.get_by_text("No pools yet")).to_be_visible()
    page.get_by_role("button", name="Add a pool").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name", exact=True).fill("Signage")
    dialog.get_by_label("Seats without an end").fill("1")
    dialog.get_by_label("Devices in use that need a seat").fill('platform eq "andriod"')
    dialog.get_by_role("button", name="Preview").click()
    expect(dialog.get_by_text("Did you mean").first).to_be_visible()
    dialog.get_by_label("Devices in use that need a seat").fill('platform eq "android"')
    dialog.get_by_label("Devices that have not arrived take a seat too").check()
    dialog.get_by_role("button", name="Preview").click()
    confirm(page, "Add the pool")
    expect(dialog).to_be_hidden()
    expect(page.get_by_text("short of 1")).to_be_visible()
    page.get_by_role("link", name="Signage").click()
    expect(page.get_by_text("Use a voucher for 1 more seat")).to_be_visible()
    page.get_by_role("button", name="Change").click()
    dialog.get_by_label("Seats without an end").fill("5")
    dialog.get_by_role("button", name="Preview").click()
    confirm(page, "Change the pool")
    expect(page.get_by_text("covered")).to_be_visible()
    [pool] = s.pools.list()
    assert (pool.seats, pool.needed, pool.filter) == (5, 2, 'platform eq "android"')
    page.get_by_role("link", name="2 devices").click()
    expect(page.get_by_text("2 devices fit")).to_be_visible()
    expect(page.get_by_text("take a seat of Signage")).to_be_visible()


def test_terms_are_written_and_tell_who_accepted_them(
    page: Page, world: World, tmp_path: Path
) -> None:
    import_people(world.client(), tmp_path, "maud,Maud Fenwick,,Deck,,")
    page.goto("/arrivals?tab=texts")
    page.get_by_role("button", name="Write terms").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("What they are called").fill("House rules")
    dialog.get_by_label("The text in this language").fill("Be *kind*")
    dialog.get_by_role("button", name="Preview").click()
    confirm(page, "Add the terms")
    page.get_by_role("button", name="Who accepted them").click()
    expect(page.get_by_text("Nobody has accepted them yet.")).to_be_visible()
    world.rows(
        "INSERT INTO acceptances (at, terms_name, revision, language, person_id)"
        " SELECT now(), 'House rules', 1, 'ar', id FROM people"
    )
    page.reload()
    page.get_by_role("button", name="Who accepted them").click()
    told = page.get_by_role("table", name="Who accepted “House rules”")
    expect(told).to_contain_text("العربية")
    told.get_by_role("link", name="Maud Fenwick").click()
    expect(page).to_have_url(re.compile("/people"))


def test_a_rule_out_of_bounds_says_the_bounds(page: Page, world: World) -> None:
    page.goto("/sweeps")
    page.get_by_role("button", name="Add a rule").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Rule").first.fill("Quiet tablets")
    dialog.get_by_label("Idle window (days)").fill("5")
    dialog.get_by_role("button", name="Preview").click()
    expect(dialog.get_by_role("alert")).to_contain_text("21")
    dialog.get_by_label("Idle window (days)").fill("120")
    dialog.get_by_role("button", name="Preview").click()
    confirm(page, "Add the rule")
    expect(dialog).to_be_hidden()
    page.get_by_role("button", name="Change").click()
    dialog.get_by_label("Idle window (days)").fill("150")
    dialog.get_by_role("button", name="Preview").click()
    confirm(page, "Change the rule")
    expect(page.get_by_text("150 days")).to_be_visible()
    assert [rule.idle_window_days for rule in world.client().sweep_rules.list()] == [150]


def test_people_come_by_file_and_show_what_they_hold(
    page: Page, world: World, tmp_path: Path
) -> None:
    s = world.client()
    path = manifest(
        tmp_path,
        [
            "user name,name,mail,department,site,groups",
            "maud,Maud Fenwick,maud@x.example,Deck,Dunlin,Crew; Officers",
            "مود,مود فنويك,,,,Crew",
        ],
        "people.csv",
    )
    page.goto("/people")
    page.get_by_label("CSV of people").set_input_files(path)
    expect(page.get_by_role("dialog")).to_contain_text("2")
    page.get_by_role("dialog").get_by_role(
        "button", name=re.compile("people|person", re.IGNORECASE)
    ).click()
    expect(page.get_by_role("dialog")).to_be_hidden()
    expect(page.get_by_role("row", name="Maud Fenwick")).to_contain_text("Crew, Officers")
    import_lot(s, manifest(tmp_path, ["serial,person", "KM-1,maud"]))
    page.get_by_role("textbox", name="User name, name or mail").fill("فنويك")
    page.get_by_role("textbox", name="User name, name or mail").press("Enter")
    expect(page.get_by_role("row", name="مود فنويك")).to_be_visible()
    expect(page.get_by_role("row", name="Maud Fenwick")).to_be_hidden()
    page.goto("/people?group=Officers")
    page.get_by_role("link", name="Maud Fenwick").click()
    expect(page.get_by_text("by the policy")).to_contain_text("Baseline")
    expect(page.get_by_text("In Crew, Officers.")).to_be_visible()
    expect(page.get_by_role("link", name="KM-1", exact=True)).to_be_visible()


def test_an_order_is_changed_and_a_stale_change_refused(
    page: Page, world: World, tmp_path: Path
) -> None:
    furnish(world, tmp_path)
    s = world.client()
    page.goto("/orders")
    page.get_by_role("button", name="Change").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("combobox", name="Supplier").fill("Chandlers")
    [order] = s.orders.list()
    dialog.get_by_label("Quantity").first.fill("3")
    dialog.get_by_role("button", name="Preview").click()
    confirm(page, "Change the order")
    expect(dialog).to_be_hidden()
    expect(page.get_by_text("of 3 delivered")).to_be_visible()
    page.get_by_role("button", name="Change").click()
    world.rows("UPDATE orders SET revision = revision + 1 WHERE id = %s", order.id)
    dialog.get_by_label("Note").fill("late")
    dialog.get_by_role("button", name="Preview").click()
    dialog.get_by_role("button", name="Change the order").click()
    expect(dialog.get_by_role("alert").filter(has_text="changed")).to_be_visible()


def test_the_journal_takes_an_entry_back(page: Page, world: World, tmp_path: Path) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial", "KM-1", "KM-2"]), ownership="corporate")
    chosen = Selection(ids=[1, 2])
    s.devices.declare(
        chosen, "partner", s.devices.preview_declare(chosen, "partner").digest, "lent"
    )
    page.goto("/journal?operation=device")
    expect(page.get_by_role("table", name="Journal").get_by_role("row")).to_have_count(2)
    page.get_by_role("row", name="lent").get_by_role("link").first.click()
    expect(page.get_by_role("link", name="KM-2")).to_be_visible()
    page.get_by_role("button", name="Preview taking it back").click()
    confirm(page, "Set 2 devices back")
    expect(page.get_by_text("reverted by")).to_be_visible()
    assert {device.ownership for device in s.devices.list()} == {"corporate"}
    page.goto("/journal?entry=99999")
    expect(page.get_by_role("alert")).to_contain_text("99999")


def test_a_column_is_given_its_meaning(page: Page, world: World, tmp_path: Path) -> None:
    s = world.client()
    lot = s.lots.check(manifest(tmp_path, ["Gerät,Platz", "KM-1,Dunlin", "KM-2,Petrel"]))
    page.goto(f"/lots/{lot.id}")
    expect(page.get_by_text("No column holds an identifier")).to_be_visible()
    page.get_by_label("What Gerät means").select_option("serial")
    expect(page.get_by_text("No column holds an identifier")).to_be_hidden()
    page.get_by_label("What Platz means").select_option("site")
    expect(page.get_by_text("as corrected by hand")).to_be_visible()
    assert s.lots.show(lot.id).counts["add"] == 2


def test_a_device_leads_to_its_cohorts_and_a_cohort_to_what_uses_it(
    page: Page, world: World, tmp_path: Path
) -> None:
    furnish(world, tmp_path)
    s = world.client()
    quiet = s.cohorts.add(Cohort(name="Quiet", filter="idleDays ge 0"))
    page.goto("/devices/1")
    expect(page.get_by_text("serial number", exact=True)).to_be_visible()
    expect(page.get_by_text("IMEI", exact=True)).to_be_visible()
    page.locator(f'a[href="/cohorts/{quiet.id}"]').click()
    page.wait_for_url(f"**/cohorts/{quiet.id}")
    expect(page.get_by_role("heading", name="Quiet")).to_be_visible()


def test_menus_write_the_filter_and_a_view_keeps_them(
    page: Page, world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_lot(
        s,
        manifest(
            tmp_path,
            [
                "serial,site,platform",
                "KM-1,Dunlin,android",
                "KM-2,Petrel,android",
                "KM-3,Dunlin,ios",
            ],
        ),
    )
    page.goto("/devices?platform=android")
    expect(page.get_by_text("2 devices fit")).to_be_visible()
    page.goto("/devices?platform=android&site=Dunlin&filter=serial%20sw%20%22KM%22")
    expect(page.get_by_text("1 device fits")).to_be_visible()
    page.get_by_role("button", name="Views").click()
    page.get_by_label("Keep this list as").fill("Dunlin's")
    page.get_by_role("button", name="Keep the view", exact=True).click()
    expect(page.get_by_role("link", name="Dunlin's")).to_be_visible()
    [view] = s.views.list()
    assert (
        view.settings.filter
        == '(serial sw "KM") and (platform eq "android") and (site eq "Dunlin")'
    )
    assert [device.serial for device in s.devices.list(filter=view.settings.filter)] == ["KM-1"]


def test_a_device_is_held_named_reported_and_set_back(
    page: Page, world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial", "KM-1"]), ownership="corporate", platform="android")
    page.goto("/devices/1")
    page.get_by_role("button", name="Hold until").click()
    page.get_by_label("Until and including").fill("2027-01-31")
    page.get_by_label("Reason").fill("lent to the museum")
    page.get_by_role("button", name="Preview the hold").click()
    confirm(page, "Hold 1 device")
    expect(page.get_by_text("Held until 31 Jan 2027: lent to the museum")).to_be_visible()
    assert s.devices.count(filter="held eq true") == 1
    page.get_by_role("button", name="End it").click()
    expect(page.get_by_text("Held until 31 Jan 2027")).to_be_hidden()
    page.get_by_label("Name by hand").fill("not a name!")
    page.get_by_role("button", name="Name it").click()
    expect(page.get_by_role("alert")).to_be_visible()
    page.get_by_label("Name by hand").fill("MUSEUM-1")
    page.get_by_role("button", name="Name it").click()
    expect(page.get_by_role("heading", name="MUSEUM-1")).to_be_visible()
    page.get_by_role("button", name="Report", exact=True).click()
    click_entry(page, "Stolen")
    confirm(page, "Report 1 device stolen")
    expect(page.get_by_role("heading", level=1)).to_contain_text("stolen")
    page.get_by_role("button", name="Report", exact=True).click()
    click_entry(page, "Found again")
    confirm(page, "1 device found")
    expect(page.get_by_role("heading", level=1)).not_to_contain_text("stolen")
    page.get_by_role("button", name="Declare as").click()
    click_entry(page, "corporate")
    confirm(page, "Declare 1 device corporate")
    page.locator("li").filter(has_text="named MUSEUM-1").get_by_role(
        "button", name="Take back"
    ).click()
    confirm(page, "Set 1 device back")
    expect(page.get_by_role("heading", name="KM-1")).to_be_visible()
    assert [(device.name, device.flag) for device in s.devices.list()] == [(None, None)]


def test_a_retired_device_is_erased_once_its_number_is_typed(
    page: Page, world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial", "KM-1"]), ownership="corporate", platform="android")
    page.goto("/devices/1")
    page.get_by_role("button", name="Retire", exact=True).click()
    confirm(page, "Retire 1 device")
    page.get_by_role("button", name="Erase", exact=True).click()
    final = page.get_by_role("button", name="Erase 1 device for ever")
    expect(final).to_be_disabled()
    number = page.get_by_label("Type how many devices it is")
    number.click()
    number.press_sequentially("1")
    expect(final).to_be_enabled()
    confirm(page, "Erase 1 device for ever")
    expect(page.get_by_role("link", name="Certificate 1")).to_be_visible()
    assert s.devices.count() == 0


def test_a_pass_is_revoked_and_the_theme_stays(page: Page, world: World) -> None:
    a_pass(world.client())
    page.goto("/arrivals?tab=passes")
    page.get_by_role("link", name="test").click()
    page.get_by_role("button", name="Revoke").click()
    expect(page.get_by_text("revoked")).to_be_visible()
    expect(page.get_by_role("button", name="Revoke")).to_have_count(0)
    dark = page.locator(".v-theme--dark").first
    page.get_by_label("Light or dark").click()
    expect(dark).to_be_attached()
    page.reload()
    expect(dark).to_be_attached()


def test_how_a_file_was_understood_is_corrected_by_clicking(
    page: Page, world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial,maker", "KM-9999,Kelmar"]), platform="android")
    lines = [
        "Delivery 4711;;;",
        "Serial;Maker;Kaufdatum;Ort",
        "Deck 4;;;",
        "KM-0001;Kelmer;01/02/2025;Dunlin",
        "KM-0002;Kelmer;03/04/2025;Dunlin",
        "TOTAL22;;;",
    ]
    lot = s.lots.check(manifest(tmp_path, lines, "b.csv"))
    page.goto(f"/lots/{lot.id}")
    picture = page.get_by_role("region", name="Picture of the file")
    expect(picture.get_by_role("row", name="Deck 4")).to_contain_text("a title or a remark")
    expect(picture.get_by_role("row", name="Delivery 4711")).to_contain_text("above the rows")
    page.get_by_role("button", name="The day comes first").click()
    expect(picture).to_contain_text("2025-02-01")
    page.get_by_role("button", name="It is Kelmar").click()
    expect(page.get_by_text("another spelling of a known maker")).to_be_visible()
    picture.get_by_role("button", name="6", exact=True).click()
    picture.get_by_role("button", name="It is a row").click()
    expect(page.get_by_role("button", name="3 add")).to_be_visible()
    picture.get_by_role("button", name="6", exact=True).click()
    picture.get_by_role("button", name="Undo “take”").click()
    expect(page.get_by_role("button", name="2 add")).to_be_visible()
    picture.get_by_label("What Ort means").select_option("department")
    expect(page.get_by_text("columns as corrected by hand")).to_be_visible()
    assert s.lots.show(lot.id).columns["Ort"] == "department"
    picture.get_by_role("button", name="1", exact=True).click()
    picture.get_by_role("button", name="The headers are here").click()
    expect(page.get_by_text("No column holds an identifier")).to_be_visible()
    picture.get_by_role("button", name="2", exact=True).click()
    picture.get_by_role("button", name="The headers are here").click()
    expect(page.get_by_role("button", name="2 add")).to_be_visible()
