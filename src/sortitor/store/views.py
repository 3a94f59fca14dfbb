"""Saved views."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, func, or_, select
from sqlalchemy.dialects.postgresql import insert

from sortitor.store.rows import number, read_all
from sortitor.store.tables import accounts, views


@dataclass(frozen=True, slots=True)
class ViewRow:
    """A saved view, and `by` whom."""

    id: int
    account_id: int
    name: str
    shared: bool
    settings: dict[str, Any]
    by: str


def every(connection: Connection, account_id: int | None) -> list[ViewRow]:
    """The account's views and the shared ones, by name."""
    query = select(views, accounts.c.name.label("by")).join(
        accounts, accounts.c.id == views.c.account_id
    )
    seen = query.where(or_(views.c.account_id == account_id, views.c.shared))
    return read_all(connection, seen.order_by(func.lower(views.c.name), views.c.id), ViewRow)


def save(connection: Connection, values: Mapping[str, Any]) -> int:
    """The view's id; the account's view of the same name gives way."""
    statement = insert(views).values(**values)
    given = {name: values[name] for name in ("name", "shared", "settings")}
    return number(
        connection,
        statement.on_conflict_do_update(
            index_elements=[views.c.account_id, func.lower(views.c.name)], set_=given
        ).returning(views.c.id),
    )


def remove(connection: Connection, view_id: int, account_id: int | None) -> bool:
    """Whether there was such a view of the account."""
    return (
        connection.execute(
            views.delete().where(views.c.id == view_id, views.c.account_id == account_id)
        ).rowcount
        == 1
    )
