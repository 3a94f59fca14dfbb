"""What ends: on a page, by mail, and as a calendar."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from datetime import UTC, date, timedelta
from typing import TYPE_CHECKING
from urllib.parse import quote, urlsplit

from sortitor.core import ends as core
from sortitor.core.ends import End, Reminders
from sortitor.core.previews import plural
from sortitor.core.vocabulary import EndKind, SecretKind
from sortitor.operations import accounts, gate, holds, kept_numbers, mail
from sortitor.operations.context import Context
from sortitor.operations.documents import DocumentKind, Effect, Wanted
from sortitor.operations.kept_numbers import Counting
from sortitor.operations.licences.pools import POOLS, course_of, living
from sortitor.operations.sources.documents import SOURCES
from sortitor.store import ends as store
from sortitor.store import holds as store_holds
from sortitor.store import mails, sources, tables
from sortitor.store.documents import Kept, Shelf
from sortitor.store.ends import EndRow
from sortitor.store.engine import Connection

if TYPE_CHECKING:
    from icalendar import Event

REMINDERS_ID = 4
#: How far ahead it is looked.
_AHEAD = timedelta(days=400)


class RemindersBook(DocumentKind[Reminders]):
    """The reminders as a document, of which there is one."""

    def called(self, document: Reminders) -> str:
        """There is only one."""
        return "the reminders of what ends"

    def effect(self, ctx: Context, connection: Connection, wanted: Wanted[Reminders]) -> Effect:
        """How much is near already."""
        proposed = wanted.proposed or Reminders()
        found = _all(ctx, connection, proposed.kinds)
        near = len(list(core.untold(found, proposed.days, ctx.today)))
        warnings = []
        if proposed.addresses and not ctx.limits.sends_mail:
            warnings.append("No mail server is set: nobody is reminded until there is one.")
        elif proposed.addresses and near:
            told = f"{plural(near, 'end')} in all; what nobody was reminded of goes out in an hour."
            warnings.append(f"Near already: {told}")
        return Effect(warnings=tuple(warnings))


REMINDERS = RemindersBook("reminders", "reminders", Shelf(Reminders, tables.rulebooks))


def read(ctx: Context) -> Kept[Reminders]:
    """The reminders with their revision."""
    return REMINDERS.one(ctx, REMINDERS_ID)


def every(ctx: Context, kinds: Collection[EndKind] = tuple(EndKind)) -> list[End]:
    """What ends, first things first."""
    with ctx.reading() as connection:
        return _all(ctx, connection, kinds)


def _all(
    ctx: Context, connection: Connection, kinds: Collection[EndKind] = tuple(EndKind)
) -> list[End]:
    looks = {
        EndKind.CREDENTIAL: _credentials,
        EndKind.PASS: _passes,
        EndKind.HOLD: _holds,
        EndKind.WARRANTY: _warranties,
        EndKind.POLICY: _policies,
        EndKind.LICENCE: _licences,
    }
    found = [end for kind in kinds for end in looks[kind](ctx, connection)]
    return sorted(found, key=lambda end: (end.ends_on, end.key))


def _credentials(ctx: Context, connection: Connection) -> Iterator[End]:
    names = {kept.id: kept.document.name for kept in SOURCES.shelf.every(connection)}
    for row in sources.secrets(connection):
        if row.ends_at is None or row.waiting or row.kind is SecretKind.KEY:
            continue
        yield End(
            key=f"credential-{row.source_id}-{row.kind}",
            kind=EndKind.CREDENTIAL,
            title=f"The {row.kind} of “{names[row.source_id]}”",
            ends_on=row.ends_at.date(),
            page=f"/sources/{row.source_id}",
        )


def _passes(ctx: Context, connection: Connection) -> Iterator[End]:
    for row in store.passes(connection, ctx.now, ctx.now + _AHEAD):
        one, many = f"The pass “{row.name}”", f"{row.count:,} passes “{row.name}”"
        yield _end(EndKind.PASS, row, one, many, f"/passes/{row.number}")


def _holds(ctx: Context, connection: Connection) -> Iterator[End]:
    for row in store_holds.ending(connection, ctx.today, ctx.today + _AHEAD):
        yield End(
            key=f"hold-{row.id}",
            kind=EndKind.HOLD,
            title=f"The hold on {holds.label(ctx, row)}",
            ends_on=row.until_on,
            page="/sweeps?tab=holds",
            count=row.devices,
        )


def _policies(ctx: Context, connection: Connection) -> Iterator[End]:
    for policy in gate.in_force(connection, ctx.today).policies:
        if policy.until is not None:
            yield End(
                key=f"policy-{policy.name}",
                kind=EndKind.POLICY,
                title=f"The gate’s policy “{policy.name}”",
                ends_on=policy.until,
                page="/gate",
            )


def _licences(ctx: Context, connection: Connection) -> Iterator[End]:
    for kept in POOLS.shelf.every(connection):
        course = course_of(kept.document, living(connection, kept.id))
        for day in course.ends_after(ctx.today):
            seats = sum(span.seats for span in course.spans if span.ends_on == day)
            yield End(
                key=f"licence-{kept.id}",
                kind=EndKind.LICENCE,
                title=f"{plural(seats, 'seat')} of “{kept.document.name}”",
                ends_on=day,
                page=f"/licences/{kept.id}",
                count=seats,
            )


def _warranties(ctx: Context, connection: Connection) -> Iterator[End]:
    counting = Counting("warranties", _count_warranties, f"{ctx.today}")
    for number, name, ends_on, count in kept_numbers.known(ctx, [counting])["warranties"]:
        row = EndRow(number, name, date.fromisoformat(ends_on), count)
        one, many = f"The warranty of {_device(row)}", f"The warranty of {row.count:,} devices"
        if row.count == 1:
            page = f"/devices/{row.number}"
        else:
            wanted = f'warrantyUntil eq "{row.ends_on:%F}"'
            page = f"/devices?filter={quote(wanted)}"
        yield _end(EndKind.WARRANTY, row, one, many, page)


def _count_warranties(ctx: Context) -> list[tuple[int, str | None, str, int]]:
    with ctx.reading() as connection:
        found = store.warranties(connection, ctx.now, ctx.now + _AHEAD)
    return [(row.number, row.name, row.ends_on.isoformat(), row.count) for row in found]


def _device(row: EndRow) -> str:
    return row.name or f"device no. {row.number}"


def _end(kind: EndKind, row: EndRow, one: str, many: str, page: str) -> End:
    number = row.number if kind is EndKind.PASS else row.ends_on
    return End(
        key=f"{kind}-{number}",
        kind=kind,
        title=one if row.count == 1 else many,
        ends_on=row.ends_on,
        page=page,
        count=row.count,
    )


# ---- by mail


def remind(ctx: Context) -> int:
    """Put one mail about everything that is newly near into the outbox, for each address; gives
    about how many ends. Two workers at once send one.
    """
    if not ctx.limits.sends_mail:
        return 0
    today = ctx.today
    with ctx.changing() as connection:
        wanted = REMINDERS.find(connection, REMINDERS_ID).document
        if not wanted.addresses:
            return 0
        near = dict(core.untold(_all(ctx, connection, wanted.kinds), wanted.days, today))
        fresh = store.tell(connection, list(near.values()), ctx.now)
        found = [end for end, told in near.items() if told in fresh]
        if not found:
            return 0
        words = core.reminder_mail(found, today, ctx.limits.public_url)
        lines = [
            mail.line(ctx, "reminder", address, words, life=timedelta(days=1))
            for address in wanted.addresses
        ]
        mails.put(connection, lines)
        told = f"Reminded of {plural(len(found), 'end')}: {'; '.join(e.title for e in found[:5])}"
        ctx.record(connection, "end.remind", "reminders", told)
    return len(found)


# ---- as a calendar (RFC 5545)

#: How often a calendar should ask again (RFC 7986 §5.7).
_ASK_AGAIN = timedelta(hours=6)


def calendar(ctx: Context, secret: str) -> bytes:
    """What ends, for whoever has the secret of a calendar's address. Raises NotSignedIn."""
    from icalendar import Calendar  # only calendars need it

    known = accounts.recognise_calendar(ctx.engine, ctx.clock, secret)
    host = urlsplit(ctx.limits.public_url).hostname or "sortitor"
    found = Calendar()
    found.add("prodid", "-//Sortitor//What ends//EN")
    found.add("version", "2.0")
    found.add("method", "PUBLISH")
    found.add("name", "Sortitor: what ends")
    found.add("x-wr-calname", "Sortitor: what ends")
    found.add("refresh-interval", _ASK_AGAIN, parameters={"VALUE": "DURATION"})
    for end in every(ctx):
        address = f"{ctx.limits.public_url}{end.page}"
        found.add_component(_event(end.key, host, f"{end.title} ends", end.ends_on, address, ctx))
    words = f"This calendar's address ends ({known.name})"
    ends_on = known.expires_at.astimezone(UTC).date()
    address = f"{ctx.limits.public_url}/ends"
    found.add_component(_event(f"calendar-{known.id}", host, words, ends_on, address, ctx))
    return bytes(found.to_ical())


def _event(key: str, host: str, words: str, day: date, address: str, ctx: Context) -> Event:
    from icalendar import Event  # only calendars need it

    event = Event()
    event.add("uid", f"{key}@{host}")
    event.add("dtstamp", ctx.now)
    event.add("dtstart", day)
    event.add("dtend", day + timedelta(days=1))
    event.add("summary", words)
    event.add("url", address)
    event.add("transp", "TRANSPARENT")
    return event
