"""What ends: listed, mailed once, and shown in a calendar that other programs read."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import date, timedelta
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest
from icalendar import Calendar
from tests.doors import Door, a_door
from tests.worlds import NOW, PASSWORD, World, hold, import_lot, manifest

from sortitor.api.app import loggable
from sortitor.client import Sortitor
from sortitor.client.errors import Refused, SignInNeeded
from sortitor.core.ends import Reminders
from sortitor.core.passes import PassTerms
from sortitor.core.vocabulary import EndKind, Purpose, Role
from sortitor.operations import ends
from sortitor.schemas.accounts import TokenSecret

TODAY = NOW.date()


@pytest.fixture
def door(make_world: Callable[..., World], tmp_path: Path) -> Iterator[Door]:
    with a_door(make_world, tmp_path) as made:
        yield made


def fleet(s: Sortitor, tmp_path: Path) -> None:
    """Warranties of two days, a hold, a pass for ten days."""
    soon, later = TODAY + timedelta(days=14), TODAY + timedelta(days=200)
    lines = [f"KM-1,{soon}", f"KM-2,{soon}", f"KM-3,{later}", f"KM-4,{TODAY - timedelta(days=1)}"]
    import_lot(s, manifest(tmp_path, ["serial,warranty until", *lines]))
    device = next(iter(s.devices.list(query="KM-3")))
    hold(s, device.id, until=TODAY + timedelta(days=30))
    s.passes.add(PassTerms(label="Spring crew", valid_days=10))


def remind(world: World) -> int:
    return ends.remind(world.run.context("schedule"))


def wants(s: Sortitor, *addresses: str, **more: object) -> None:
    reminders = Reminders(addresses=addresses, **more)
    s.ends.apply_reminders(reminders, s.ends.preview_reminders(reminders).digest)


def test_what_ends_is_listed_first_things_first(s: Sortitor, tmp_path: Path) -> None:
    fleet(s, tmp_path)
    found = [(end.kind, end.days_left, end.count) for end in s.ends.list()]
    assert found == [
        (EndKind.PASS, 10, 1),
        (EndKind.WARRANTY, 14, 2),
        (EndKind.HOLD, 30, 1),
        (EndKind.WARRANTY, 200, 1),
    ]


def test_what_ends_for_several_leads_to_all_of_them(s: Sortitor, tmp_path: Path) -> None:
    fleet(s, tmp_path)
    hold(s, *(device.id for device in s.devices.list()), until=TODAY + timedelta(days=30))
    several = [end for end in s.ends.list() if end.count > 1]
    held = [end for end in several if end.kind is EndKind.HOLD]
    assert [(end.count, end.page) for end in held] == [(s.devices.count(), "/sweeps?tab=holds")]
    for end in several:
        if end.kind is EndKind.HOLD:
            continue
        [wanted] = parse_qs(urlsplit(end.page).query)["filter"]
        assert s.devices.count(filter=wanted) == end.count


def test_each_end_is_mailed_once_at_each_of_its_days(door: Door, tmp_path: Path) -> None:
    """A mail for everything that is near; nothing twice; a day that was missed is not made up."""
    fleet(door.s, tmp_path)
    assert remind(door.world) == 0
    wants(door.s, "it@wrenmoor.example", "night@wrenmoor.example")
    assert remind(door.world) == 3
    assert remind(door.world) == 0
    door.send()
    [mail] = door.mailbox.to("night@wrenmoor.example")
    words = mail.get_content()
    assert "The pass “Spring crew” ends on" in words
    assert "The warranty of 2 devices ends on" in words
    assert f"{door.world.run.settings.public_url}/ends" in words
    assert "200" not in words
    days_with_mail = []
    for day in range(1, 31):
        door.world.now = NOW + timedelta(days=day)
        if remind(door.world):
            days_with_mail.append(day)
    # The pass at 7 and 1 days, the warranties at 7 and 1, the hold at 14, 7 and 1; and the day
    # 140 before the last warranty's end is none of theirs.
    assert days_with_mail == [3, 7, 9, 13, 16, 23, 29]
    [entry] = [e for e in door.s.journal.list(operation="end.remind") if "3 ends" in e.summary]
    with pytest.raises(Refused):
        door.s.journal.preview_revert(entry.id)


def test_two_workers_send_one_mail(door: Door, tmp_path: Path) -> None:
    fleet(door.s, tmp_path)
    wants(door.s, "it@wrenmoor.example")
    with ThreadPoolExecutor(4) as hands:
        counts = list(hands.map(lambda _: remind(door.world), range(4)))
    door.send()
    assert sorted(counts) == [0, 0, 0, 3]
    assert len(door.mailbox.to("it@wrenmoor.example")) == 1


def test_reminders_are_previewed_refused_and_taken_back(s: Sortitor) -> None:
    with pytest.raises(Refused) as bad:
        s.ends.preview_reminders(Reminders(addresses=("not an address",)))
    assert bad.value.problem.errors[0].pointer == "/addresses/0"
    preview = s.ends.preview_reminders(Reminders(addresses=("it@wrenmoor.example",)))
    assert "No mail server" in preview.warnings[0]
    s.ends.apply_reminders(Reminders(addresses=("it@wrenmoor.example",)), preview.digest)
    [entry] = s.journal.list(operation="reminders.edit")
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert s.ends.reminders().addresses == ()


@pytest.fixture
def owner(world: World) -> Iterator[Sortitor]:
    """A coordinator who signed in with the password."""
    with Sortitor(world.url) as client:
        client.accounts.sign_in("coordinator", PASSWORD)
        yield client


def calendar_of(owner: Sortitor) -> TokenSecret:
    """A calendar's address."""
    return owner.accounts.add_token("phone", Role.VIEWER, 90, Purpose.CALENDAR)


def test_a_calendar_is_read_by_another_program(
    world: World, s: Sortitor, owner: Sortitor, tmp_path: Path
) -> None:
    """Parsed back: the days are right, and an event keeps its name from look to look."""
    fleet(s, tmp_path)
    secret = calendar_of(owner).secret
    answer = httpx.get(f"{world.url}/api/v1/calendar/{secret}.ics")
    assert answer.headers["content-type"].startswith("text/calendar")
    events = {str(e["UID"]): e for e in Calendar.from_ical(answer.content).walk("VEVENT")}
    days: dict[str, date] = {str(e["SUMMARY"]): e.decoded("DTSTART") for e in events.values()}
    assert days["The warranty of 2 devices ends"] == TODAY + timedelta(days=14)
    assert days["The pass “Spring crew” ends"] == TODAY + timedelta(days=10)
    own = [event for uid, event in events.items() if uid.startswith("calendar-")]
    assert [str(event["SUMMARY"]) for event in own] == ["This calendar's address ends (phone)"]
    again = Calendar.from_ical(s.ends.calendar(secret))
    assert {str(e["UID"]) for e in again.walk("VEVENT")} == set(events)
    assert "ashore" not in answer.text


def test_a_calendars_address_is_for_nothing_else_and_is_revoked(
    world: World, owner: Sortitor
) -> None:
    made, other = calendar_of(owner), owner.accounts.add_token("script", Role.VIEWER)
    with Sortitor(world.url, token=made.secret) as thief, pytest.raises(SignInNeeded):
        thief.accounts.me()
    with Sortitor(world.url) as stranger:
        for wrong in ("sortitor_nothing", other.secret):
            with pytest.raises(SignInNeeded):
                stranger.ends.calendar(wrong)
        assert "BEGIN:VCALENDAR" in stranger.ends.calendar(made.secret)
        [token] = [one for one in owner.accounts.tokens() if one.id == made.id]
        assert token.used_at is not None
        owner.accounts.revoke_token(made.id)
        with pytest.raises(SignInNeeded):
            stranger.ends.calendar(made.secret)


@pytest.mark.parametrize(
    ("path", "said"),
    [
        ("/api/v1/calendar/sortitor_secret.ics", "/api/v1/calendar/…"),
        ("/welcome/ABCDE12345", "/welcome/…"),
        ("/api/v1/ends", "/api/v1/ends"),
    ],
)
def test_no_log_holds_what_opens_something(path: str, said: str) -> None:
    assert loggable(path) == said
