"""Who takes a seat of a pool, how many do, and how that went from day to day."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Connection,
    Integer,
    case,
    cast,
    delete,
    exists,
    func,
    insert,
    literal,
    select,
    update,
)
from sqlalchemy.dialects import postgresql
from sqlalchemy.dialects.postgresql import array

from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Ownership, Stage
from sortitor.store.devices import an_identifier, matching
from sortitor.store.rows import read_all
from sortitor.store.settling import hold_still, mark_anew, share
from sortitor.store.tables import arrivals, device_seats, devices, people, seat_moves
from sortitor.store.zones import day_of

# ---- kept


def needed(connection: Connection) -> dict[int, int]:
    """Kept pool → how many devices take a seat of it."""
    query = (
        select(seat_moves.c.pool_id, func.sum(seat_moves.c.came - seat_moves.c.went))
        .group_by(seat_moves.c.pool_id)
        .having(func.bool_or(seat_moves.c.day.is_(None)))
    )
    return {row[0]: row[1] for row in connection.execute(query)}


def is_kept(connection: Connection, pool_id: int) -> bool:
    """Whether a pool's seats are kept."""
    first = exists().where(seat_moves.c.pool_id == pool_id, seat_moves.c.day.is_(None))
    return bool(connection.execute(select(first)).scalar_one())


def taken_by(connection: Connection, device_id: int) -> set[int]:
    """The kept pools of which a device takes a seat."""
    query = select(device_seats.c.pools).where(device_seats.c.device_id == device_id)
    return set(connection.execute(query).scalar_one_or_none() or ())


def keep(
    connection: Connection,
    pool_id: int,
    taking: Selection,
    moved: Sequence[MovedRow],
    now: datetime,
) -> None:
    """Keep the seats of a pool from now on, by one pass over the fleet, while everything holds
    still; `moved` is what is known of its past.
    """
    _seat(connection, pool_id, matching(taking, now))
    connection.execute(delete(seat_moves).where(seat_moves.c.pool_id == pool_id))
    number = select(func.count()).where(device_seats.c.pools.contains([pool_id]))
    net = sum(row.came - row.went for row in moved)
    before = connection.execute(number).scalar_one() - net
    days = [(None, before, 0), *((row.day, row.came, row.went) for row in moved)]
    lines = [
        {"pool_id": pool_id, "day": day, "came": came, "went": went} for day, came, went in days
    ]
    connection.execute(insert(seat_moves), lines)
    mark_anew(connection)


def _seat(connection: Connection, pool_id: int, takes: ColumnElement[bool]) -> None:
    """Give the pool to the devices that take a seat of it, and to no others."""
    seated = device_seats.c.pools.contains([pool_id])
    still = select(devices.c.id).where(devices.c.id == device_seats.c.device_id, takes)
    without = func.array_remove(device_seats.c.pools, cast(pool_id, BigInteger))
    connection.execute(
        update(device_seats)
        .where(seated, ~still.correlate(device_seats).exists())
        .values(pools=without)
    )
    already = exists().where(device_seats.c.device_id == devices.c.id, seated)
    new = select(devices.c.id, array([literal(pool_id, BigInteger)])).where(takes, ~already)
    put = postgresql.insert(device_seats).from_select(
        ["device_id", "pools"], new.order_by(devices.c.id)
    )
    both = device_seats.c.pools.op("||")(put.excluded.pools)
    connection.execute(
        put.on_conflict_do_update(index_elements=["device_id"], set_={"pools": both})
    )


def let_go(connection: Connection, pool_id: int) -> None:
    """Keep the seats of a pool no longer."""
    hold_still(connection)
    seated = device_seats.c.pools.contains([pool_id])
    without = func.array_remove(device_seats.c.pools, cast(pool_id, BigInteger))
    connection.execute(update(device_seats).where(seated).values(pools=without))
    connection.execute(delete(seat_moves).where(seat_moves.c.pool_id == pool_id))
    mark_anew(connection)


def fold(connection: Connection) -> None:
    """Put the lines of a pool and a day into one."""
    share(connection)
    several = (
        select(seat_moves.c.pool_id, seat_moves.c.day)
        .group_by(seat_moves.c.pool_id, seat_moves.c.day)
        .having(func.count() > 1)
        .subquery()
    )
    gone = (
        delete(seat_moves)
        .where(
            seat_moves.c.pool_id == several.c.pool_id,
            seat_moves.c.day.is_not_distinct_from(several.c.day),
        )
        .returning(seat_moves)
        .cte("gone")
    )
    folded = select(
        gone.c.pool_id,
        gone.c.day,
        func.sum(gone.c.came, type_=Integer),
        func.sum(gone.c.went, type_=Integer),
    ).group_by(gone.c.pool_id, gone.c.day)
    columns = ["pool_id", "day", "came", "went"]
    connection.execute(insert(seat_moves).from_select(columns, folded))


@dataclass(frozen=True, slots=True)
class MovedRow:
    """How many devices began to take a seat on a day, and how many ceased to."""

    day: date
    came: int
    went: int


def moves(connection: Connection, pool_id: int) -> list[MovedRow]:
    """Day by day, the devices that came to a kept pool and went from it."""
    query = (
        select(
            seat_moves.c.day,
            func.sum(seat_moves.c.came).label("came"),
            func.sum(seat_moves.c.went).label("went"),
        )
        .where(seat_moves.c.pool_id == pool_id, seat_moves.c.day.is_not(None))
        .group_by(seat_moves.c.day)
        .order_by(seat_moves.c.day)
    )
    return read_all(connection, query, MovedRow)


# ---- counted


@dataclass(frozen=True, slots=True)
class SeatRow:
    """A device that takes a seat, or would have none, and since when it is in use (or known)."""

    id: int
    name: str | None
    stage: Stage
    ownership: Ownership
    site: str | None
    person_name: str | None
    serial: str | None
    since: datetime


_SINCE = func.coalesce(devices.c.enrolled_at, devices.c.created_at)


def latest_takers(
    connection: Connection, taking: Selection, now: datetime, most: int
) -> list[SeatRow]:
    """The devices that took a seat last: those that have none where seats are too few."""
    query = (
        select(
            devices.c.id,
            devices.c.name,
            devices.c.stage,
            devices.c.ownership,
            devices.c.site,
            people.c.name.label("person_name"),
            an_identifier("serial"),
            _SINCE.label("since"),
        )
        .outerjoin(people, people.c.id == devices.c.person_id)
        .where(matching(taking, now))
        .order_by(_SINCE.desc(), devices.c.id.desc())
        .limit(most)
    )
    return read_all(connection, query, SeatRow)


def moved_by_day(connection: Connection, whoever: Selection, now: datetime) -> list[MovedRow]:
    """Day by day, the devices of a pool that came into use, and those that were retired since:
    as the pool's filter has them today. `whoever`: in whatever stage.
    """
    retired = case((devices.c.stage == Stage.RETIRED, devices.c.stage_at))
    days = (day_of(devices.c.enrolled_at).label("came"), day_of(retired).label("went"))
    query = select(*days, func.count()).where(
        matching(whoever, now), devices.c.enrolled_at.is_not(None)
    )
    came, went = Counter[date](), Counter[date]()
    for first, last, number in connection.execute(query.group_by("came", "went")):
        came[first] += number
        if last is not None:
            went[last] += number
    return [MovedRow(day, came[day], went[day]) for day in sorted(came | went)]


def usual_days(connection: Connection, whoever: Selection, now: datetime) -> int | None:
    """In how many days devices of a pool that were awaited came, half of them; None: none did."""
    waited = func.extract("epoch", devices.c.enrolled_at - devices.c.created_at) / 86_400
    query = select(func.percentile_cont(0.5).within_group(waited)).where(
        matching(whoever, now),
        devices.c.lot_id.is_not(None),
        devices.c.enrolled_at > devices.c.created_at + timedelta(hours=1),
    )
    found = connection.execute(query).scalar()
    return None if found is None else max(1, round(found))


def turned_away(connection: Connection, pool: str, since: datetime) -> Sequence[tuple[str, int]]:
    """How many arrivals found no seat of this pool, by what became of them."""
    wanted = [{"code": "no_seat", "policy": pool}]
    query = (
        select(arrivals.c.outcome, func.count())
        .where(arrivals.c.at >= since, arrivals.c.reasons.contains(wanted))
        .group_by(arrivals.c.outcome)
    )
    return [(row[0], row[1]) for row in connection.execute(query)]
