"""Members of cohorts, seats of pools and the facts that decide over kits, kept right in the
transaction of every change.

Every transaction that changes what a filter can speak of ends by settling the devices it touched.
Changes of devices do so under a shared lock, changes of what many devices lean on (cohorts, pools,
people, groups, orders) under an exclusive one: whoever comes second sees what the first has
committed, so no pair of changes can leave a member that neither of them would.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
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
    and_,
    case,
    cast,
    column,
    false,
    func,
    literal,
    or_,
    select,
    table,
    text,
    true,
    update,
)
from sqlalchemy.dialects import postgresql
from sqlalchemy.dialects.postgresql import ARRAY, array

from sortitor.core.filters import Filter, attributes, parse
from sortitor.core.licences.pools import needing_by
from sortitor.core.vocabulary import Stage
from sortitor.store import locks
from sortitor.store.engine import raw, remembered
from sortitor.store.filters import compiled, said_of, spoken_of, touched_by, worked_out
from sortitor.store.tables import cohort_members, devices, installation

_SOME = "/* devices */"
#: The device of a statement that was planned before.
_ONE = "SELECT $1 AS id"
_SHARED = f"SELECT pg_advisory_xact_lock_shared({locks.SETTLING})"
_KEPT = (
    "SELECT 'cohort', id, filter, false, NULL::bigint[] FROM cohorts"
    " WHERE filter IS NOT NULL AND NOT moving"
    " UNION ALL SELECT 'pool', id, filter, coalesce((document ->> 'awaited_too')::boolean, false),"
    " NULL::bigint[] FROM pools p"
    " WHERE EXISTS (SELECT FROM seat_moves m WHERE m.pool_id = p.id AND m.day IS NULL)"
    " UNION ALL SELECT DISTINCT 'given', cohort_id, NULL::text, false, NULL::bigint[] FROM givings"
    " WHERE cohort_id IS NOT NULL"
    " UNION ALL SELECT 'condition', id, filter, everyone, cohorts FROM kit_conditions"
    " WHERE everyone OR cohorts <> '{}'"
    " ORDER BY 1, 2"
)
#: The shared lock, the mark as it is once the lock is had, and what the connection has planned.
_HOLD = "SELECT mark, planned FROM hold_cohorts()"
#: A mark that every change of a cohort or a pool sets anew: filters known under it need not be read
#: again.
_MARK = "SELECT value FROM installation WHERE key = 'cohorts'"


@dataclass(frozen=True, slots=True)
class Condition:
    """For which devices an item is, asked of those that somebody gives it to: everyone, or these
    cohorts.
    """

    id: int
    filter: Filter
    everyone: bool
    cohorts: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Kept:
    """Cohorts and pools whose members are kept, as `(id, filter)`, cohorts that something is given
    to, and the conditions of what is given, under the mark that they were read with.
    """

    mark: str
    cohorts: tuple[tuple[int, Filter], ...] = field(compare=False)
    pools: tuple[tuple[int, Filter], ...] = field(compare=False)
    given: tuple[int, ...] = field(compare=False)
    conditions: tuple[Condition, ...] = field(compare=False)


#: The latest by mark; a handful, since a process works on one database and marks do not come back.
_KNOWN: dict[str, Kept] = {}
_MOST_KNOWN = 8


def _known(mark: str, lines: Sequence[Any]) -> Kept:
    if len(_KNOWN) >= _MOST_KNOWN:
        _KNOWN.clear()
    of = {
        kind: [tuple(line[1:]) for line in lines if line[0] == kind]
        for kind in ("cohort", "pool", "given", "condition")
    }
    kept = Kept(
        mark,
        cohorts=tuple((number, read(said)) for number, said, _, _ in of["cohort"]),
        pools=tuple((number, needing_by(said, too)) for number, said, too, _ in of["pool"]),
        given=tuple(number for number, _, _, _ in of["given"]),
        conditions=tuple(
            Condition(number, read(said), everyone, tuple(reach))
            for number, said, everyone, reach in of["condition"]
        ),
    )
    return _KNOWN.setdefault(mark, kept)


@lru_cache(maxsize=4096)
def read(filter_text: str) -> Filter:
    """A filter that was read before, mostly."""
    return parse(filter_text)


# ---- the statements

#: `{touched}`: the devices, put where it is spoken of, so that it is known how many they are;
#: `{made}`: those of them that fit, by cohort; `{ids}`: of which cohorts.
_MEMBERS = """
WITH touched AS NOT MATERIALIZED ({touched}), fits AS MATERIALIZED ({made}), gone AS (
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
WITH touched AS NOT MATERIALIZED ({touched}), fits AS MATERIALIZED ({made}), moved AS (
    UPDATE device_seats s SET pools = f.pools FROM fits f
    WHERE s.device_id = f.device_id AND s.pools <> f.pools
)
INSERT INTO device_seats (device_id, pools) SELECT f.device_id, f.pools FROM fits f
    WHERE f.pools <> '{{}}'
    AND NOT EXISTS (SELECT FROM device_seats s WHERE s.device_id = f.device_id)
    ORDER BY f.device_id
"""
#: `{made}`: every touched device with its facts.
_FACTS = """
WITH touched AS MATERIALIZED (SELECT DISTINCT id FROM ({touched}) AS these),
fits AS MATERIALIZED ({made}), new AS (
    INSERT INTO kit_outcomes (key, facts)
    SELECT hash_array_extended(f.facts, 0), f.facts FROM (SELECT DISTINCT facts FROM fits) AS f
    WHERE NOT EXISTS
        (SELECT FROM kit_outcomes o WHERE o.key = hash_array_extended(f.facts, 0))
    ORDER BY 1 ON CONFLICT DO NOTHING
), moved AS (
    UPDATE device_kits k SET facts = f.facts FROM fits f
    WHERE k.device_id = f.device_id AND k.facts <> f.facts
)
INSERT INTO device_kits (device_id, facts) SELECT f.device_id, f.facts FROM fits f
    WHERE f.facts <> '{{}}'
    AND NOT EXISTS (SELECT FROM device_kits k WHERE k.device_id = f.device_id)
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
    in_other_cohorts = bool(cohorts) or "cohorts" in (changed_keys or ())
    asked = tuple((condition.id, condition.filter) for condition in kept.conditions)
    if (kept.given and in_other_cohorts) or concerned(asked) or _may_retire(kept, changed_keys):
        made.append(facts_statement(kept, touched))
    return tuple(made)


def _may_retire(kept: Kept, changed_keys: frozenset[str] | None) -> bool:
    """Whether devices may come to get nothing more, or something again."""
    anything = bool(kept.given or kept.conditions)
    return anything and (changed_keys is None or "stage" in changed_keys)


def facts_statement(kept: Kept, touched: str, sure: int | None = None) -> str:
    """The statement that brings the facts of touched devices to what they are; `sure`: the cohort
    that they are in, where it is known.
    """
    return _FACTS.format(touched=touched, made=written(_gathered(kept, sure)))


def _gathered(kept: Kept, sure: int | None) -> Select[Any]:
    """Of every touched device the cohorts of it that something is given to, in order, and the
    conditions that hold for it.
    """
    never = datetime.min.replace(tzinfo=UTC)
    asked = {one.id: compiled(one.filter, never) for one in kept.conditions}
    facts = _narrow_facts(*asked.values())
    given = sorted(kept.given)
    found = _one_by_one(facts, given, sure) if _are_few(kept) else _all_at_once(facts, given)
    joined, cohorts, is_in = found
    none = cast(array[Any]([]), ARRAY(BigInteger))
    each = []
    for one in kept.conditions:
        holds = said_of(facts, asked[one.id])
        if not one.everyone:
            # What is decided quickest goes first.
            holds = and_(holds, is_in(one.cohorts))
        each.append(case((holds, -one.id)))
    holding = func.array_remove(cast(array[Any](each), ARRAY(BigInteger)), None)
    in_use = facts.c.stage != Stage.RETIRED
    return select(
        facts.c.id.label("device_id"),
        case((in_use, holding.op("||")(cohorts)), else_=none).label("facts"),
    ).select_from(joined)


#: Up to so many given cohorts are looked up one by one, which is quicker for many devices; more
#: are too many tables to plan for.
_FEW = 6


def _are_few(kept: Kept) -> bool:
    return len(kept.given) <= _FEW


#: The devices with their given cohorts as an array, in order, and whether one is in any of some.
_LookedUp = tuple[Any, ColumnElement[Any], Callable[[Sequence[int]], ColumnElement[bool]]]


def _one_by_one(facts: Any, given: Sequence[int], sure: int | None) -> _LookedUp:
    joined, inside = facts, dict[int, ColumnElement[Any]]()
    for number in given:
        if number == sure:
            inside[number] = literal(number)
            continue
        members = cohort_members.alias(f"given_{number}")
        mine = and_(members.c.device_id == facts.c.id, members.c.cohort_id == number)
        joined = joined.outerjoin(members, mine)
        inside[number] = members.c.cohort_id
    each = cast(array[Any](list(inside.values())), ARRAY(BigInteger))

    def is_in(some: Sequence[int]) -> ColumnElement[bool]:
        if sure in some:
            return true()
        return or_(false(), *(inside[one].is_not(None) for one in some if one in inside))

    return joined, func.array_remove(each, None), is_in


def _all_at_once(facts: Any, given: Sequence[int]) -> _LookedUp:
    """The same for many given cohorts."""
    members = cohort_members.alias("given")
    # Sorted all at once: an aggregate that sorts does so for each device by itself.
    ordered = (
        select(members.c.device_id, members.c.cohort_id)
        .where(members.c.cohort_id.in_(given), members.c.device_id == _THESE.c.id)
        .order_by(members.c.device_id, members.c.cohort_id)
        .subquery("ordered")
    )
    inside = (
        select(ordered.c.device_id, func.array_agg(ordered.c.cohort_id).label("cohorts"))
        .group_by(ordered.c.device_id)
        .subquery("inside")
    )
    none = cast(array[Any]([]), ARRAY(BigInteger))
    joined = facts.outerjoin(inside, inside.c.device_id == facts.c.id)
    cohorts = func.coalesce(inside.c.cohorts, none)

    def is_in(some: Sequence[int]) -> ColumnElement[bool]:
        return cohorts.op("&&")(cast(array[Any](list(some)), ARRAY(BigInteger)))

    return joined, cohorts, is_in


_THESE = table("touched", column("id"))
_TOUCHED = devices.c.id.in_(text("SELECT id FROM touched"))


def _facts() -> Any:
    # Offset, so that the planner does not put what was worked out back into every comparison.
    return worked_out(select(devices).where(_TOUCHED)).offset(0).subquery()


def _narrow_facts(*conditions: Any) -> Any:
    """The touched devices with no more of them than these conditions, and the stage, need."""
    needed = {one.name for condition in conditions for one in spoken_of(condition)}
    names = sorted({"id", "stage", *needed})
    these = select(*(devices.c[name] for name in names)).where(devices.c.id == _THESE.c.id)
    return these.subquery()


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


def gather_facts(connection: Connection, touched: str, sure: int | None = None) -> None:
    """Work out the facts of some devices, after what they are asked for became another; `touched`:
    SQL that gives the devices as `id`, `sure`: the cohort that they are in, where it is known.
    """
    with raw(connection).cursor() as cursor:
        kept, _ = _hold(connection, cursor)
        # For as many as there are: in memory where it can be, until the transaction ends.
        cursor.execute("SET LOCAL work_mem = '40MB'")
        cursor.execute(_literal(facts_statement(kept, touched, sure)))


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
