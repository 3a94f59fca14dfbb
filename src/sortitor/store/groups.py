"""Groups, who is in them by name, which groups are in them, and who belongs to them by either."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    Column,
    Connection,
    delete,
    func,
    insert,
    literal,
    select,
    type_coerce,
    update,
)
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.dialects.postgresql import insert as upsert

from sortitor.store import locks
from sortitor.store.engine import raw
from sortitor.store.rows import among, number, read_all, read_one
from sortitor.store.settling import settle_alone
from sortitor.store.tables import group_groups, group_people, groups, memberships, people

_COUNTED = {"preserve_rowcount": True}


def hold_still(connection: Connection) -> None:
    """Let groups change one after the other: who belongs to one depends on others."""
    connection.execute(select(func.pg_advisory_xact_lock(locks.GROUPS)))


_DIRECT = (
    select(func.count())
    .select_from(group_people)
    .where(group_people.c.group_id == groups.c.id)
    .correlate(groups)
    .scalar_subquery()
    .label("direct")
)
_PEOPLE = (
    select(func.count())
    .select_from(memberships)
    .join(people, people.c.id == memberships.c.person_id)
    .where(memberships.c.group_id == groups.c.id, people.c.left_at.is_(None))
    .correlate(groups)
    .scalar_subquery()
    .label("people")
)
_inner = groups.alias("inner_group")
_INNER = (
    select(func.coalesce(func.array_agg(_inner.c.name), []))
    .select_from(group_groups)
    .join(_inner, _inner.c.id == group_groups.c.inner_id)
    .where(group_groups.c.group_id == groups.c.id)
    .correlate(groups)
    .scalar_subquery()
    .label("groups")
)


@dataclass(frozen=True, slots=True)
class GroupRow:
    """A group: `people` who belong to it, of them `direct`, and the names of the `groups` in it."""

    id: int
    name: str
    external_id: str | None
    revision: int
    created_at: datetime
    changed_at: datetime
    people: int
    direct: int
    groups: list[str]


@dataclass(frozen=True, slots=True)
class MemberRow:
    """A direct member of a group: a `User` or a `Group`."""

    group_id: int
    kind: str
    id: int
    name: str


_ALL = select(groups, _PEOPLE, _DIRECT, _INNER)


# Of all groups at once, those who belong to them are counted in one pass.
_belonging = (
    select(memberships.c.group_id, func.count().label("people"))
    .join(people, people.c.id == memberships.c.person_id)
    .where(people.c.left_at.is_(None))
    .group_by(memberships.c.group_id)
    .subquery()
)
_EVERY = (
    select(groups, func.coalesce(_belonging.c.people, 0).label("people"), _DIRECT, _INNER)
    .outerjoin(_belonging, _belonging.c.group_id == groups.c.id)
    .order_by(func.lower(groups.c.name))
)


def every(connection: Connection) -> list[GroupRow]:
    """Groups by name."""
    return read_all(connection, _EVERY, GroupRow)


def one(connection: Connection, group_id: int, lock: bool = False) -> GroupRow | None:
    """One group."""
    query = _ALL.where(groups.c.id == group_id)
    return read_one(connection, query.with_for_update(of=groups) if lock else query, GroupRow)


def by_name(connection: Connection, name: str, lock: bool = False) -> GroupRow | None:
    """The group of a name, without regard to case."""
    query = _ALL.where(func.lower(groups.c.name) == name.strip().lower())
    return read_one(connection, query.with_for_update(of=groups) if lock else query, GroupRow)


def members(connection: Connection, ids: Collection[int]) -> list[MemberRow]:
    """The direct members of groups."""
    persons = select(
        group_people.c.group_id, literal("User").label("kind"), people.c.id, people.c.name
    ).join(people, people.c.id == group_people.c.person_id)
    inner = select(group_groups.c.group_id, literal("Group"), groups.c.id, groups.c.name).join(
        groups, groups.c.id == group_groups.c.inner_id
    )
    both = (
        persons.where(group_people.c.group_id.in_(ids))
        .union_all(inner.where(group_groups.c.group_id.in_(ids)))
        .subquery()
    )
    query = select(both).order_by(both.c.group_id, both.c.kind.desc(), both.c.id)
    return read_all(connection, query, MemberRow)


def add(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new group's id."""
    return number(connection, insert(groups).values(**values).returning(groups.c.id))


def change(connection: Connection, group_id: int, values: Mapping[str, Any]) -> None:
    """Set a group's columns and count its revision up."""
    connection.execute(
        update(groups)
        .where(groups.c.id == group_id)
        .values(**values, revision=groups.c.revision + 1)
    )


def remove(connection: Connection, group_id: int) -> None:
    """Forget a group; whoever belonged to it or to a group around it is in other cohorts now."""
    with raw(connection).cursor() as cursor:
        cursor.execute("SELECT group_id FROM group_groups WHERE inner_id = %s", [group_id])
        around = [int(str(row[0])) for row in cursor.fetchall()]
        cursor.execute(
            "CREATE TEMP TABLE IF NOT EXISTS moved_people (id bigint PRIMARY KEY) ON COMMIT DROP"
        )
        cursor.execute(
            "INSERT INTO moved_people SELECT person_id FROM memberships WHERE group_id = %s ON"
            " CONFLICT DO NOTHING",
            [group_id],
        )
    connection.execute(delete(groups).where(groups.c.id == group_id))
    resolve(connection, around)


def set_members(
    connection: Connection, group_id: int, person_ids: Collection[int], group_ids: Collection[int]
) -> None:
    """Put exactly these people and groups into a group; `resolve` follows."""
    _set(connection, group_people.c.person_id, group_id, person_ids)
    set_groups(connection, group_id, group_ids)


def set_groups(connection: Connection, group_id: int, group_ids: Collection[int]) -> None:
    """Put exactly these groups into a group; `resolve` follows."""
    _set(connection, group_groups.c.inner_id, group_id, group_ids)


def _set(connection: Connection, column: Column[int], group_id: int, ids: Collection[int]) -> None:
    table = column.table
    given = func.unnest(type_coerce(list(ids), ARRAY(BigInteger))).column_valued("given")
    connection.execute(
        delete(table).where(table.c.group_id == group_id, column.not_in(select(given)))
    )
    connection.execute(
        upsert(table)
        .from_select(["group_id", column.name], select(literal(group_id), given))
        .on_conflict_do_nothing()
    )


def _each(
    person_ids: Collection[int], group_ids: Collection[int]
) -> tuple[tuple[Column[int], Collection[int]], ...]:
    return (group_people.c.person_id, person_ids), (group_groups.c.inner_id, group_ids)


def put_in(
    connection: Connection, group_id: int, person_ids: Collection[int], group_ids: Collection[int]
) -> int:
    """Put people and groups into a group; gives how many were not in it. `resolve` follows."""
    came = 0
    for column, ids in (
        (group_people.c.person_id, person_ids),
        (group_groups.c.inner_id, group_ids),
    ):
        given = func.unnest(type_coerce(list(ids), ARRAY(BigInteger))).column_valued("given")
        statement = upsert(column.table).from_select(
            ["group_id", column.name], select(literal(group_id), given)
        )
        came += connection.execute(
            statement.on_conflict_do_nothing(), execution_options=_COUNTED
        ).rowcount
    return came


def take_out(
    connection: Connection, group_id: int, person_ids: Collection[int], group_ids: Collection[int]
) -> int:
    """Take people and groups out of a group; gives how many were in it. `resolve` follows."""
    left = 0
    for column, ids in (
        (group_people.c.person_id, person_ids),
        (group_groups.c.inner_id, group_ids),
    ):
        table = column.table
        gone = delete(table).where(table.c.group_id == group_id, among(column, ids))
        left += connection.execute(gone, execution_options=_COUNTED).rowcount
    return left


def reach(connection: Connection, group_ids: Collection[int], wanted: int) -> bool:
    """Whether a group is one of these, or is held by one of them, however deep."""
    if not group_ids:
        return False
    found = raw(connection).execute(
        "WITH RECURSIVE held AS (SELECT unnest(%s::bigint[]) AS id UNION SELECT g.inner_id"
        " FROM group_groups g JOIN held h ON h.id = g.group_id)"
        " SELECT 1 FROM held WHERE id = %s LIMIT 1",
        [list(group_ids), wanted],
    )
    return found.fetchone() is not None


def take_out_everywhere(connection: Connection, person_id: int) -> None:
    """Take somebody from every group."""
    for table in (group_people, memberships):
        connection.execute(delete(table).where(table.c.person_id == person_id))


_RESOLVE = """
WITH RECURSIVE around AS (
    SELECT unnest(%(groups)s::bigint[]) AS id UNION SELECT g.group_id FROM group_groups g
        JOIN around a ON g.inner_id = a.id
), within AS (
    -- UNION drops what was seen before, so groups that hold each other come to an end.
    SELECT id AS outer_id, id AS inner_id FROM around UNION SELECT w.outer_id, g.inner_id
        FROM within w JOIN group_groups g ON g.group_id = w.inner_id
), wanted AS MATERIALIZED (
    SELECT DISTINCT w.outer_id AS group_id, p.person_id FROM within w JOIN group_people p
        ON p.group_id = w.inner_id
), gone AS (
    DELETE FROM memberships m USING around a WHERE m.group_id = a.id
    AND NOT EXISTS (SELECT FROM wanted w WHERE w.group_id = m.group_id
        AND w.person_id = m.person_id) RETURNING m.person_id
), come AS (
    INSERT INTO memberships (person_id, group_id) SELECT person_id, group_id FROM wanted ON CONFLICT
        DO NOTHING RETURNING person_id
)
INSERT INTO moved_people SELECT person_id FROM gone UNION SELECT person_id FROM come ON CONFLICT
    DO NOTHING
"""


def resolve(
    connection: Connection, group_ids: Collection[int], renamed: Collection[int] = ()
) -> None:
    """Bring memberships, and then cohorts, to what the groups (and all around them) hold now;
    `renamed` works out the cohorts of whoever is in those.
    """
    hold_still(connection)
    with raw(connection).cursor() as cursor:
        cursor.execute(
            "CREATE TEMP TABLE IF NOT EXISTS moved_people (id bigint PRIMARY KEY) ON COMMIT DROP"
        )
        cursor.execute(_RESOLVE, {"groups": list(group_ids)})
        cursor.execute(
            "INSERT INTO moved_people SELECT person_id FROM memberships WHERE group_id = ANY (%s)"
            " ON CONFLICT DO NOTHING",
            [list(renamed)],
        )
        cursor.execute("ANALYZE moved_people")
    settle_alone(
        connection,
        "SELECT d.id FROM devices d JOIN moved_people p ON p.id = d.person_id",
        {"person"},
    )
    raw(connection).execute("TRUNCATE moved_people")
