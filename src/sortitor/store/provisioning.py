"""People and groups as resources that an identity provider pushes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from scim2_models import ScimFilter
from scim2_models.path import AttributeBinding
from sqlalchemy import Connection, Select, Table, func, insert, select, update

from sortitor.store.engine import Line
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


def users(connection: Connection, asked: Asked) -> tuple[Sequence[Line], int]:
    """People whom the provider has not deleted, each with `groups` as `[{id, name}]`, and how many
    there are in all.
    """
    return _page(
        connection, "User", people, select(people, _inside).where(people.c.gone_at.is_(None)), asked
    )


def group_page(connection: Connection, asked: Asked) -> tuple[Sequence[Line], int]:
    """Groups, and how many there are in all."""
    return _page(connection, "Group", groups, select(groups), asked)


def _page(
    connection: Connection, kind: str, table: Table, query: Select[Any], asked: Asked
) -> tuple[Sequence[Line], int]:
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
    return connection.execute(page).all(), total


def user(connection: Connection, person_id: int, lock: bool = False) -> Line | None:
    """One person, also one that was deleted."""
    query = select(people, _inside).where(people.c.id == person_id)
    return connection.execute(query.with_for_update(of=people) if lock else query).one_or_none()


def by_user_name(connection: Connection, name: str) -> Line | None:
    """The person of a user name, also one that was deleted; held."""
    return connection.execute(
        select(people).where(func.lower(people.c.user_name) == name.lower()).with_for_update()
    ).one_or_none()


def add_user(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new person's id."""
    return connection.execute(insert(people).values(**values).returning(people.c.id)).scalar_one()


def change_user(connection: Connection, person_id: int, values: Mapping[str, Any]) -> None:
    """Set a person's columns and count the revision up."""
    connection.execute(
        update(people)
        .where(people.c.id == person_id)
        .values(**values, revision=people.c.revision + 1)
    )


def group_of(connection: Connection, name: str) -> Line | None:
    """The group of a name, without regard to case."""
    return connection.execute(
        select(groups).where(func.lower(groups.c.name) == name.lower())
    ).one_or_none()


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
