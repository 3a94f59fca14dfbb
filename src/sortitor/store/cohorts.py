"""Cohorts and who is in them; `store/settling.py` keeps members right."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, TypeAlias

from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Connection,
    Select,
    delete,
    exists,
    false,
    func,
    insert,
    literal,
    or_,
    select,
    text,
)
from sqlalchemy.dialects import postgresql

from sortitor.core.filters import Filter
from sortitor.store.engine import raw
from sortitor.store.filters import Condition
from sortitor.store.rows import among, read_all, read_one
from sortitor.store.settling import hold_still, read
from sortitor.store.tables import (
    cohort_counts,
    cohort_members,
    cohorts,
    devices,
    pools,
    sweep_rules,
)


def recompute(
    connection: Connection, cohort_id: int, condition: ColumnElement[bool] | None
) -> None:
    """Bring the members of one cohort to its new filter; None where it keeps none."""
    hold_still(connection)
    inside = cohort_members.c.cohort_id == cohort_id
    if condition is None:
        connection.execute(delete(cohort_members).where(inside))
        return
    # By anti-joins: a list of many ids would be gone through once for every device.
    fits = (
        select(devices.c.id)
        .where(devices.c.id == cohort_members.c.device_id, condition)
        .correlate(cohort_members)
        .exists()
    )
    connection.execute(delete(cohort_members).where(inside, ~fits))
    new = (
        select(literal(cohort_id, BigInteger), devices.c.id)
        .where(condition, ~member_of(cohort_id))
        .order_by(devices.c.id)
    )
    connection.execute(insert(cohort_members).from_select(["cohort_id", "device_id"], new))


# ---- reading and changing
# -----------------------------------------------------------------------------------

_COLUMNS = (*cohorts.c, cohorts.c.document["note"].astext.label("note"))


@dataclass(frozen=True, slots=True)
class CohortRow:
    """A cohort with what stands beside its document."""

    id: int
    revision: int
    name: str
    filter: str | None
    note: str | None
    moving: bool
    created_by: str
    created_at: datetime


def every(connection: Connection) -> list[CohortRow]:
    """Cohorts by name."""
    query = select(*_COLUMNS).order_by(func.lower(cohorts.c.name))
    return read_all(connection, query, CohortRow)


def one(connection: Connection, cohort_id: int, lock: bool = False) -> CohortRow | None:
    """One cohort."""
    query = select(*_COLUMNS).where(cohorts.c.id == cohort_id)
    return read_one(connection, query.with_for_update(of=cohorts) if lock else query, CohortRow)


def members(connection: Connection, ids: Sequence[int]) -> dict[int, int]:
    """Cohort → how many devices are kept as its members."""
    number = func.count().label("number")
    query = select(cohort_members.c.cohort_id, number).where(among(cohort_members.c.cohort_id, ids))
    return {
        row.cohort_id: row.number
        for row in connection.execute(query.group_by(cohort_members.c.cohort_id))
    }


def sizes(connection: Connection) -> dict[str, int]:
    """Cohort → how many devices it holds, of those whose members are kept."""
    query = (
        select(cohorts.c.name, func.count())
        .join(cohort_members, cohort_members.c.cohort_id == cohorts.c.id)
        .group_by(cohorts.c.name)
        .order_by(cohorts.c.name)
    )
    return {row[0]: row[1] for row in connection.execute(query)}


def moving(connection: Connection) -> dict[str, Filter]:
    """Name → filter of the cohorts that time moves."""
    return {
        row.name: read(row.filter)
        for row in connection.execute(
            select(cohorts.c.name, cohorts.c.filter).where(cohorts.c.moving)
        )
    }


def filters_of(connection: Connection, cohort_id: int | None, names: Iterable[str]) -> list[Filter]:
    """The filters of the cohorts of this number and these names (in lower case) that keep their
    members by one.
    """
    chosen = or_(cohorts.c.id == cohort_id, func.lower(cohorts.c.name).in_([*names]))
    return [
        read(text)
        for text in connection.execute(
            select(cohorts.c.filter).where(chosen, cohorts.c.filter.is_not(None), ~cohorts.c.moving)
        ).scalars()
    ]


def member_of(cohort_id: int) -> ColumnElement[bool]:
    """The condition on `devices` of being kept as a member."""
    return exists(
        select(cohort_members.c.device_id).where(
            cohort_members.c.cohort_id == cohort_id, cohort_members.c.device_id == devices.c.id
        )
    )


def listed(connection: Connection, cohort_id: int) -> list[int]:
    """The devices of a list, in order."""
    query = (
        select(cohort_members.c.device_id)
        .where(cohort_members.c.cohort_id == cohort_id)
        .order_by(cohort_members.c.device_id)
    )
    return list(connection.execute(query).scalars())


def list_called(connection: Connection, name: str) -> int | None:
    """The number of a list, by its name."""
    query = select(cohorts.c.id).where(
        func.lower(cohorts.c.name) == name.strip().lower(), cohorts.c.filter.is_(None)
    )
    return connection.execute(query).scalar_one_or_none()


def put_in(connection: Connection, cohort_id: int, ids: Sequence[int]) -> None:
    """Add devices to a list; those that are gone or in it already do not matter."""
    with raw(connection).cursor() as cursor:
        cursor.execute(
            "INSERT INTO cohort_members (cohort_id, device_id) SELECT %s, d.id FROM devices d WHERE"
            " d.id = ANY (%s) ORDER BY d.id FOR SHARE ON CONFLICT DO NOTHING",
            [cohort_id, list(ids)],
        )


def take_out(connection: Connection, cohort_id: int, ids: Sequence[int]) -> None:
    """Take devices from a list."""
    with raw(connection).cursor() as cursor:
        cursor.execute(
            "DELETE FROM cohort_members WHERE cohort_id = %s AND device_id = ANY (%s)",
            [cohort_id, list(ids)],
        )


@dataclass(frozen=True, slots=True)
class Tally:
    """How many devices fit a condition, enter and leave by it, and how they are spread."""

    fit: int
    enter: int
    leave: int
    #: `(field, value, devices)` by platform, site and stage, most first.
    spread: Sequence[tuple[str, str, int]]


def tally(connection: Connection, new: Condition, former: Condition | None) -> Tally:
    """Count a new condition against a former one (None: no device), in one pass over the fleet."""
    were = false() if former is None else former
    columns = (devices.c.platform, devices.c.site, devices.c.stage)
    each = select(*columns, new.label("fits"), were.label("were")).subquery()
    numbers = (
        func.count().filter(each.c.fits),
        func.count().filter(each.c.fits, ~each.c.were),
        func.count().filter(each.c.were, ~each.c.fits),
    )
    places = [each.c[column.name] for column in columns]
    found = connection.execute(
        select(*places, *numbers).where(or_(each.c.fits, each.c.were)).group_by(*places)
    ).all()
    spread = Counter[tuple[str, str]]()
    for *values, fit, _, _ in found:
        spread.update(
            {
                (column.name, value or ""): fit
                for column, value in zip(columns, values, strict=True)
                if fit
            }
        )
    fit, enter, leave = (sum(row[place] for row in found) for place in (3, 4, 5))
    return Tally(
        fit,
        enter,
        leave,
        [(field, value, number) for (field, value), number in spread.most_common()],
    )


#: The numbers of devices, each once.
Members: TypeAlias = Select[Any]


def overlap(connection: Connection, one: Members, other: Members) -> tuple[int, int, int]:
    """Devices `(only in the one, in both, only in the other)`."""
    left, right = one.subquery(), other.subquery()
    joined = left.join(right, right.c[0] == left.c[0], full=True)
    query = select(
        func.count().filter(right.c[0].is_(None)),
        func.count().filter(right.c[0] == left.c[0]),
        func.count().filter(left.c[0].is_(None)),
    ).select_from(joined)
    found = connection.execute(query).one()
    return found[0], found[1], found[2]


def devices_of(cohort_id: int) -> Members:
    """The devices kept as members of a cohort."""
    return select(cohort_members.c.device_id).where(cohort_members.c.cohort_id == cohort_id)


@dataclass(frozen=True, slots=True)
class UserRow:
    """Something whose filter may speak of cohorts."""

    kind: str
    id: int
    name: str
    filter: str


def users(connection: Connection) -> list[UserRow]:
    """All that has a filter which may speak of cohorts."""
    parts = [
        select(text(f"'{kind}' AS kind"), table.c.id, table.c.name, table.c.filter).where(
            table.c.filter.is_not(None)
        )
        for kind, table in (("licence pool", pools), ("sweep rule", sweep_rules))
    ]
    return read_all(connection, parts[0].union_all(parts[1]), UserRow)


def write_counts(connection: Connection, day: date, numbers: Mapping[int, int]) -> None:
    """Keep how many there were on a day, by cohort; the last word of the day counts."""
    if numbers:
        statement = postgresql.insert(cohort_counts).values(
            [
                {"cohort_id": cohort_id, "day": day, "devices": number}
                for cohort_id, number in sorted(numbers.items())
            ]
        )
        connection.execute(
            statement.on_conflict_do_update(
                index_elements=["cohort_id", "day"], set_={"devices": statement.excluded.devices}
            )
        )


def history(connection: Connection, cohort_id: int, since: date) -> list[tuple[date, int]]:
    """`(day, devices)` since a day."""
    query = select(cohort_counts.c.day, cohort_counts.c.devices).where(
        cohort_counts.c.cohort_id == cohort_id, cohort_counts.c.day >= since
    )
    return [
        (row.day, row.devices) for row in connection.execute(query.order_by(cohort_counts.c.day))
    ]
