"""How a pool's seats and needs went and will go."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from sortitor.core.filters import all_of, one_of, parse
from sortitor.core.licences.forecast import (
    AHEAD_DAYS,
    BACK_DAYS,
    USUAL_DAYS,
    Forecast,
    Growth,
    forecast,
)
from sortitor.core.licences.pools import Pool, standing_on
from sortitor.core.previews import plural
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Stage
from sortitor.operations.context import Context
from sortitor.operations.documents import Key
from sortitor.operations.licences import seats
from sortitor.operations.licences.pools import POOLS, CountedPool, counted_in
from sortitor.operations.selections import resolve_selection
from sortitor.store import devices
from sortitor.store import seats as store
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection
from sortitor.store.seats import MovedRow

#: How far the picture goes.
_PAST_DAYS, _COMING_DAYS = 180, 270
#: Idle windows that are offered to retire by, in days.
_WINDOWS = (180, 90, 60, 30)


@dataclass(frozen=True, slots=True)
class DayLine:
    """One day of a pool: its seats, those of them in grace, and how many are needed, as known or
    expected.
    """

    day: date
    seats: int
    in_grace: int
    needed: int


@dataclass(frozen=True, slots=True)
class WayBack:
    """One way to have seats for everybody: what it is, how many seats it frees or brings, and the
    page on which it is previewed.
    """

    code: str
    words: str
    seats: int
    page: str


@dataclass(frozen=True, slots=True)
class PoolCourse:
    """A pool over time; `people` have its devices, `turned_away` found no seat in 90 days."""

    pool: CountedPool
    people: int
    lines: tuple[DayLine, ...]
    growth: Growth
    forecast: Forecast
    ways: tuple[WayBack, ...]
    turned_away: tuple[tuple[str, int], ...]


def _awaited(connection: Connection, pool: Pool) -> Selection:
    wanted = parse(pool.filter) if pool.filter else None
    both = all_of(one_of("stage", [Stage.AWAITED]), wanted)
    return resolve_selection(connection, Selection(filter=both))


def growth_of(
    ctx: Context,
    connection: Connection,
    kept: Kept[Pool],
    moved: Sequence[MovedRow] | None = None,
) -> Growth:
    """How a pool grew of late, and what it awaits."""
    since = ctx.today - timedelta(BACK_DAYS)
    found = seats.moves(ctx, connection, kept) if moved is None else moved
    recent = [row for row in found if row.day > since]
    pool, awaited = kept.document, 0
    if not pool.awaited_too:
        awaited = devices.count(connection, _awaited(connection, pool), ctx.now)
    usual = store.usual_days(connection, seats.whoever(connection, pool), ctx.now)
    return Growth(
        came=sum(row.came for row in recent),
        went=sum(row.went for row in recent),
        awaited=awaited,
        usual_days=usual or USUAL_DAYS,
    )


def course(ctx: Context, key: Key) -> PoolCourse:
    """How a pool went and will go."""
    with ctx.reading(one_moment=True) as connection:
        found = counted_in(ctx, connection, [POOLS.find(connection, key)])[0]
        pool, today = found.kept.document, ctx.today
        moved = seats.moves(ctx, connection, found.kept)
        growth = growth_of(ctx, connection, found.kept, moved)

        def seats_on(day: date) -> int:
            return standing_on(pool, found.course, day).seats

        since = ctx.now - timedelta(BACK_DAYS)
        return PoolCourse(
            pool=found,
            people=devices.people_among(connection, seats.taking(connection, pool), ctx.now),
            lines=tuple(_lines(found, moved, growth, today)),
            growth=growth,
            forecast=forecast(found.needed, growth, seats_on, today),
            ways=tuple(_ways(ctx, connection, found)),
            turned_away=tuple(store.turned_away(connection, pool.name, since)),
        )


def needed_on(found: CountedPool, moved: Sequence[MovedRow], day: date) -> int:
    """How many seats a pool needed at the end of a past day: those of today without what came
    since.
    """
    since = [row for row in moved if row.day > day]
    return max(0, found.needed - sum(row.came - row.went for row in since))


def _lines(
    found: CountedPool, moved: Sequence[MovedRow], growth: Growth, today: date
) -> list[DayLine]:
    lines = []
    for number in range(-_PAST_DAYS, min(_COMING_DAYS, AHEAD_DAYS) + 1):
        day = today + timedelta(number)
        standing = standing_on(found.kept.document, found.course, day)
        known = number < 0
        needed = needed_on(found, moved, day) if known else found.needed + growth.by(number)
        lines.append(DayLine(day, standing.seats, standing.in_grace, needed))
    return lines


def _ways(ctx: Context, connection: Connection, found: CountedPool) -> list[WayBack]:
    """What can be done where seats are missing."""
    missing, number, pool = found.missing, found.kept.id, found.kept.document
    if not missing:
        return []
    told = plural(missing, "more seat")
    ways = [WayBack("buy", f"Use a voucher for {told}", missing, f"/licences/{number}")]
    taking = seats.taking(connection, pool)
    numbers = devices.idle_counts(connection, taking, _WINDOWS, ctx.now)
    for window, idle in zip(_WINDOWS, numbers, strict=True):
        if idle >= missing or (idle and window == _WINDOWS[-1]):
            words = f"Retire {missing if idle >= missing else idle:,} of {idle:,} that are idle"
            page = f"/devices?pool={number}&idle={window}"
            ways.append(
                WayBack("retire", f"{words} for {window} days or more", min(idle, missing), page)
            )
            break
    if pool.awaited_too:
        awaited = devices.count(connection, _awaited(connection, pool), ctx.now)
        if awaited:
            words = f"Let {plural(awaited, 'awaited device')} take a seat only once they arrive"
            ways.append(WayBack("awaited", words, awaited, f"/licences/{number}?edit=1"))
    words = "Narrow who needs a seat"
    ways.append(WayBack("narrow", words, 0, f"/licences/{number}?edit=1"))
    return ways
