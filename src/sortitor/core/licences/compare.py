"""What a voucher would do, one way and the other, beside each other."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from fractions import Fraction

from sortitor.core.licences.books import Course, Grant, course_of
from sortitor.core.licences.forecast import AHEAD_DAYS, Growth
from sortitor.core.licences.pools import Pool, Standing, standing_on, state_of
from sortitor.core.vocabulary import Act, PoolState, Term


@dataclass(frozen=True, slots=True)
class Outcome:
    """What a pool would be after a voucher was used one way.

    days:         what is left of the time then, exactly
    seat_days:    what is left in the books then
    moved_days:   by how many days the next end moves; None where there was none before
    uncovered:    how many devices have no seat today
    uncovered_on: the first day on which some have none, as the fleet is expected to grow
    without:      device-days without a seat, up to the first end of what is compared
    unused:       seat-days that nothing takes, up to then
    """

    act: Act
    standing: Standing
    state: PoolState
    days: Fraction | None
    seat_days: int
    moved_days: int | None
    uncovered: int
    uncovered_on: date | None
    without: int
    unused: int


@dataclass(frozen=True, slots=True)
class Comparison:
    """How a pool is now and would be, each way; `best` leaves the fewest device-days without a
    seat. `gained` are the voucher's seat-days, the same each way: only when they are used differs.
    """

    now: Outcome
    outcomes: tuple[Outcome, ...]
    gained: int
    until: date
    best: Act


def compare(
    pool: Pool,
    grants: Sequence[Grant],
    seats: int,
    days: int,
    needed: int,
    growth: Growth,
    today: date,
) -> Comparison:
    """What a voucher of so many seats and days would do to a pool."""
    acts = [Act.TOP_UP, Act.ROLLOVER] if pool.term is Term.SHARED else [Act.BESIDE]
    together = pool.term is Term.SHARED
    courses = {act: course_of([*grants, Grant(act, seats, days, today)], together) for act in acts}
    before = course_of(grants, together)
    # Up to the first end: after it there will be another voucher.
    ends = [day for course in courses.values() for day in course.ends_after(today)]
    until = min([*ends, today + timedelta(AHEAD_DAYS)])
    looked = _Look(pool, needed, growth, today, until, before)
    outcomes = tuple(looked.outcome(act, course) for act, course in courses.items())
    best = min(outcomes, key=lambda one: (one.without, one.unused, acts.index(one.act)))
    now = replace(looked.outcome(acts[0], before), moved_days=None)
    return Comparison(now, outcomes, seats * days, until, best.act)


@dataclass(frozen=True, slots=True)
class _Look:
    """What is looked at of each course."""

    pool: Pool
    needed: int
    growth: Growth
    today: date
    until: date
    before: Course

    def outcome(self, act: Act, course: Course) -> Outcome:
        standing = standing_on(self.pool, course, self.today)
        former = standing_on(self.pool, self.before, self.today).ends_on
        moved = (standing.ends_on - former).days if standing.ends_on and former else None
        uncovered_on, without, unused = self._days(course)
        books = course.books.at(self.today) if course.books is not None else None
        return Outcome(
            act=act,
            standing=standing,
            state=state_of(self.pool, standing, self.needed),
            days=books.days if books else None,
            seat_days=books.seat_days if books else self._left(course),
            moved_days=moved,
            uncovered=max(0, self.needed - standing.seats),
            uncovered_on=uncovered_on,
            without=without,
            unused=unused,
        )

    def _left(self, course: Course) -> int:
        """Seat-days that are left of seats with ends of their own."""
        return sum(
            span.seats * max(0, (span.ends_on - max(self.today, span.starts_on)).days)
            for span in course.spans
        )

    def _days(self, course: Course) -> tuple[date | None, int, int]:
        first, without, unused = None, 0, 0
        for number in range((self.until - self.today).days):
            day = self.today + timedelta(number)
            needed = self.needed + self.growth.by(number)
            seats = standing_on(self.pool, course, day).seats
            without += max(0, needed - seats)
            unused += max(0, seats - needed)
            if needed > seats and first is None:
                first = day
        return first, without, unused
