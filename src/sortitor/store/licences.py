"""Licence pools and the seats they need."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, func, select, update

from sortitor.store.engine import Line
from sortitor.store.tables import pools


def every(connection: Connection) -> Sequence[Line]:
    """Pools by name."""
    return connection.execute(select(pools).order_by(func.lower(pools.c.name))).all()


def one(connection: Connection, pool_id: int, lock: bool = False) -> Line | None:
    """One pool."""
    query = select(pools).where(pools.c.id == pool_id)
    return connection.execute(query.with_for_update() if lock else query).one_or_none()


def add(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new pool's id."""
    return connection.execute(pools.insert().values(**values).returning(pools.c.id)).scalar_one()


def change(connection: Connection, pool_id: int, values: Mapping[str, Any]) -> None:
    """Set a pool's columns and count its revision up."""
    connection.execute(
        update(pools).where(pools.c.id == pool_id).values(**values, revision=pools.c.revision + 1)
    )


def remove(connection: Connection, pool_id: int) -> None:
    """Forget a pool."""
    connection.execute(pools.delete().where(pools.c.id == pool_id))
