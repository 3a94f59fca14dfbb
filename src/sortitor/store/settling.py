"""Members of cohorts and seats of pools, kept right in the transaction of every change.

Every transaction that changes what a filter can speak of ends by settling the devices it touched.
Changes of devices do so under a shared lock, changes of what many devices lean on (cohorts, pools,
people, groups, orders) under an exclusive one: whoever comes second sees what the first has
committed, so no pair of changes can leave a member that neither of them would.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import lru_cache
from hashlib import sha256
from typing import Any

from psycopg import AsyncConnection, Cursor
from sqlalchemy import BigInteger, Connection, Select, Text, case, cast, func, select, text, update
from sqlalchemy.dialects import postgresql
from sqlalchemy.dialects.postgresql import ARRAY, array

from sortitor.core.filters import Filter, attributes, parse
from sortitor.core.licences import needing_by
from sortitor.store import locks
from sortitor.store.engine import raw, remembered
from sortitor.store.filters import compiled, said_of, touched_by, worked_out
from sortitor.store.tables import devices, installation

_SOME = "/* devices */"
#: The device of a statement that was planned before.
_ONE = "SELECT $1 AS id"
_SHARED = f"SELECT pg_advisory_xact_lock_shared({locks.SETTLING})"
_KEPT = (
    "SELECT 'cohort', id, filter, false FROM cohorts WHERE filter IS NOT NULL AND NOT moving"
    " UNION ALL SELECT 'pool', id, filter, coalesce((document ->> 'awaited_too')::boolean, false)"
    " FROM pools p WHERE EXISTS (SELECT FROM seat_moves m WHERE m.pool_id = p.id AND m.day IS NULL)"
    " ORDER BY 1, 2"
)
#: The shared lock, the mark as it is once the lock is had, and what the connection has planned.
_HOLD = "SELECT mark, planned FROM hold_cohorts()"
#: A mark that every change of a cohort or a pool sets anew: filters known under it need not be read
#: again.
_MARK = "SELECT value FROM installation WHERE key = 'cohorts'"


@dataclass(frozen=True, slots=True)
class Kept:
    """Cohorts and pools whose members are kept, as `(id, filter)`, under the mark that they were
    read with.
    """

    mark: str
    cohorts: tuple[tuple[int, Filter], ...] = field(compare=False)
    pools: tuple[tuple[int, Filter], ...] = field(compare=False)


#: The latest by mark; a handful, since a process works on one database and marks do not come back.
_KNOWN: dict[str, Kept] = {}
_MOST_KNOWN = 8


def _known(mark: str, lines: Sequence[Any]) -> Kept:
    if len(_KNOWN) >= _MOST_KNOWN:
        _KNOWN.clear()
    cohorts = tuple((number, read(said)) for kind, number, said, _ in lines if kind == "cohort")
    pools = tuple(
        (number, needing_by(said, awaited_too))
        for kind, number, said, awaited_too in lines
        if kind == "pool"
    )
    return _KNOWN.setdefault(mark, Kept(mark, cohorts, pools))


@lru_cache(maxsize=4096)
def read(filter_text: str) -> Filter:
    """A filter that was read before, mostly."""
    return parse(filter_text)


# ---- the statements

#: `{touched}`: the devices; `{made}`: those of them that fit, by cohort; `{ids}`: of which cohorts.
_MEMBERS = """
WITH touched AS MATERIALIZED ({touched}), fits AS MATERIALIZED ({made}), gone AS (
    DELETE FROM cohort_members m USING touched t WHERE m.device_id = t.id
        AND m.cohort_id IN ({ids})
    AND NOT EXISTS (SELECT FROM fits f WHERE f.device_id = m.device_id
        AND f.cohort_id = m.cohort_id)
)
INSERT INTO cohort_members (cohort_id, device_id) SELECT cohort_id, device_id FROM fits
    ORDER BY cohort_id, device_id ON CONFLICT DO NOTHING
"""
#: `{made}`: every touched device with all the pools of which it takes a seat.
_SEATS = """
WITH touched AS MATERIALIZED ({touched}), fits AS MATERIALIZED ({made}), moved AS (
    UPDATE device_seats s SET pools = f.pools FROM fits f
    WHERE s.device_id = f.device_id AND s.pools <> f.pools
)
INSERT INTO device_seats (device_id, pools) SELECT f.device_id, f.pools FROM fits f
    WHERE f.pools <> '{{}}'
    AND NOT EXISTS (SELECT FROM device_seats s WHERE s.device_id = f.device_id)
    ORDER BY f.device_id
"""


@lru_cache(maxsize=256)
def statements(kept: Kept, changed_keys: frozenset[str] | None, touched: str) -> tuple[str, ...]:
    """The statements that bring members and seats of touched devices to what the filters say, in
    order; none where no filter can notice.

    changed_keys: keys of what changed (see `touched_by`), None for everything. touched: SQL that
    gives the devices as `id`.
    """

    def concerned(of: tuple[tuple[int, Filter], ...]) -> list[tuple[int, Filter]]:
        return [
            (number, found)
            for number, found in of
            if changed_keys is None or touched_by(attributes(found), changed_keys)
        ]

    made = []
    if cohorts := concerned(kept.cohorts):
        each = func.unnest(_fitting(cohorts)).label("cohort_id")
        ids = ", ".join(str(number) for number, _ in cohorts)
        made.append(_MEMBERS.format(touched=touched, made=_each_fact(each), ids=ids))
    # A pool may speak of cohorts, whose members are right by then. A device has its seats in one
    # row: where one pool is concerned, all are worked out.
    speaking = any("cohorts" in attributes(found) for _, found in kept.pools)
    if concerned(kept.pools) or (speaking and cohorts):
        each = _fitting(kept.pools).label("pools")
        made.append(_SEATS.format(touched=touched, made=_each_fact(each)))
    return tuple(made)


def _facts() -> Any:
    # Offset, so that the planner does not put what was worked out back into every comparison.
    touched = devices.c.id.in_(text("SELECT id FROM touched"))
    return worked_out(select(devices).where(touched)).offset(0).subquery()


def _fitting(of: Sequence[tuple[int, Filter]]) -> Any:
    """The numbers of those whose filter a device fits, as an array."""
    # Nothing here depends on the present moment: what time moves is not kept.
    never = datetime.min.replace(tzinfo=UTC)
    each = [case((compiled(found, never), number)) for number, found in of]
    numbers = cast(array[Any](each), ARRAY(BigInteger))
    return func.array_remove(numbers, None)


def _each_fact(said: Any) -> str:
    """Of every touched device what is said of it, with the values written out: what was prepared
    once is then run by its name, whatever it says.
    """
    facts = _facts()
    return written(select(facts.c.id.label("device_id"), said_of(facts, said)))


def written(query: Select[Any]) -> str:
    """The query as SQL with its values written out."""
    dialect = postgresql.dialect(paramstyle="named")  # type: ignore[no-untyped-call]
    return str(query.compile(dialect=dialect, compile_kwargs={"literal_binds": True}))


# ---- settling


def settle(connection: Connection, touched: str, changed_keys: Iterable[str] | None) -> None:
    """Work out members and seats of the devices that a change touched; the last step of its
    transaction.

    Arguments as in `statements`.
    """
    keys = None if changed_keys is None else frozenset(changed_keys)
    with raw(connection).cursor() as cursor:
        kept, _ = _hold(connection, cursor)
        for statement in (*_of_the_day(connection, kept), *statements(kept, keys, touched)):
            cursor.execute(_literal(statement))


def settle_one(connection: Connection, device_id: int, changed_keys: Iterable[str] | None) -> None:
    """The same for one device, by statements that the connection has planned before: planning
    takes longer than running them.
    """
    keys = None if changed_keys is None else frozenset(changed_keys)
    with raw(connection).cursor() as cursor:
        kept, prepared = _hold(connection, cursor)
        asked = _of_the_day(connection, kept)
        for statement in statements(kept, keys, _ONE):
            name = _name_of(statement)
            if name not in prepared:
                asked.append(f"PREPARE {name} (bigint) AS {statement}")
            asked.append(f"EXECUTE {name} ({int(device_id)})")
        if asked:
            cursor.execute(_literal("; ".join(asked)))


def settle_again(connection: Connection, device_id: int, changed_keys: Iterable[str]) -> None:
    """The same for a device that was settled in this transaction and changed since, which costs
    nothing where no filter can notice.
    """
    kept = remembered(connection).get("kept")
    if kept is None or statements(kept, frozenset(changed_keys), _ONE):
        settle_one(connection, device_id, changed_keys)


def settle_alone(connection: Connection, touched: str, changed_keys: Iterable[str]) -> None:
    """Settle the devices of a changed person, group, order or list."""
    hold_still(connection)
    settle(connection, touched, changed_keys)


async def settle_async(
    connection: AsyncConnection[Any], ids: Sequence[int], changed_keys: Iterable[str]
) -> None:
    """The same for check-ins."""
    await connection.execute(_SHARED)
    [[mark]] = await (await connection.execute(_MARK)).fetchall()
    kept = _KNOWN.get(mark) or _known(mark, await (await connection.execute(_KEPT)).fetchall())
    these = f"SELECT unnest(ARRAY[{_SOME}]::bigint[]) AS id"
    for statement in statements(kept, frozenset(changed_keys), these):
        # The first thing that the statement says.
        numbers = ", ".join(str(int(one)) for one in ids)
        await connection.execute(_literal(statement.replace(_SOME, numbers, 1)))


def hold_still(connection: Connection) -> None:
    """Let no change of a device be settled until this transaction has ended."""
    connection.execute(select(func.pg_advisory_xact_lock(locks.SETTLING)))


def share(connection: Connection) -> None:
    """Let nothing that is kept be worked out anew until this transaction has ended."""
    connection.execute(select(func.pg_advisory_xact_lock_shared(locks.SETTLING)))


def mark_anew(connection: Connection) -> None:
    """Let every process read the filters again."""
    hold_still(connection)
    connection.execute(
        update(installation)
        .where(installation.c.key == "cohorts")
        .values(value=func.gen_random_uuid().cast(Text))
    )


def _of_the_day(connection: Connection, kept: Kept) -> list[str]:
    """What tells the database the day on which seats are taken, where it is not the clock's."""
    today = remembered(connection).get("today")
    if today is None or not kept.pools:
        return []
    return [f"SELECT set_config('sortitor.today', '{today.isoformat()}', true)"]


def _hold(connection: Connection, cursor: Cursor[Any]) -> tuple[Kept, set[str]]:
    """What is kept, which stays as it is until the transaction ends, and what the connection has
    planned.

    What is planned is asked each time: the driver throws it away, ours too, whenever a table goes
    or a transaction rolls back.
    """
    [(mark, planned)] = cursor.execute(_HOLD).fetchall()
    kept = _KNOWN.get(mark) or _known(mark, cursor.execute(_KEPT).fetchall())
    remembered(connection)["kept"] = kept
    return kept, set(planned or ())


@lru_cache(maxsize=256)
def _name_of(statement: str) -> str:
    return f"refresh_{sha256(statement.encode()).hexdigest()[:24]}"


def _literal(statement: str) -> Any:
    """A statement that takes no values, for the driver."""
    return statement.encode()
