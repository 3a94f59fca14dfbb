"""A coordinator's day, walked from end to end: fifteen tasks by roles and labels, each with what it
takes of clicks and of fields that are typed in. The table stands in the handbook.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect
from tests.console.browsers import signed_in
from tests.console.hands import Hands, Keyboard
from tests.identifiers import imei
from tests.workbooks import xlsx
from tests.worlds import (
    Database,
    World,
    a_pass,
    a_world,
    import_lot,
    import_people,
    knocking,
    manifest,
)

from sortitor.client import Sortitor
from sortitor.core.vocabulary import Activation, Ownership, Platform, Role, Stage
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.devices import Selection
from sortitor.schemas.gate import PlatformRule, Policy, Quota, VersionBounds
from sortitor.schemas.licences import Pool
from sortitor.schemas.orders import Order, OrderLine
from sortitor.schemas.sweeps import Rule

#: What a task leaves behind, those after it meet.
pytestmark = pytest.mark.in_order

TABLE = Path(__file__).parents[2] / "docs" / "handbook" / "reference" / "day.md"
CREW = ("Maud Fenwick", "Odo Gannet", "Eve Tallack", "Tobias Rook", "Mara Quill", "Ines Carrow")


@pytest.fixture(scope="module")
def day(database: Database, tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    """One morning in one fleet, for one task after the other."""
    with a_world(database) as world:
        _morning(world, tmp_path_factory.mktemp("day"))
        yield world


def _morning(world: World, folder: Path) -> None:
    s = world.client()
    newcomers = [f"new{n},Newcomer {n},new{n}@wrenmoor.example,Deck,Petrel,Crew" for n in range(15)]
    people = [
        f"{name.split()[0].lower()},{name},{name.split()[0].lower()}@wrenmoor.example,Deck,Petrel,"
        + ("Officers;Crew" if place < 3 else "Crew")
        for place, name in enumerate(CREW)
    ]
    import_people(s, folder, *people, *newcomers)
    s.orders.add(Order(name="WL-2602", lines=[OrderLine(product="Mate 3", quantity=300)]))
    _rules(s)
    s.cohorts.add(Cohort(name="Lent out"))
    tablets = [f"TB-{n:03},{'Dunlin' if n % 2 else 'Petrel'}" for n in range(40)]
    import_lot(s, manifest(folder, ["serial,site", *tablets], "tablets.csv"), platform="android")
    scanners = [f"SC-{n:03},Gull" for n in range(12)]
    import_lot(s, manifest(folder, ["serial,site", *scanners], "wrong.csv"), platform="android")
    shared = a_pass(s, activation=Activation.SHARED)
    for n in range(12):
        s.agent.knock(knocking(shared, f"TB-{n:03}"))
    for name, count in (("maud", 3), ("odo", 1), ("tobias", 2)):
        code = a_pass(s, person=name, ownership=Ownership.CORPORATE, max_uses=9)
        for n in range(count):
            s.agent.knock(knocking(code, f"{name[:2].upper()}-{n}"))
    s.agent.knock(knocking(a_pass(s, person="mara"), "OLD-1", os_version="9"))
    waiting = a_pass(s, activation=Activation.COORDINATOR)
    for n in range(10):
        s.agent.knock(knocking(waiting, f"WAIT-{n}"))


def _rules(s: Sortitor) -> None:
    baseline = s.gate.show().policies[-1]
    android = PlatformRule(open=True, versions=VersionBounds(oldest="10"))
    baseline = baseline.model_copy(
        update={
            "platforms": {**baseline.platforms, Platform.ANDROID: android},
            "quota": Quota(devices=12),
        }
    )
    officers = Policy(name="Officers", groups=("Officers",), quota=Quota(devices=4))
    policies = [officers, baseline]
    s.gate.apply(policies, s.gate.preview(policies).digest)
    s.pools.add(Pool(name="Signage", seats=10, filter='platform eq "android"'))
    s.sweep_rules.add(Rule(name="Quiet", idle_window_days=30, brake_percent=100))


def _open(browser: Browser, world: World, role: Role = Role.COORDINATOR, width: int = 1280) -> Page:
    page = signed_in(browser, world, role, width)
    page.goto("/today")
    return page


@pytest.fixture
def hands(browser: Browser, day: World) -> Iterator[Hands]:
    """A coordinator at a desk."""
    page = _open(browser, day)
    yield Hands(page)
    page.context.close()


@pytest.fixture
def keyboard(browser: Browser, day: World) -> Iterator[Keyboard]:
    """A coordinator without a mouse."""
    page = _open(browser, day)
    yield Keyboard(page)
    page.context.close()


@pytest.fixture
def phone(browser: Browser, day: World) -> Iterator[Hands]:
    """A technician with a phone."""
    page = _open(browser, day, Role.TECHNICIAN, 360)
    yield Hands(page)
    page.context.close()


def took(task: str, hands: Hands) -> None:
    """What the task took is what the handbook's table says."""
    lines = [line.strip(" |").split(" | ") for line in TABLE.read_text("utf-8").splitlines()]
    print("TOOK", task, hands.clicks, hands.fields)
    told = {
        line[0]: (int(line[1]), int(line[2]))
        for line in lines
        if len(line) == 3 and line[1].isdigit()
    }
    assert told.get(task) == (hands.clicks, hands.fields), task


def go(hands: Hands, name: str) -> None:
    """By the rail."""
    hands.rail(name)
    expect(hands.page.get_by_role("heading", level=1, name=name)).to_be_visible()


# ---- at a desk


def test_a_lot_of_phones_with_damage(hands: Hands, day: World, tmp_path: Path) -> None:
    rows = [["Serial", "IMEI", "Order"]]
    rows += [[f"PH-{n:04}", imei(1000 + n), "WL-2620"] for n in range(300)]
    rows[7][1] = "3.56938E+14"
    rows[9][1] = imei(1009)[:-1] + ("1" if imei(1009)[-1] != "1" else "2")
    path = tmp_path / "phones.xlsx"
    path.write_bytes(xlsx(("Phones", rows)))
    go(hands, "Lots")
    hands.press("Check a file or a paste")
    hands.put("Workbook or text file", path)
    hands.choose("Platform", "Android")
    hands.press("Check it")
    expect(hands.page.get_by_text("WL-2620 → WL-2602")).to_be_visible()
    expect(hands.page.get_by_role("button", name="2 reject")).to_be_visible()
    hands.press("Preview and apply")
    hands.apply(re.compile("Add 298"))
    expect(hands.page.get_by_text("298 devices of it")).to_be_visible()
    took("A lot of 300 phones with damage", hands)


def test_tablets_declared_from_a_list(hands: Hands, day: World) -> None:
    listed = "\n".join(["Serial\tSite", *(f"TB-{n:03}\tsomewhere" for n in range(40)), "TB-999\t"])
    go(hands, "Devices")
    hands.press("From a list")
    hands.write("Paste the list", listed)
    hands.press("Find them")
    expect(hands.dialog.get_by_role("alert")).to_contain_text("TB-999")
    hands.press("Go on with 40 devices")
    expect(hands.dialog).to_have_count(0)
    hands.menu("Declare as", "corporate")
    hands.apply("Declare 40 devices corporate")
    s = day.client()
    found = Selection(identifiers=["TB-000", "TB-039"])
    assert s.devices.preview_declare(found, Ownership.CORPORATE).examples_total == 0
    assert s.devices.count(query="TB-999") == 0
    took("40 tablets declared from a list", hands)


def test_who_has_more_than_two_and_why_one_was_refused(hands: Hands) -> None:
    page = hands.page
    go(hands, "Devices")
    hands.write("Filter", "person.devices gt 2")
    expect(page.get_by_text("3 devices fit", exact=True)).to_be_visible()
    expect(page.get_by_role("link", name="Maud Fenwick").first).to_be_visible()
    hands.write("Find a device", "OLD-1")
    page.keyboard.press("Enter")
    expect(page.get_by_text("Not in the fleet.")).to_be_visible()
    hands.click(page.get_by_role("link", name=re.compile("Try")).first)
    expect(page.get_by_text("As it arrived on")).to_be_visible()
    hands.write("OS version", "10")
    hands.press("Try it")
    expect(page.get_by_text("parked", exact=True)).to_be_visible()
    took("Who has more than two phones, and why was this one refused", hands)


def test_one_more_device_for_a_group_for_a_month(hands: Hands, day: World) -> None:
    page = hands.page
    go(hands, "Gate")
    hands.press("Add a policy")
    hands.write("Policy", "Refit")
    hands.pick("People in these groups", "offi", "Officers")
    page.keyboard.press("Escape")
    hands.write("Until and including", "2026-02-18")
    hands.press("Keep in the draft")
    hands.press("Refit, all platforms, devices per person")
    hands.write("Devices per person", "5")
    hands.press("State it")
    page.reload()
    expect(page.get_by_text("Not saved yet")).to_be_visible()
    hands.press("Preview and save")
    expect(hands.dialog).to_contain_text("3 people")
    expect(hands.dialog).to_contain_text("4 devices")
    hands.apply("Save the gate")
    [refit, *_] = day.client().gate.show().policies
    assert (refit.name, str(refit.until), refit.quota) == ("Refit", "2026-02-18", Quota(devices=5))
    took("One more device for a group for a month", hands)


def test_a_cohort_for_a_colleague(hands: Hands, day: World) -> None:
    page = hands.page
    go(hands, "Devices")
    hands.press("Build by clicking")

    def condition(place: int, attribute: str, operator: str, value: str) -> None:
        page.get_by_label("Attribute").nth(place).select_option(label=attribute)
        page.get_by_label("Comparison").nth(place).select_option(label=operator)
        hands.clicks += 2
        target = page.get_by_label("Value", exact=True).nth(place)
        if target.evaluate("one => one.tagName") == "SELECT":
            target.select_option(value)
            hands.clicks += 1
        else:
            target.fill(value)
            target.press("Tab")
            hands.fields += 1

    hands.press("Add a group")
    condition(0, "Whether somebody keeps it out of sweeps", "is", "false")
    condition(1, "Site", "is", "Dunlin")
    hands.click(page.get_by_role("button", name="Add a condition").first)
    condition(2, "Site", "is", "Petrel")
    hands.click(page.get_by_role("button", name="Add a condition").last)
    condition(3, "Whole days since its last sign of life", "is at least", "0")
    expect(page.get_by_text("40 devices fit now")).to_be_visible()
    hands.press("Keep as a cohort")
    hands.write("Name of the cohort", "Two sites")
    hands.press("Preview the cohort")
    hands.click(hands.dialog.last.get_by_role("button", name="Save the cohort"))
    expect(page.get_by_role("heading", name="Two sites")).to_be_visible()
    with page.expect_download() as taken:
        hands.press("Export")
        hands.click(page.get_by_text("CSV", exact=True))
    assert len(taken.value.path().read_text().splitlines()) == 41
    made = next(one for one in day.client().cohorts.list() if one.name == "Two sites")
    assert made.filter is not None
    assert 'site eq "Dunlin" or site eq "Petrel"' in made.filter
    took("A cohort for a colleague", hands)


def test_ten_waiting_devices(hands: Hands, day: World) -> None:
    page = hands.page
    go(hands, "Arrivals")
    expect(page.get_by_role("row")).to_have_count(11)
    hands.click(page.get_by_role("checkbox", name="Choose all shown"))
    hands.pick("One person for the marked ones", "ines", "Ines Carrow")
    hands.press("Preview giving them")
    hands.apply("Give 10 devices")
    expect(page.get_by_text("Nobody is waiting")).to_be_visible()
    assert day.client().people.show("ines").holding == 10
    took("Ten waiting devices", hands)


def test_a_pass_for_fifteen_newcomers(hands: Hands) -> None:
    go(hands, "Arrivals")
    hands.press("Make a pass")
    hands.write("What it is for", "April crew")
    hands.choose("For", "a list of people, one each")
    hands.write("User names or mail addresses", ", ".join(f"new{n}" for n in range(15)))
    hands.press("Make a pass for each")
    expect(hands.dialog).to_contain_text("15 passes were made")
    expect(hands.dialog.get_by_role("row")).to_have_count(15)
    took("A pass for fifteen newcomers", hands)


def test_seats_short(hands: Hands, day: World) -> None:
    page = hands.page
    item = page.get_by_role("listitem").filter(has_text="Signage")
    expect(item).to_contain_text("short")
    hands.click(item.get_by_role("link"))
    hands.press("Change")
    hands.write("Seats without an end", "500")
    hands.press("Preview")
    hands.click(hands.dialog.last.get_by_role("button", name="Change the pool"))
    expect(page.get_by_text("covered")).to_be_visible()
    took("Seats short", hands)


def test_an_auditor(hands: Hands) -> None:
    page = hands.page
    go(hands, "Journal")
    hands.pick("Person", "maud", "Maud Fenwick")
    expect(page.get_by_role("table", name="Journal").get_by_role("row")).to_have_count(4)
    with page.expect_download() as taken:
        hands.press("Export")
        hands.click(page.get_by_text("CSV", exact=True))
    assert len(taken.value.path().read_text("utf-8").splitlines()) == 4
    took("An auditor asks", hands)


def test_a_leaver(hands: Hands, day: World) -> None:
    page = hands.page
    go(hands, "People")
    hands.write("User name, name or mail", "tobias")
    page.keyboard.press("Enter")
    hands.click(page.get_by_role("link", name="Tobias Rook"))
    hands.press("Has left")
    hands.choose("What becomes of", "given to somebody else")
    hands.pick("Who gets", "eve", "Eve Tallack")
    hands.press("Preview")
    hands.apply("Tobias Rook has left")
    s = day.client()
    assert (s.people.show("tobias").holding, s.people.show("eve").holding) == (0, 1)
    took("A leaver", hands)


def test_a_wrong_lot_taken_back(hands: Hands, day: World) -> None:
    page, s = hands.page, day.client()
    arrived = a_pass(s, activation=Activation.SHARED)
    for n in range(2):
        s.agent.knock(knocking(arrived, f"SC-{n:03}"))
    go(hands, "Lots")
    hands.click(page.get_by_role("link", name="wrong").first)
    hands.press("Preview the revert")
    expect(hands.dialog).to_contain_text("2 devices changed since and stay as they are")
    first = hands.dialog.get_by_role("row").nth(1)
    expect(first).to_contain_text("arrived since")
    hands.apply("Remove 10 devices")
    assert s.devices.count(query="SC-00") == 2
    took("A wrong lot taken back", hands)


# ---- without a mouse


def test_all_by_keyboard(keyboard: Keyboard, day: World) -> None:
    """Five of the tasks again, on other devices and people."""
    page = keyboard.page
    box = page.get_by_role("textbox", name="Find a device")
    expect(box).to_be_visible()
    page.keyboard.press("/")
    expect(box).to_be_focused()
    page.keyboard.type("OLD-1")
    page.keyboard.press("Enter")
    keyboard.fields += 1
    keyboard.click(page.get_by_role("link", name=re.compile("Try")).first)
    expect(page.get_by_text("As it arrived on")).to_be_visible()

    go(keyboard, "Devices")
    keyboard.press("From a list")
    keyboard.write("Paste the list", "TB-038 TB-039")
    keyboard.press("Find them")
    expect(keyboard.dialog).to_have_count(0)
    keyboard.menu("Declare as", "partner's")
    keyboard.apply("Declare 2 devices partner")

    go(keyboard, "Arrivals")
    keyboard.press("Make a pass")
    keyboard.write("What it is for", "Keys")
    keyboard.press("Make the pass")
    expect(keyboard.dialog).to_contain_text("The code is shown this once")
    keyboard.press("Done")

    go(keyboard, "People")
    keyboard.write("User name, name or mail", "odo")
    page.keyboard.press("Enter")
    keyboard.click(page.get_by_role("link", name="Odo Gannet"))
    keyboard.press("Has left")
    keyboard.choose("What becomes of", "given to somebody else")
    keyboard.pick("Who gets", "eve", "Eve Tallack")
    keyboard.press("Preview")
    keyboard.apply("Odo Gannet has left")
    assert day.client().people.show("odo").holding == 0

    keyboard.press("Undo")
    keyboard.apply("Take the leaving back")
    assert day.client().people.show("odo").holding == 1
    took("All by keyboard: a refusal, a list, a pass, a leaver, and back", keyboard)


# ---- with a phone


@pytest.fixture
def small(browser: Browser, day: World) -> Iterator[Hands]:
    """A coordinator on the way, with a phone."""
    page = _open(browser, day, width=360)
    yield Hands(page)
    page.context.close()


def fits(page: Page) -> None:
    """Nothing is wider than the phone."""
    assert page.evaluate("document.documentElement.scrollWidth") <= 360


def test_a_refusal_on_a_phone(small: Hands) -> None:
    page = small.page
    small.write("Find a device", "OLD-1")
    page.keyboard.press("Enter")
    expect(page.get_by_text("Not in the fleet.")).to_be_visible()
    fits(page)
    small.click(page.get_by_role("link", name=re.compile("Try")).first)
    expect(page.get_by_text("As it arrived on")).to_be_visible()
    fits(page)
    took("A refusal, on a phone", small)


def test_a_leaver_on_a_phone(small: Hands, day: World) -> None:
    page = small.page
    page.goto("/people?query=odo")
    small.click(page.get_by_role("link", name="Odo Gannet"))
    small.press("Has left")
    fits(page)
    small.choose("What becomes of", "reported missing")
    small.press("Preview")
    small.apply("Odo Gannet has left")
    fits(page)
    assert day.client().people.show("odo").left_at is not None
    took("A leaver, on a phone", small)


def test_a_technician_with_a_phone_and_a_box(phone: Hands, day: World) -> None:
    page = phone.page
    phone.write("Find a device", "TB-030")
    page.keyboard.press("Enter")
    phone.press("Give to somebody")
    phone.pick("To whom", "mara", "Mara Quill")
    phone.press("Preview")
    phone.apply(re.compile("Give 1 device"))
    page.goto("/devices")
    phone.press("From a list")
    phone.write("Paste the list", "TB-031\nTB-032\nTB-033")
    phone.press("Find them")
    expect(phone.dialog).to_have_count(0)
    phone.menu("Report", "Missing")
    phone.apply("Report 3 devices missing")
    fits(page)
    assert day.client().people.show("mara").holding == 0, "it is awaited: it has not arrived"
    took("A technician with a phone and a box", phone)


# ---- what changes all the others


def test_new_names(hands: Hands, day: World) -> None:
    go(hands, "Names")
    hands.write("Pattern", "{site|upper|first 3}-{serial}")
    expect(hands.page.get_by_text(re.compile("Fits .* today"))).to_be_visible()
    hands.press("Save for devices to come")
    hands.press("Preview the names")
    hands.apply(re.compile("Rename"))
    assert day.client().devices.count(query="PET-TB-000") == 1
    took("New names", hands)


def test_a_sweep_with_a_ship_held(hands: Hands, day: World) -> None:
    page, s = hands.page, day.client()
    day.later(days=60)
    go(hands, "Devices")
    hands.choose("Site", "Petrel (20)")
    expect(page.get_by_text("20 devices fit", exact=True)).to_be_visible()
    hands.click(page.get_by_role("checkbox", name="Choose all shown"))
    hands.press("Hold until")
    hands.write("Until and including", "2026-10-01")
    hands.write("Reason", "laid up for the winter")
    hands.press("Preview the hold")
    hands.apply("Hold 20 devices")
    go(hands, "Sweeps")
    hands.press("Preview the sweep")
    expect(hands.dialog).to_contain_text("on hold")
    hands.apply(re.compile("Retire"))
    aboard = list(s.devices.list(filter='site eq "Petrel"'))
    assert all(one.stage is not Stage.RETIRED for one in aboard)
    took("A sweep with a ship held", hands)
