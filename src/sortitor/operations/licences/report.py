"""A month of every pool: what was needed, what there was, what changed, and what it cost."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta
from decimal import ROUND_HALF_UP, Decimal
from fractions import Fraction

import polars as pl

from sortitor.core.errors import BadInput
from sortitor.core.licences.pools import Pool, standing_on, state_of
from sortitor.core.vocabulary import PoolState
from sortitor.operations.context import Context
from sortitor.operations.licences import seats
from sortitor.operations.licences.course import needed_on
from sortitor.operations.licences.pools import POOLS, CountedPool, counted_in
from sortitor.store import licences as store
from sortitor.store.engine import Connection
from sortitor.store.licences import GrantRow

_CENT = Decimal("0.01")


@dataclass(frozen=True, slots=True)
class Reported:
    """One pool in one month; numbers are those of its last day. `vouchers` were used in it."""

    pool_id: int
    pool: str
    state: PoolState
    needed: int
    seats: int
    came: int
    went: int
    vouchers: tuple[GrantRow, ...]
    ends_on: date | None
    cost: Decimal | None
    currency: str | None


def month_of(ctx: Context, month: str | None) -> tuple[date, date]:
    """First and last day of a month (`2026-01`) as far as it has come; none: the present one."""
    today = ctx.today
    try:
        first = date.fromisoformat(f"{month}-01") if month else today.replace(day=1)
    except ValueError as error:
        raise BadInput(
            "bad_month", f"{month!r} is no month.", "Write it as year and month: 2026-01."
        ) from error
    if first > today:
        raise BadInput("month_to_come", f"{month} has not begun.", "Choose an earlier month.")
    following = (first + timedelta(32)).replace(day=1)
    return first, min(following - timedelta(1), today)


def report(ctx: Context, month: str | None) -> list[Reported]:
    """Every pool in one month, by name."""
    first, last = month_of(ctx, month)
    with ctx.reading(one_moment=True) as connection:
        found = counted_in(ctx, connection, POOLS.shelf.every(connection))
        history = store.history(connection, [one.kept.id for one in found])
        return [_reported(ctx, connection, one, history[one.kept.id], first, last) for one in found]


def _reported(
    ctx: Context,
    connection: Connection,
    found: CountedPool,
    history: list[GrantRow],
    first: date,
    last: date,
) -> Reported:
    pool = found.kept.document
    moved = seats.moves(ctx, connection, found.kept)
    within = [row for row in moved if first <= row.day <= last]
    standing = standing_on(pool, found.course, last)
    needed = needed_on(found, moved, last)
    used = [row for row in history if first <= row.granted_on <= last and not row.reverted_at]
    return Reported(
        pool_id=found.kept.id,
        pool=pool.name,
        state=state_of(pool, standing, needed),
        needed=needed,
        seats=standing.seats,
        came=sum(row.came for row in within),
        went=sum(row.went for row in within),
        vouchers=tuple(used),
        ends_on=standing.ends_on,
        cost=_cost(pool, found, first, last),
        currency=pool.currency,
    )


def _cost(pool: Pool, found: CountedPool, first: date, last: date) -> Decimal | None:
    """What the seats that there were cost, day by day; rounded once, at the end."""
    if pool.price is None:
        return None
    following = (first + timedelta(32)).replace(day=1)
    days = [first + timedelta(n) for n in range((last - first).days + 1)]
    seat_days = sum(standing_on(pool, found.course, day).seats for day in days)
    cost = Fraction(pool.price) * seat_days / (following - first).days
    return (Decimal(cost.numerator) / Decimal(cost.denominator)).quantize(_CENT, ROUND_HALF_UP)


def frame_of(lines: list[Reported]) -> pl.DataFrame:
    """The report as a table."""
    rows = [
        {
            "Pool": one.pool,
            "State": one.state.value,
            "Needed": str(one.needed),
            "Seats": str(one.seats),
            "Devices that came": str(one.came),
            "Devices that went": str(one.went),
            "Vouchers": ", ".join(row.used_as for row in one.vouchers),
            "Seats end on": one.ends_on.isoformat() if one.ends_on else "",
            "Cost": "" if one.cost is None else str(one.cost),
            "Currency": one.currency or "",
        }
        for one in lines
    ]
    columns = ["Pool", "State", "Needed", "Seats", "Devices that came", "Devices that went"]
    columns += ["Vouchers", "Seats end on", "Cost", "Currency"]
    return pl.DataFrame(rows, schema=dict.fromkeys(columns, pl.String))
