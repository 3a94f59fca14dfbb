"""People and groups as resources that an identity provider pushes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import ColumnElement, Connection, and_, func, insert, select, true, update

from sortitor.store.engine import Line
from sortitor.store.tables import groups, memberships, people

#: Attributes that are looked up by equality all the time, with the column that has an index for it.
USER_KEYS: dict[str, ColumnElement[Any]] = {"username": func.lower(people.c.user_name), "externalid": people.c.pushed["externalId"].astext, "emails.value": func.lower(people.c.mail), "emails": func.lower(people.c.mail)}
GROUP_KEYS: dict[str, ColumnElement[Any]] = {"displayname": func.lower(groups.c.name), "externalid": groups.c.external_id}

_inside = (
    select(func.coalesce(func.jsonb_agg(func.jsonb_build_object("id", groups.c.id, "name", groups.c.name)), func.jsonb_build_array()))
    .join(memberships, memberships.c.group_id == groups.c.id).where(memberships.c.person_id == people.c.id).correlate(people).scalar_subquery().label("groups")
)  # fmt: skip


def users(connection: Connection, key: tuple[str, str] | None, after: int, offset: int, limit: int | None) -> Sequence[Line]:
    """People whom the provider has not deleted, by number, each with `groups` as `[{id, name}]`."""
    query = select(people, _inside).where(_users(key), people.c.id > after).order_by(people.c.id).offset(offset)
    return connection.execute(query if limit is None else query.limit(limit)).all()


def count_users(connection: Connection, key: tuple[str, str] | None) -> int:
    """How many there are."""
    return connection.execute(select(func.count()).select_from(people).where(_users(key))).scalar_one()


def _users(key: tuple[str, str] | None) -> ColumnElement[bool]:
    return and_(people.c.gone_at.is_(None), _equal(USER_KEYS, key))


def _equal(keys: Mapping[str, ColumnElement[Any]], key: tuple[str, str] | None) -> ColumnElement[bool]:
    if key is None:
        return true()
    name, value = key
    return keys[name] == (value if name == "externalid" else value.lower())


def user(connection: Connection, person_id: int, lock: bool = False) -> Line | None:
    """One person, also one that was deleted."""
    query = select(people, _inside).where(people.c.id == person_id)
    return connection.execute(query.with_for_update(of=people) if lock else query).one_or_none()


def by_user_name(connection: Connection, name: str) -> Line | None:
    """The person of a user name, also one that was deleted; held."""
    return connection.execute(select(people).where(func.lower(people.c.user_name) == name.lower()).with_for_update()).one_or_none()


def add_user(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new person's id."""
    return connection.execute(insert(people).values(**values).returning(people.c.id)).scalar_one()


def change_user(connection: Connection, person_id: int, values: Mapping[str, Any]) -> None:
    """Set a person's columns and count the revision up."""
    connection.execute(update(people).where(people.c.id == person_id).values(**values, revision=people.c.revision + 1))


def group_page(connection: Connection, key: tuple[str, str] | None, after: int, offset: int, limit: int | None) -> Sequence[Line]:
    """Groups by number."""
    query = select(groups).where(_equal(GROUP_KEYS, key), groups.c.id > after).order_by(groups.c.id).offset(offset)
    return connection.execute(query if limit is None else query.limit(limit)).all()


def count_groups(connection: Connection, key: tuple[str, str] | None) -> int:
    """How many there are."""
    return connection.execute(select(func.count()).select_from(groups).where(_equal(GROUP_KEYS, key))).scalar_one()


def known_people(connection: Connection, ids: Sequence[int]) -> set[int]:
    """Those of the people who are there."""
    return set(connection.execute(select(people.c.id).where(people.c.id.in_(ids), people.c.gone_at.is_(None))).scalars())


def known_groups(connection: Connection, ids: Sequence[int]) -> set[int]:
    """Those of the groups that are there."""
    return set(connection.execute(select(groups.c.id).where(groups.c.id.in_(ids))).scalars())
