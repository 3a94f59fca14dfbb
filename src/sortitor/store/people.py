"""People and groups."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple, cast

import polars as pl
from sqlalchemy import (
    ARRAY,
    ColumnElement,
    Connection,
    Select,
    Text,
    any_,
    func,
    literal,
    or_,
    select,
    update,
)

from sortitor.core.gate import Holding
from sortitor.core.lifecycle import COUNTED
from sortitor.core.vocabulary import Ownership, Platform
from sortitor.store import bulk, groups
from sortitor.store.engine import raw
from sortitor.store.filters import Condition
from sortitor.store.rows import among, as_pattern, in_order, read_all, read_one
from sortitor.store.settling import settle_alone, written
from sortitor.store.tables import devices, memberships, people
from sortitor.store.tables import groups as group_table
from sortitor.store.tables.devices import folded

_GROUPS = (
    select(func.coalesce(func.array_agg(group_table.c.name), []))
    .join(memberships, memberships.c.group_id == group_table.c.id)
    .where(memberships.c.person_id == people.c.id)
    .scalar_subquery()
    .label("groups")
)
_HOLDING = (
    select(func.count())
    .select_from(devices)
    .where(devices.c.person_id == people.c.id, devices.c.stage.in_(COUNTED))
    .scalar_subquery()
    .label("holding")
)


@dataclass(frozen=True, slots=True)
class PersonRow:
    """A person with their groups, and how many of their devices count to the quota."""

    id: int
    user_name: str
    name: str
    mail: str | None
    department: str | None
    site: str | None
    left_at: datetime | None
    revision: int
    groups: list[str]
    holding: int

    def is_called(self, name: str) -> bool:
        """Whether this is their user name or mail address."""
        return name.strip().lower() in (self.user_name.lower(), (self.mail or "").lower())


@dataclass(frozen=True, slots=True)
class ListedRow(PersonRow):
    """A person as a row of a list; `sort_key` is where they stand in its order."""

    sort_key: Any


@dataclass(frozen=True, slots=True)
class HolderRow:
    """A person with what they hold that counts, and those groups that were asked for."""

    id: int
    user_name: str
    name: str
    groups: list[str]
    holding: Holding


_PEOPLE = select(people, _GROUPS, _HOLDING)
#: What people can be sorted by.
_ORDERS: dict[str, ColumnElement[Any]] = {
    "id": people.c.id,
    "name": folded(people.c.name),
    "user_name": folded(people.c.user_name),
    "department": folded(people.c.department),
    "site": folded(people.c.site),
    "holding": _HOLDING.element,
}


def one(connection: Connection, person_id: int) -> PersonRow | None:
    """One person with groups and the number of devices that count to the quota."""
    return read_one(connection, _PEOPLE.where(people.c.id == person_id), PersonRow)


def names(connection: Connection, ids: Collection[int]) -> dict[int, str]:
    """Person → name."""
    return {
        row.id: row.name
        for row in connection.execute(
            select(people.c.id, people.c.name).where(people.c.id.in_(ids))
        )
    }


def by_name(connection: Connection, name: str) -> PersonRow | None:
    """The person of a user name or a mail address, who has not left."""
    present = _called(name).where(people.c.left_at.is_(None))
    return read_one(connection, present.order_by(people.c.id).limit(1), PersonRow)


def by_names(connection: Connection, names: Collection[str]) -> list[PersonRow]:
    """The people of user names or mail addresses, who have not left; each once."""
    folded = [name.strip().lower() for name in names]
    query = _PEOPLE.where(
        or_(
            func.lower(people.c.user_name).in_(folded),
            func.lower(people.c.mail).in_(folded),
        ),
        people.c.left_at.is_(None),
    )
    return read_all(connection, query.order_by(people.c.id), PersonRow)


class CalledRow(NamedTuple):
    """A person by what they are called."""

    id: int
    user_name: str
    name: str
    mail: str | None
    left_at: datetime | None


def called(connection: Connection, names: Collection[str], lock: bool = False) -> list[CalledRow]:
    """The people of user names or mail addresses, also those who have left; `lock` holds them, in
    one order for all.
    """
    folded = sorted({name.strip().lower() for name in names})
    user_name, mail = func.lower(people.c.user_name), func.lower(people.c.mail)
    wanted = any_(literal(folded, ARRAY(Text)))
    columns = (people.c[name] for name in CalledRow._fields)
    query = select(*columns).where(or_(user_name == wanted, mail == wanted)).order_by(people.c.id)
    found = connection.execute(query.with_for_update() if lock else query)
    return list(map(CalledRow._make, found))


def several(connection: Connection, ids: Collection[int]) -> list[PersonRow]:
    """People by number, with their groups."""
    return read_all(connection, _PEOPLE.where(among(people.c.id, ids)), PersonRow)


def lock_several(connection: Connection, ids: Collection[int]) -> None:
    """Hold the rows of people, in one order for all."""
    query = select(people.c.id).where(among(people.c.id, ids)).order_by(people.c.id)
    # Counted, since nobody reads their numbers.
    connection.execute(select(func.count()).select_from(query.with_for_update().subquery()))


def holdings(connection: Connection, ids: Collection[int]) -> dict[int, Holding]:
    """Person → what they hold that counts; who holds nothing is left out."""
    kinds = (devices.c.person_id, devices.c.platform, devices.c.ownership)
    query = (
        select(*kinds, func.count())
        .where(among(devices.c.person_id, ids), devices.c.stage.in_(COUNTED))
        .group_by(*kinds)
    )
    lines: dict[int, list[Any]] = {}
    for person_id, *line in connection.execute(query):
        lines.setdefault(person_id, []).append(line)
    return {person_id: held_of(of_them) for person_id, of_them in lines.items()}


def by_any_name(connection: Connection, name: str) -> PersonRow | None:
    """The person of a user name or a mail address; who is here goes before who has left."""
    both = _called(name).order_by(people.c.left_at.is_not(None), people.c.id)
    return read_one(connection, both.limit(1), PersonRow)


def _called(name: str) -> Select[Any]:
    lower = name.strip().lower()
    return _PEOPLE.where(
        or_(func.lower(people.c.user_name) == lower, func.lower(people.c.mail) == lower)
    )


def present(connection: Connection, user_names: Collection[str]) -> set[str]:
    """Which of these user names somebody has, in lower case."""
    folded = func.lower(people.c.user_name)
    wanted = [name.lower() for name in user_names]
    return set(connection.execute(select(folded).where(folded.in_(wanted))).scalars())


def hold(connection: Connection, person_id: int) -> PersonRow | None:
    """One person, held until the transaction ends."""
    query = _PEOPLE.where(people.c.id == person_id)
    return read_one(connection, query.with_for_update(of=people), PersonRow)


def lock(connection: Connection, person_id: int) -> Holding:
    """Hold the person's row, so that two knocks of one person count one after the other; gives the
    devices they hold now.
    """
    connection.execute(select(people.c.id).where(people.c.id == person_id).with_for_update())
    return holding(connection, person_id)


def holding(connection: Connection, person_id: int) -> Holding:
    """How many devices of a person count to the quota, by platform and ownership."""
    kinds = (devices.c.platform, devices.c.ownership)
    query = (
        select(*kinds, func.count())
        .where(devices.c.person_id == person_id, devices.c.stage.in_(COUNTED))
        .group_by(*kinds)
    )
    return held_of(connection.execute(query))


def held_of(rows: Iterable[Any]) -> Holding:
    """Lines of platform, ownership and number, taken together."""
    return Holding(
        {
            (None if platform is None else Platform(platform), Ownership(ownership)): number
            for platform, ownership, number in rows
        }
    )


def page(
    connection: Connection,
    query: str | None,
    group: str | None,
    after: Sequence[Any] | None,
    limit: int,
    having: Condition | None = None,
    only: Collection[int] | None = None,
    sort: str = "id",
    descending: bool = False,
) -> list[ListedRow]:
    """People after the key `(sort value, id)`; `query` finds user name, name or mail; `having`: who
    has such a device; `only`: these at most.
    """
    statement = in_order(_PEOPLE, _ORDERS[sort], people.c.id, after, descending).limit(limit)
    if only is not None:
        statement = statement.where(among(people.c.id, only))
    if query:
        statement = statement.where(
            or_(
                people.c.user_name.icontains(query, autoescape=True),
                people.c.name_lower.like(func.lower(f"%{as_pattern(query)}%")),
                people.c.mail.icontains(query, autoescape=True),
            )
        )
    if group:
        inside = (
            select(memberships.c.person_id)
            .join(group_table, group_table.c.id == memberships.c.group_id)
            .where(func.lower(group_table.c.name) == group.lower())
        )
        statement = statement.where(people.c.id.in_(inside))
    if having is not None:
        theirs = select(devices.c.person_id).where(having, devices.c.person_id.is_not(None))
        statement = statement.where(people.c.id.in_(theirs))
    return read_all(connection, statement, ListedRow)


#: So many people are looked up one by one.
_FEW = 2_000


def holders(
    connection: Connection, at_least: int, named_groups: Collection[str]
) -> list[HolderRow]:
    """People with at least so many devices that count, most first, each with those of these groups
    (case folded) that they are in.
    """
    bulk.with_room(connection)
    in_use = (devices.c.stage.in_(COUNTED), devices.c.person_id.is_not(None))
    totals = (
        select(devices.c.person_id)
        .where(*in_use)
        .group_by(devices.c.person_id)
        .having(func.count() >= at_least)
    )
    many = connection.execute(totals).scalars().all()
    kind = (devices.c.person_id, devices.c.platform, devices.c.ownership)
    counted = select(*kind, func.count().label("number")).where(*in_use).group_by(*kind)
    if len(many) <= _FEW:
        # As a rule; where there are more, one pass over the fleet is quicker.
        counted = counted.where(among(devices.c.person_id, many))
    owned = counted.subquery()
    total = func.sum(owned.c.number)
    line = func.json_build_array(owned.c.platform, owned.c.ownership, owned.c.number)
    kinds = (
        select(owned.c.person_id, func.json_agg(line).label("kinds"), total.label("total"))
        .group_by(owned.c.person_id)
        .having(total >= at_least)
        .subquery()
    )
    query = (
        select(people.c.id, people.c.user_name, people.c.name, kinds.c.kinds)
        .join(kinds, kinds.c.person_id == people.c.id)
        .order_by(kinds.c.total.desc(), people.c.id)
    )
    groups = _people_of(connection, named_groups)
    return [
        HolderRow(row.id, row.user_name, row.name, groups.get(row.id, []), held_of(row.kinds))
        for row in connection.execute(query)
    ]


def _people_of(connection: Connection, names: Collection[str]) -> dict[int, list[str]]:
    """Person → those of these groups (case folded) that they are in."""
    if not names:
        return {}
    called = {
        row.id: row.name
        for row in connection.execute(select(group_table.c.id, group_table.c.name))
        if row.name.casefold() in names
    }
    found: dict[int, list[str]] = {}
    query = select(memberships.c.person_id, memberships.c.group_id)
    for row in connection.execute(query.where(among(memberships.c.group_id, called))):
        found.setdefault(row.person_id, []).append(called[row.group_id])
    return found


_INCOMING = "row int, user_name text, name text, mail text, department text, site text, groups text"
_FIELDS = ("name", "mail", "department", "site")
_CHANGED = " OR ".join(f"(i.{f} IS NOT NULL AND i.{f} IS DISTINCT FROM p.{f})" for f in _FIELDS)
_WANTED_GROUPS = (
    "SELECT i.user_name, btrim(g) AS name FROM incoming i, unnest(string_to_array(i.groups, ';'))"
    " AS g WHERE btrim(g) <> ''"
)


def stage_import(connection: Connection, frame: pl.DataFrame) -> dict[str, int]:
    """Put the people of a file beside those known; gives counts of new, changed, unchanged people
    and moved memberships.
    """
    bulk.temporary(
        connection, "incoming", _INCOMING, frame.select("row", "user_name", *_FIELDS, "groups")
    )
    with raw(connection).cursor() as cursor:
        # Somebody new without a name is called by the user name; a name that is known stays.
        cursor.execute(
            "UPDATE incoming i SET name = coalesce((SELECT p.name FROM people p WHERE"
            " lower(p.user_name) = lower(i.user_name)), i.user_name) WHERE i.name IS NULL"
        )
        cursor.execute(f"""
            SELECT count(*) FILTER (WHERE p.id IS NULL),
                count(*) FILTER (WHERE p.id IS NOT NULL AND ({_CHANGED} OR p.left_at IS NOT NULL)),
                count(*) FILTER (WHERE p.id IS NOT NULL
                    AND NOT ({_CHANGED} OR p.left_at IS NOT NULL))
            FROM incoming i LEFT JOIN people p ON lower(p.user_name) = lower(i.user_name)
            """)  # noqa: S608 - the columns are named above
        new, changed, unchanged = cursor.fetchone() or (0, 0, 0)
        cursor.execute(f"""
            WITH wanted AS (SELECT DISTINCT lower(user_name) AS who, lower(name) AS what
                FROM ({_WANTED_GROUPS}) w),
            had AS (
                SELECT lower(p.user_name) AS who, lower(g.name) AS what FROM memberships m
                JOIN people p ON p.id = m.person_id JOIN groups g ON g.id = m.group_id
                WHERE lower(p.user_name) IN (SELECT lower(user_name) FROM incoming
                    WHERE groups IS NOT NULL)
            )
            SELECT (SELECT count(*) FROM (SELECT * FROM wanted EXCEPT SELECT * FROM had) a),
                (SELECT count(*) FROM (SELECT * FROM had EXCEPT SELECT * FROM wanted) r)
            """)  # noqa: S608
        joins, leaves = cursor.fetchone() or (0, 0)
    return {
        "new": int(str(new)),
        "changed": int(str(changed)),
        "unchanged": int(str(unchanged)),
        "joins": int(str(joins)),
        "leaves": int(str(leaves)),
    }


def staged_examples(
    connection: Connection, limit: int = 50
) -> list[tuple[str, str, str | None, str | None]]:
    """Lines `user name, field, before, after` of the staged people who are new or change."""
    lines = " UNION ALL ".join(
        f"SELECT i.row, i.user_name, '{f}', p.{f}, i.{f} FROM incoming i"  # noqa: S608
        " LEFT JOIN people p ON lower(p.user_name) = lower(i.user_name)"
        f" WHERE i.{f} IS NOT NULL AND i.{f} IS DISTINCT FROM p.{f}"
        for f in _FIELDS
    )
    with raw(connection).cursor() as cursor:
        cursor.execute(
            "SELECT user_name, field, before, after"  # noqa: S608
            f" FROM ({lines}) x (row, user_name, field, before, after)"
            f" ORDER BY row, field LIMIT {limit}"
        )
        return cast(list[tuple[str, str, str | None, str | None]], cursor.fetchall())


def absent(connection: Connection) -> list[tuple[int, str]]:
    """`(id, name)` of people who came by file before and are not among the staged; whom a provider
    pushes is its own business.
    """
    with raw(connection).cursor() as cursor:
        cursor.execute(
            "SELECT id, name FROM people p WHERE left_at IS NULL AND pushed IS NULL AND NOT EXISTS"
            " (SELECT FROM incoming i WHERE lower(i.user_name) = lower(p.user_name)) ORDER BY id"
        )
        return cast(list[tuple[int, str]], cursor.fetchall())


def apply_import(connection: Connection) -> None:
    """Write the staged people and their memberships; a blank cell leaves what is known."""
    updates = ", ".join(f"{f} = coalesce(EXCLUDED.{f}, people.{f})" for f in _FIELDS)
    with raw(connection).cursor() as cursor:
        cursor.execute(f"""
            INSERT INTO people (user_name, name, mail, department, site)
            SELECT user_name, name, mail, department, site FROM incoming ORDER BY lower(user_name)
            ON CONFLICT (lower(user_name)) DO UPDATE
                SET {updates}, left_at = NULL,
                    manual = array_remove(people.manual, 'left_at'),
                    revision = people.revision + 1, changed_at = now()
            """)  # noqa: S608
        cursor.execute(
            "INSERT INTO groups (name) SELECT DISTINCT ON (lower(name)) name"  # noqa: S608
            f" FROM ({_WANTED_GROUPS}) w ON CONFLICT (lower(name)) DO NOTHING"
        )
        cursor.execute(f"""
            CREATE TEMP TABLE stated ON COMMIT DROP AS
                SELECT DISTINCT p.id AS person_id, g.id AS group_id FROM ({_WANTED_GROUPS}) w
            JOIN people p ON lower(p.user_name) = lower(w.user_name) JOIN groups g
                ON lower(g.name) = lower(w.name)
            """)  # noqa: S608
        cursor.execute("""
            WITH gone AS (
                DELETE FROM group_people m USING people p, incoming i WHERE p.id = m.person_id
                    AND lower(p.user_name) = lower(i.user_name) AND i.groups IS NOT NULL
                AND NOT EXISTS (SELECT FROM stated s WHERE s.person_id = m.person_id
                    AND s.group_id = m.group_id) RETURNING m.group_id
            ), come AS (
                INSERT INTO group_people (group_id, person_id) SELECT group_id, person_id
                    FROM stated ON CONFLICT DO NOTHING RETURNING group_id
            )
            SELECT group_id FROM gone UNION SELECT group_id FROM come
            """)
        touched = [int(str(row[0])) for row in cursor.fetchall()]
    settle_alone(
        connection,
        "SELECT d.id FROM devices d JOIN people p ON p.id = d.person_id JOIN incoming i ON"
        " lower(i.user_name) = lower(p.user_name)",
        {"person"},
    )
    groups.resolve(connection, touched)


def leave(
    connection: Connection, ids: Collection[int], at: datetime | None, by_hand: bool = False
) -> None:
    """Note that people have left (or, with None, are back). `by_hand`: somebody said that they have
    left, which no source changes; that they are back leaves it to the sources again.
    """
    connection.execute(
        update(people)
        .where(people.c.id.in_(ids))
        .values(
            left_at=at,
            manual=(
                func.array_append(func.array_remove(people.c.manual, "left_at"), "left_at")
                if by_hand and at is not None
                else func.array_remove(people.c.manual, "left_at")
            ),
            revision=people.c.revision + 1,
            changed_at=func.now(),
        )
    )
    refresh_cohorts(connection, ids)


def refresh_cohorts(connection: Connection, ids: Collection[int]) -> None:
    """Bring cohorts to what is now known of people."""
    settle_alone(
        connection,
        written(select(devices.c.id).where(devices.c.person_id.in_(list(ids)))),
        {"person"},
    )
