"""What came of orders, and the cohorts that speak of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import Connection, func, select

from sortitor.store.rows import read_all
from sortitor.store.settling import settle_alone, written
from sortitor.store.tables import devices


@dataclass(frozen=True, slots=True)
class DeliveredRow:
    """So many devices of a model and product code came by an order (its lower-case name)."""

    order_key: str
    model: str | None
    product_code: str | None
    delivered: int
    arrived: int


_FEW = 20


def fleet(connection: Connection, names: Sequence[str]) -> list[DeliveredRow]:
    """What came of the orders of these lower-case names."""
    key = func.lower(devices.c.order_name)
    query = select(
        key.label("order_key"),
        devices.c.model,
        devices.c.product_code,
        func.count().label("delivered"),
        func.count(devices.c.enrolled_at).label("arrived"),
    )
    # Of many orders it is quicker to go through the fleet once than to look each up.
    of_them = key.in_(names) if len(names) <= _FEW else devices.c.order_name.is_not(None)
    grouped = query.where(of_them).group_by(key, devices.c.model, devices.c.product_code)
    wanted = frozenset(names)
    found = read_all(connection, grouped, DeliveredRow)
    return [row for row in found if row.order_key in wanted]


def refresh_cohorts(connection: Connection, names: Sequence[str]) -> None:
    """Bring cohorts to what is now known of the orders of these names."""
    lower = [name.lower() for name in names]
    touched = select(devices.c.id).where(func.lower(devices.c.order_name).in_(lower))
    settle_alone(connection, written(touched), {"order"})
