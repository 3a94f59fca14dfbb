"""The books of a pool: seats and seat-days, kept exactly.

A seat-day is one seat for one day. Seats are whole and days are whole, so that seat-days are whole
numbers; what is left of the time is their quotient, a fraction that is never rounded in the books.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from fractions import Fraction

from sortitor.core.vocabulary import Act

#: Seats of thousands, rolled over to one, last longer than calendars do.
_FAR = date(9000, 1, 1)


@dataclass(frozen=True, slots=True)
class Grant:
    """Seats for days, from a day on, and how they were booked."""

    act: Act
    seats: int
    days: int
    on: date

    @property
    def seat_days(self) -> int:
        """What it brings."""
        return self.seats * self.days

    @property
    def ends_on(self) -> date:
        """The first day without these seats, where they have an end of their own."""
        return self.on + timedelta(self.days)


@dataclass(frozen=True, slots=True)
class Books:
    """Seats that all end together: how many, and the seat-days that are left at the beginning of a
    day.
    """

    seats: int
    seat_days: int
    on: date

    @property
    def days(self) -> Fraction:
        """What is left of the time, in days."""
        return Fraction(self.seat_days, self.seats) if self.seats else Fraction(0)

    @property
    def ends_on(self) -> date:
        """The first day without seats: only whole days count."""
        return self.on + timedelta(min(int(self.days), (_FAR - self.on).days))

    def at(self, day: date) -> Books:
        """The books at the beginning of a later day. What is less than a day of all seats stays."""
        used = min((day - self.on).days, int(self.days))
        return replace(self, seat_days=self.seat_days - used * self.seats, on=day)

    def booked(self, grant: Grant) -> Books:
        """The books with a grant of their day."""
        here = self.at(grant.on)
        kept = here.seats if grant.act is Act.TOP_UP else 0
        return Books(kept + grant.seats, here.seat_days + grant.seat_days, grant.on)


def book(grants: Iterable[Grant], since: date) -> list[Books]:
    """The books after each grant, in order; `since`: the day on which they were opened."""
    found, books = [], Books(0, 0, since)
    for grant in grants:
        books = books.booked(grant)
        found.append(books)
    return found


@dataclass(frozen=True, slots=True)
class Span:
    """So many seats from a day up to but not including another; `replaced`: by those of a later
    grant, not for want of time.
    """

    seats: int
    starts_on: date
    ends_on: date
    replaced: bool = False


@dataclass(frozen=True, slots=True)
class Course:
    """What seats there are on each day, as the grants have it. `spans` stand in the order of the
    grants, one after the other or beside each other; `books` are the last ones where all seats end
    together.
    """

    spans: tuple[Span, ...] = ()
    books: Books | None = None

    def seats_on(self, day: date, grace_days: int = 0) -> int:
        """Seats on a day; those that ended stay for so many days of grace, where no later grant
        took their place.
        """
        return sum(span.seats for span in self._on(day, grace_days))

    def _on(self, day: date, grace_days: int) -> Iterable[Span]:
        for place, span in enumerate(self.spans):
            until = span.ends_on + timedelta(grace_days)
            if self.books is not None and place + 1 < len(self.spans):
                # In grace only until a later grant takes their place.
                until = min(until, self.spans[place + 1].starts_on)
            if span.starts_on <= day < until:
                yield span

    def ends_after(self, day: date) -> list[date]:
        """The days after this one on which seats end, in order."""
        return [end for end in self._ends() if end > day]

    def ended_by(self, day: date) -> list[date]:
        """The days up to this one on which seats ended, in order."""
        return [end for end in self._ends() if end <= day]

    def _ends(self) -> list[date]:
        return sorted({span.ends_on for span in self.spans if not span.replaced})


def course_of(grants: Sequence[Grant], together: bool) -> Course:
    """The course of grants in the order in which they were booked; `together`: all seats end
    together.
    """
    if not grants:
        return Course()
    if not together:
        return Course(tuple(Span(one.seats, one.on, one.ends_on) for one in grants))
    books = book(grants, grants[0].on)
    spans = []
    for place, one in enumerate(books):
        following = books[place + 1].on if place + 1 < len(books) else None
        replaced = following is not None and following < one.ends_on
        ends_on = following if following is not None and replaced else one.ends_on
        spans.append(Span(one.seats, one.on, ends_on, replaced))
    return Course(tuple(spans), books[-1])
