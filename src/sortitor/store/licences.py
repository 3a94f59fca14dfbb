"""Licence pools and the seats they need."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import ColumnElement, Connection, and_, func, or_, select, type_coerce, update
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.sql.elements import NamedColumn
from sqlalchemy.types import Text

from sortitor.core.lifecycle import SEATED
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Stage
from sortitor.store.engine import Line
from sortitor.store.tables import devices, pools


def _any_of(values: NamedColumn[Any], column: ColumnElement[Any]) -> ColumnElement[bool]:
    """An empty list holds everything."""
    return or_(func.cardinality(values) == 0, column == func.any(type_coerce(values, ARRAY(Text))))


_NEEDS = and_(
    or_(devices.c.stage.in_(SEATED), and_(pools.c.awaited_too, devices.c.stage == Stage.AWAITED)),
    _any_of(pools.c.platforms, devices.c.platform), _any_of(pools.c.ownerships, devices.c.ownership),
)  # fmt: skip

_NEEDED = select(func.count()).select_from(devices).where(_NEEDS).correlate(pools).scalar_subquery().label("needed")


def every(connection: Connection) -> Sequence[Line]:
    """Pools by name, each with the seats `needed`."""
    return connection.execute(select(pools, _NEEDED).order_by(func.lower(pools.c.name))).all()


def one(connection: Connection, pool_id: int, lock: bool = False) -> Line | None:
    """One pool with the seats `needed`."""
    query = select(pools, _NEEDED).where(pools.c.id == pool_id)
    return connection.execute(query.with_for_update(of=pools) if lock else query).one_or_none()


def selection(pool: Line) -> Selection:
    """The devices that take a seat of the pool."""
    stages = (*SEATED, Stage.AWAITED) if pool.awaited_too else SEATED
    return Selection(stages=stages, platforms=tuple(pool.platforms), ownerships=tuple(pool.ownerships))


def add(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new pool's id."""
    return connection.execute(pools.insert().values(**values).returning(pools.c.id)).scalar_one()


def change(connection: Connection, pool_id: int, values: Mapping[str, Any]) -> None:
    """Set a pool's columns and count its revision up."""
    connection.execute(update(pools).where(pools.c.id == pool_id).values(**values, revision=pools.c.revision + 1))


def remove(connection: Connection, pool_id: int) -> None:
    """Forget a pool."""
    connection.execute(pools.delete().where(pools.c.id == pool_id))
