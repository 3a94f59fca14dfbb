"""Cohorts, and their members kept right in the transaction of every change.

Every transaction that changes what a filter can speak of ends by refreshing the memberships of the
devices it touched. Changes of devices do so under a shared lock, changes of what many devices lean
on (cohorts, people, groups, orders) under an exclusive one: whoever comes second sees what the
first has committed, so no pair of changes can leave a member that neither of them would.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from functools import lru_cache
from hashlib import sha256
from typing import Any

from psycopg import AsyncConnection, Cursor
from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Connection,
    Select,
    Text,
    case,
    delete,
    exists,
    false,
    func,
    insert,
    literal,
    or_,
    select,
    text,
    update,
)
from sqlalchemy.dialects import postgresql
from sqlalchemy.dialects.postgresql import array

from sortitor.core.filters import Filter, attributes, parse
from sortitor.store.engine import raw
from sortitor.store.filters import Condition, compiled, said_of, touched_by, worked_out
from sortitor.store.rows import read_all, read_one
from sortitor.store.tables import (
    cohort_counts,
    cohort_members,
    cohorts,
    devices,
    installation,
    pools,
    sweep_rules,
)

_LOCK = 7_302
_SOME = "/* devices */"
_SHARED = f"SELECT pg_advisory_xact_lock_shared({_LOCK})"
_KEPT = "SELECT id, filter FROM cohorts WHERE filter IS NOT NULL AND NOT moving ORDER BY id"
#: The shared lock, the mark as it is once the lock is had, and what the connection has planned.
_HOLD = "SELECT mark, planned FROM hold_cohorts()"
#: A mark that every change of a cohort sets anew: filters known under it need not be read again.
_MARK = "SELECT value FROM installation WHERE key = 'cohorts'"


@dataclass(frozen=True, slots=True)
class Kept:
    """Cohorts whose members are kept, as `(id, filter)`, under the mark that they were read
    with.
    """

    mark: str
    filters: tuple[tuple[int, str], ...] = field(compare=False)


#: The latest by mark; a handful, since a process works on one database and marks do not come back.
_KNOWN: dict[str, Kept] = {}
_MOST_KNOWN = 8


def _known(mark: str, filters: Sequence[Any]) -> Kept:
    if len(_KNOWN) >= _MOST_KNOWN:
        _KNOWN.clear()
    return _KNOWN.setdefault(mark, Kept(mark, tuple(filters)))


# ---- settling
# -----------------------------------------------------------------------------------------------


@lru_cache(maxsize=4096)
def _read(filter_text: str) -> Filter:
    return parse(filter_text)


@lru_cache(maxsize=256)
def refresh_statement(kept: Kept, changed_keys: frozenset[str] | None, touched: str) -> str | None:
    """The statement that brings the memberships of touched devices to what the filters say; None
    where no filter can notice.

    changed_keys: keys of what changed (see `touched_by`), None for everything. touched: SQL that
    gives the devices as `id`.
    """
    concerned = [
        (cohort_id, found)
        for cohort_id, found in ((i, _read(f)) for i, f in kept.filters)
        if changed_keys is None or touched_by(attributes(found), changed_keys)
    ]
    if not concerned:
        return None
    # Nothing here depends on the present moment: cohorts that time moves are not kept.
    # Offset, so that the planner does not put what was worked out back into every comparison.
    facts = (
        worked_out(select(devices).where(devices.c.id.in_(text("SELECT id FROM touched"))))
        .offset(0)
        .subquery()
    )
    each = array[Any](
        [
            case((said_of(facts, compiled(found, datetime.min.replace(tzinfo=UTC))), cohort_id))
            for cohort_id, found in concerned
        ],
        type_=BigInteger(),
    )
    # With the values written out: what was prepared once is then run by its name, whatever it says.
    made = written(
        select(
            facts.c.id.label("device_id"),
            func.unnest(func.array_remove(each, None)).label("cohort_id"),
        )
    )
    ids = ", ".join(str(cohort_id) for cohort_id, _ in concerned)
    return f"""
        WITH touched AS MATERIALIZED ({touched}), fits AS MATERIALIZED ({made}), gone AS (
            DELETE FROM cohort_members m USING touched t WHERE m.device_id = t.id
                AND m.cohort_id IN ({ids})
            AND NOT EXISTS (SELECT FROM fits f WHERE f.device_id = m.device_id
                AND f.cohort_id = m.cohort_id)
        )
        INSERT INTO cohort_members (cohort_id, device_id) SELECT cohort_id, device_id FROM fits
            ORDER BY cohort_id, device_id ON CONFLICT DO NOTHING
        """  # noqa: S608 - made of our own statements, values written out by the dialect


def refresh_memberships(
    connection: Connection, touched: str, changed_keys: Iterable[str] | None
) -> None:
    """Work out the cohorts of the devices that a change touched; the last step of its transaction.

    Arguments as in `refresh_statement`.
    """
    with raw(connection).cursor() as cursor:
        kept, _ = _kept_cohorts(cursor)
        if (
            statement := refresh_statement(
                kept, None if changed_keys is None else frozenset(changed_keys), touched
            )
        ) is not None:
            cursor.execute(_literal(statement))


def refresh_memberships_of_one(
    connection: Connection, device_id: int, changed_keys: Iterable[str] | None
) -> None:
    """The same for one device, by a statement that the connection has planned before: planning
    takes longer than running it.
    """
    with raw(connection).cursor() as cursor:
        kept, prepared = _kept_cohorts(cursor)
        if (
            statement := refresh_statement(
                kept, None if changed_keys is None else frozenset(changed_keys), "SELECT $1 AS id"
            )
        ) is None:
            return
        name = _name_of(statement)
        make = "" if name in prepared else f"PREPARE {name} (bigint) AS {statement}; "
        cursor.execute(_literal(f"{make}EXECUTE {name} ({int(device_id)})"))


def _kept_cohorts(cursor: Cursor[Any]) -> tuple[Kept, set[str]]:
    """The cohorts, which stay as they are until the transaction ends, and what the connection has
    planned.

    What is planned is asked each time: the driver throws it away, ours too, whenever a table goes
    or a transaction rolls back.
    """
    [(mark, planned)] = cursor.execute(_HOLD).fetchall()
    kept = _KNOWN.get(mark) or _known(mark, cursor.execute(_KEPT).fetchall())
    return kept, set(planned or ())


@lru_cache(maxsize=256)
def _name_of(statement: str) -> str:
    return f"refresh_{sha256(statement.encode()).hexdigest()[:24]}"


def written(query: Select[Any]) -> str:
    """The query as SQL with its values written out."""
    dialect = postgresql.dialect(paramstyle="named")  # type: ignore[no-untyped-call]
    return str(query.compile(dialect=dialect, compile_kwargs={"literal_binds": True}))


def _literal(statement: str) -> Any:
    """A statement that takes no values, for the driver."""
    return statement.encode()


async def refresh_memberships_async(
    connection: AsyncConnection[Any], ids: Sequence[int], changed_keys: Iterable[str]
) -> None:
    """The same for check-ins."""
    await connection.execute(_SHARED)
    [[mark]] = await (await connection.execute(_MARK)).fetchall()
    kept = _KNOWN.get(mark) or _known(mark, await (await connection.execute(_KEPT)).fetchall())
    if (
        statement := refresh_statement(
            kept, frozenset(changed_keys), f"SELECT unnest(ARRAY[{_SOME}]::bigint[]) AS id"
        )
    ) is not None:
        # The first thing that the statement says.
        await connection.execute(
            _literal(statement.replace(_SOME, ", ".join(str(int(one)) for one in ids), 1))
        )


def hold_still(connection: Connection) -> None:
    """Let no change of a device refresh its memberships until this transaction has ended."""
    connection.execute(select(func.pg_advisory_xact_lock(_LOCK)))


def refresh_memberships_alone(
    connection: Connection, touched: str, changed_keys: Iterable[str]
) -> None:
    """Work out the cohorts of the devices of a changed person, group or order."""
    hold_still(connection)
    refresh_memberships(connection, touched, changed_keys)


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

_MEMBERS = (
    select(func.count())
    .select_from(cohort_members)
    .where(cohort_members.c.cohort_id == cohorts.c.id)
    .correlate(cohorts)
    .scalar_subquery()
    .label("devices")
)


_COLUMNS = (*cohorts.c, cohorts.c.document["note"].astext.label("note"), _MEMBERS)


@dataclass(frozen=True, slots=True)
class CohortRow:
    """A cohort with the number of the `devices` kept for it."""

    id: int
    revision: int
    name: str
    filter: str | None
    note: str | None
    moving: bool
    devices: int
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
        row.name: _read(row.filter)
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
        _read(text)
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


def mark_anew(connection: Connection) -> None:
    """Let every process read the filters again.

    Whoever changes a cohort waits for the lock before anything else, so that no two wait for each
    other.
    """
    hold_still(connection)
    connection.execute(
        update(installation)
        .where(installation.c.key == "cohorts")
        .values(value=func.gen_random_uuid().cast(Text))
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


def overlap(connection: Connection, one: Condition, other: Condition) -> tuple[int, int, int]:
    """Devices `(only in the one, in both, only in the other)`."""
    query = select(
        func.count().filter(one, ~other),
        func.count().filter(one, other),
        func.count().filter(other, ~one),
    ).select_from(devices)
    found = connection.execute(query).one()
    return found[0], found[1], found[2]


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
