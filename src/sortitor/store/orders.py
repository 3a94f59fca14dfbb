"""Orders and what came of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, func, insert, select, update

from sortitor.store.cohorts import settle_leaning, written
from sortitor.store.engine import Line
from sortitor.store.tables import devices, order_lines, orders


def every(connection: Connection) -> Sequence[Line]:
    """Orders, newest first."""
    return connection.execute(select(orders).order_by(orders.c.id.desc())).all()


def one(connection: Connection, order_id: int, lock: bool = False) -> Line | None:
    """One order."""
    query = select(orders).where(orders.c.id == order_id)
    return connection.execute(query.with_for_update() if lock else query).one_or_none()


def lines(connection: Connection, order_ids: Sequence[int]) -> Sequence[Line]:
    """`order_id, product, quantity, price` of orders, in their order."""
    return connection.execute(
        select(order_lines)
        .where(order_lines.c.order_id.in_(order_ids))
        .order_by(order_lines.c.order_id, order_lines.c.place)
    ).all()


def fleet(connection: Connection, names: Sequence[str]) -> Sequence[Line]:
    """`order_key, model, product_code, delivered, arrived` of the devices of these orders (by
    lower-case name).
    """
    key = func.lower(devices.c.order_name)
    query = select(
        key.label("order_key"),
        devices.c.model,
        devices.c.product_code,
        func.count().label("delivered"),
        func.count(devices.c.enrolled_at).label("arrived"),
    )
    return connection.execute(
        query.where(key.in_(names)).group_by(key, devices.c.model, devices.c.product_code)
    ).all()


def add(
    connection: Connection, values: Mapping[str, Any], given: Sequence[Mapping[str, Any]]
) -> int:
    """A new order's id."""
    order_id = connection.execute(
        insert(orders).values(**values).returning(orders.c.id)
    ).scalar_one()
    _write_lines(connection, order_id, given)
    _settle(connection, [values["name"]])
    return order_id


def change(
    connection: Connection,
    order_id: int,
    values: Mapping[str, Any],
    given: Sequence[Mapping[str, Any]],
) -> None:
    """Set an order's columns and lines, and count its revision up."""
    former = connection.execute(select(orders.c.name).where(orders.c.id == order_id)).scalar_one()
    connection.execute(
        update(orders)
        .where(orders.c.id == order_id)
        .values(**values, revision=orders.c.revision + 1)
    )
    connection.execute(order_lines.delete().where(order_lines.c.order_id == order_id))
    _write_lines(connection, order_id, given)
    _settle(connection, [former, values["name"]])


def _settle(connection: Connection, names: Sequence[str]) -> None:
    """Bring cohorts to what is now known of the orders of these names."""
    touched = select(devices.c.id).where(
        func.lower(devices.c.order_name).in_([name.lower() for name in names])
    )
    settle_leaning(connection, written(touched), {"order"})


def _write_lines(connection: Connection, order_id: int, given: Sequence[Mapping[str, Any]]) -> None:
    if given:
        connection.execute(
            insert(order_lines),
            [{**line, "order_id": order_id, "place": place} for place, line in enumerate(given, 1)],
        )


def remove(connection: Connection, order_id: int) -> None:
    """Forget an order; its devices keep its name."""
    name = connection.execute(
        orders.delete().where(orders.c.id == order_id).returning(orders.c.name)
    ).scalar_one()
    _settle(connection, [name])
