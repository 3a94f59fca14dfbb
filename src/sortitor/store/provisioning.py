"""People and groups as resources that an identity provider pushes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from scim2_models import ScimFilter
from scim2_models.path import AttributeBinding
from sqlalchemy import Connection, Select, Table, func, insert, select, update

from sortitor.store.rows import number, read_all, read_one
from sortitor.store.scim import condition, order
from sortitor.store.tables import groups, memberships, people

_inside = (
    select(
        func.coalesce(
            func.jsonb_agg(func.jsonb_build_object("id", groups.c.id, "name", groups.c.name)),
            func.jsonb_build_array(),
        )
    )
    .join(memberships, memberships.c.group_id == groups.c.id)
    .where(memberships.c.person_id == people.c.id)
    .correlate(people)
    .scalar_subquery()
    .label("groups")
)


_USERS = select(people, _inside)


@dataclass(frozen=True, slots=True)
class Asked:
    """Which resources: those that a filter fits, in an order or by number, after a number, some of
    them left out, at most so many.

    `filter` and `sort` are bound to the model of the resource; `base` is where the service is
    reached.
    """

    filter: ScimFilter[Any] | None = None
    sort: AttributeBinding | None = None
    descending: bool = False
    base: str = ""
    after: int = 0
    offset: int = 0
    limit: int | None = None


@dataclass(frozen=True, slots=True)
class UserRow:
    """A person as a resource: `pushed` is what the provider pushed, `groups` are `[{id, name}]`."""

    id: int
    user_name: str
    name: str
    mail: str | None
    department: str | None
    site: str | None
    left_at: datetime | None
    pushed: dict[str, Any] | None
    gone_at: datetime | None
    revision: int
    created_at: datetime
    changed_at: datetime
    groups: list[dict[str, Any]]


@dataclass(frozen=True, slots=True)
class GroupRow:
    """A group as a resource."""

    id: int
    name: str
    external_id: str | None
    revision: int
    created_at: datetime
    changed_at: datetime


def users(connection: Connection, asked: Asked) -> tuple[list[UserRow], int]:
    """People whom the provider has not deleted, and how many there are in all."""
    there = _USERS.where(people.c.gone_at.is_(None))
    page, total = _page(connection, "User", people, there, asked)
    return read_all(connection, page, UserRow), total


def group_page(connection: Connection, asked: Asked) -> tuple[list[GroupRow], int]:
    """Groups, and how many there are in all."""
    page, total = _page(connection, "Group", groups, select(groups), asked)
    return read_all(connection, page, GroupRow), total


def _page(
    connection: Connection, kind: str, table: Table, query: Select[Any], asked: Asked
) -> tuple[Select[Any], int]:
    """The query of one page, and how many there are in all."""
    if asked.filter is not None:
        query = query.where(condition(kind, asked.filter, asked.base))
    total = connection.execute(
        select(func.count()).select_from(query.with_only_columns(table.c.id).subquery())
    ).scalar_one()
    if asked.sort is not None:
        key = order(kind, asked.sort, asked.base)
        query = query.order_by(key.desc() if asked.descending else key)
    page = (
        query.where(table.c.id > asked.after)
        .order_by(table.c.id)
        .offset(asked.offset)
        .limit(asked.limit)
    )
    return page, total


def user(connection: Connection, person_id: int, lock: bool = False) -> UserRow | None:
    """One person, also one that was deleted."""
    query = _USERS.where(people.c.id == person_id)
    return read_one(connection, query.with_for_update(of=people) if lock else query, UserRow)


def lock_user_name(connection: Connection, name: str) -> UserRow | None:
    """The person of a user name, also one that was deleted; their row is locked."""
    query = _USERS.where(func.lower(people.c.user_name) == name.lower())
    return read_one(connection, query.with_for_update(of=people), UserRow)


def add_user(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new person's id."""
    return number(connection, insert(people).values(**values).returning(people.c.id))


def change_user(connection: Connection, person_id: int, values: Mapping[str, Any]) -> None:
    """Set a person's columns and count the revision up."""
    connection.execute(
        update(people)
        .where(people.c.id == person_id)
        .values(**values, revision=people.c.revision + 1)
    )


def group(connection: Connection, group_id: int, lock: bool = False) -> GroupRow | None:
    """One group."""
    query = select(groups).where(groups.c.id == group_id)
    return read_one(connection, query.with_for_update() if lock else query, GroupRow)


def group_of(connection: Connection, name: str) -> GroupRow | None:
    """The group of a name, without regard to case."""
    query = select(groups).where(func.lower(groups.c.name) == name.lower())
    return read_one(connection, query, GroupRow)


def known_people(connection: Connection, ids: Sequence[int]) -> set[int]:
    """Those of the people who are there."""
    return set(
        connection.execute(
            select(people.c.id).where(people.c.id.in_(ids), people.c.gone_at.is_(None))
        ).scalars()
    )


def known_groups(connection: Connection, ids: Sequence[int]) -> set[int]:
    """Those of the groups that are there."""
    return set(connection.execute(select(groups.c.id).where(groups.c.id.in_(ids))).scalars())
