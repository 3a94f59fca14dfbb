"""The person's page on a phone of 360 pixels: a whole way in, by touch and by keyboard, in several
languages.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect
from tests.console.browsers import signed_in
from tests.doors import Door, a_door
from tests.worlds import a_pass, change_baseline, http

from sortitor.core.vocabulary import MailState, Role, SignInWay, Stage
from sortitor.schemas.arrivals import ProgressTold
from sortitor.schemas.passes import PassTerms
from sortitor.schemas.terms import Form, Terms, TermsText
from sortitor.schemas.welcome import Greeting, WelcomeCard

HOSTILE = (
    "<h2>Rules</h2><p onclick=\"document.title='hit'\">Be kind</p>"
    "<script>document.title='hit'</script><img src=x onerror=\"document.title='hit'\">"
    "<a href=\"javascript:document.title='hit'\">more</a>"
)


@pytest.fixture
def door(make_world, tmp_path: Path) -> Iterator[Door]:  # type: ignore[no-untyped-def]
    with a_door(make_world, tmp_path) as made:
        s = made.s
        s.terms.add(
            Terms(
                name="House rules",
                form=Form.HTML,
                texts=(
                    TermsText(language="en", text=HOSTILE),
                    TermsText(language="ar", text="<p>كن لطيفًا</p>"),
                ),
            )
        )
        card = WelcomeCard(
            organisation="Wrenmoor Lines",
            help_name="Device desk",
            help_phone="+44 1632 960 420",
            help_mail="devices@wrenmoor.example",
            greetings=(Greeting(language="en", text="Good to have you."),),
        )
        s.welcome.apply(card, s.welcome.preview(card).digest)
        change_baseline(s, sign_in=SignInWay.MAIL, terms=("House rules",))
        yield made


def a_phone(browser: Browser, door: Door, locale: str = "en-GB") -> Page:
    context = browser.new_context(
        viewport={"width": 360, "height": 800},
        reduced_motion="reduce",
        locale=locale,
        base_url=door.world.url,
        has_touch=True,
    )
    context.set_default_timeout(15_000)
    return context.new_page()


def fits(page: Page) -> bool:
    return bool(page.evaluate("document.documentElement.scrollWidth <= window.innerWidth"))


def test_a_person_comes_in_with_the_code_from_the_mail(browser: Browser, door: Door) -> None:
    s = door.s
    code = s.passes.add(PassTerms(label="New", asks_ownership=True), passcode="Gull 7").code
    asked = door.asked(code=code)
    page = a_phone(browser, door)
    complaints: list[str] = []
    page.on("pageerror", lambda error: complaints.append(str(error)))
    page.goto(f"/welcome#{asked.secret}")
    expect(page.get_by_text("Good to have you.")).to_be_visible()
    expect(page.get_by_role("link", name="+44 1632 960 420")).to_be_visible()
    page.get_by_label("Passcode").fill("Gull 8")
    page.get_by_role("button", name="Go on").click()
    expect(page.get_by_role("alert")).to_have_text("This is not the passcode.")
    page.get_by_label("Passcode").fill("Gull 7")
    page.get_by_role("button", name="Go on").click()
    page.get_by_label("Your user name or mail address").fill("maud@wrenmoor.example")
    page.get_by_role("button", name="Send me a code").click()
    page.get_by_label("Code from the mail").fill("000000")
    page.get_by_role("button", name="Check the code").click()
    expect(page.get_by_role("alert")).to_contain_text("not the code")
    page.get_by_label("Code from the mail").fill(door.code())
    page.get_by_role("button", name="Check the code").click()
    expect(page.get_by_text("Signed in as Maud Fenwick")).to_be_visible()
    page.get_by_label("It is my own").check()
    page.get_by_role("button", name="Go on").click()
    rules = page.get_by_role("region", name="House rules")
    expect(rules).to_contain_text("Be kind")
    rules.get_by_text("Be kind").click()
    rules.get_by_text("more").click()
    assert rules.locator("script, img, [onclick]").count() == 0
    assert "hit" not in page.title()
    assert fits(page)
    page.get_by_role("button", name="I have read this and accept it").click()
    expect(page.get_by_role("heading", name="You are in")).to_be_visible()
    credential = s.agent.collect(asked.secret or "").credential or ""
    s.agent.progress(credential, ProgressTold(done=3, total=10, doing="Certificates"))
    expect(page.get_by_text("3 of 10")).to_be_visible()
    expect(page.get_by_text("Now: Certificates")).to_be_visible()
    s.agent.progress(credential, ProgressTold(done=10, total=10, finished=True))
    expect(page.get_by_role("heading", name="Your device is ready.")).to_be_visible()
    [device] = s.devices.list()
    assert (device.stage, device.person_name) == (Stage.ACTIVE, "Maud Fenwick")
    assert complaints == []


def test_the_keyboard_alone_goes_all_the_way(browser: Browser, door: Door) -> None:
    asked = door.asked()
    page = a_phone(browser, door)
    page.goto(f"/welcome#{asked.secret}")
    expect(page.get_by_role("heading", name="Say who you are")).to_be_visible()
    page.keyboard.press("Tab")
    page.keyboard.type("maud")
    page.keyboard.press("Enter")
    expect(page.get_by_label("Code from the mail")).to_be_visible()
    expect(page.get_by_role("heading", name="Say who you are")).to_be_focused()
    page.keyboard.press("Tab")
    page.keyboard.type(door.code())
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Please read and accept")).to_be_focused()
    for _ in range(3):
        page.keyboard.press("Tab")
        if page.evaluate("document.activeElement.tagName") == "BUTTON":
            break
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="You are in")).to_be_visible()


@pytest.mark.parametrize(
    ("locale", "heading", "direction"),
    [
        ("de-DE", "Sagen Sie, wer Sie sind", "ltr"),
        pytest.param("fr-FR", "Dites qui vous êtes", "ltr", marks=pytest.mark.slow),
        pytest.param("es-ES", "Diga quién es", "ltr", marks=pytest.mark.slow),
        ("ar-EG", "عرّف بنفسك", "rtl"),
    ],
)
def test_the_page_speaks_the_persons_language(
    browser: Browser, door: Door, locale: str, heading: str, direction: str
) -> None:
    page = a_phone(browser, door, locale)
    page.goto(f"/welcome#{door.asked().secret}")
    expect(page.get_by_role("heading", name=heading)).to_be_visible()
    assert page.locator(".page").get_attribute("dir") == direction
    assert page.evaluate("document.documentElement.lang") == locale[:2]
    assert fits(page)
    page.locator("select").select_option("en")
    expect(page.get_by_role("heading", name="Say who you are")).to_be_visible()


def test_a_refusal_says_what_to_do_and_whom_to_ask(browser: Browser, door: Door) -> None:
    change_baseline(door.s, quota=1, terms=())
    door.asked("KM-1", a_pass(door.s, person="odo", activation="shared"))
    asked = door.asked("KM-2", a_pass(door.s, person="odo"))
    page = a_phone(browser, door, "de-DE")
    page.goto(f"/welcome#{asked.secret}")
    page.get_by_label("Ihr Benutzername oder Ihre Mailadresse").fill("odo")
    page.get_by_role("button", name="Code schicken").click()
    typed = page.get_by_label("Code aus der Mail")
    expect(typed).to_be_visible()
    typed.fill(door.code("odo@wrenmoor.example"))
    page.get_by_role("button", name="Code prüfen").click()
    expect(page.get_by_role("heading", name="kann hier zurzeit nicht")).to_be_visible()
    expect(page.get_by_text("so viele Geräte")).to_be_visible()
    expect(page.get_by_role("link", name="devices@wrenmoor.example")).to_be_visible()


def test_an_address_that_lapsed_and_a_code_of_a_pass(browser: Browser, door: Door) -> None:
    page = a_phone(browser, door)
    page.goto("/welcome#" + "x" * 43)
    expect(page.get_by_role("alert")).to_contain_text("took too long")
    page.goto("/welcome#7K3QX9M2PA")
    page.reload()
    expect(page.get_by_text("7K3QX-9M2PA")).to_be_visible()


def test_pictures_of_the_card_are_made_anew(door: Door) -> None:
    import io

    from PIL import Image, PngImagePlugin

    secret = PngImagePlugin.PngInfo()
    secret.add_text("Comment", "<script>where it was taken</script>")
    made = io.BytesIO()
    Image.new("RGB", (3_000, 900), "teal").save(made, "PNG", pnginfo=secret)
    digest = door.s.welcome.add_picture(made.getvalue())
    with http(door.world, None) as client:
        answer = client.get(f"/api/v1/welcome-card/pictures/{digest}")
        assert answer.headers["content-type"] == "image/png"
        assert b"where it was taken" not in answer.content
        assert Image.open(io.BytesIO(answer.content)).size == (720, 216)
    bomb = io.BytesIO()
    Image.new("1", (20_000, 20_000)).save(bomb, "PNG")
    with http(door.world, Role.COORDINATOR) as client:
        for content in (b"GIF89a....", b"<svg onload=alert(1)>", b"", bomb.getvalue()):
            refused = client.post(
                "/api/v1/welcome-card/pictures",
                content=content,
                headers={"Content-Type": "application/octet-stream"},
            )
            assert refused.status_code == 422, content[:20]
            assert refused.json()["code"] == "bad_picture"


def test_mails_are_seen_tried_again_and_tested(browser: Browser, door: Door) -> None:
    door.mailbox.refuse = "550 No such box"
    page = signed_in(browser, door.world, Role.ADMINISTRATOR)
    page.goto("/arrivals?tab=mails")
    page.get_by_label("Address").fill("odo@wrenmoor.example")
    page.get_by_role("button", name="Send a test mail").click()
    expect(page.get_by_role("status")).to_contain_text("odo@wrenmoor.example")
    row = page.get_by_role("row").filter(has_text="odo@wrenmoor.example")
    expect(row).to_contain_text("waiting")
    door.send()
    page.reload()
    expect(row).to_contain_text("550: No such box")
    door.mailbox.refuse = ""
    row.get_by_role("button", name="Try the mail to odo@wrenmoor.example again").click()
    expect(row).to_contain_text("waiting")
    assert [one.state for one in door.send()] == [MailState.SENT]
    page.context.close()
