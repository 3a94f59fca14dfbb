"""What came of orders, and the cohorts that speak of them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import cast

from sqlalchemy import Connection, func, select

from sortitor.store.settling import settle_alone, written
from sortitor.store.tables import devices

#: Model, product code, delivered, arrived.
Came = tuple[str | None, str | None, int, int]

_FEW = 20


def fleet(connection: Connection, names: Sequence[str]) -> dict[str, list[Came]]:
    """What came of the orders of these lower-case names."""
    key = func.lower(devices.c.order_name)
    query = select(
        key.label("name"),
        devices.c.model,
        devices.c.product_code,
        func.count().label("delivered"),
        func.count(devices.c.enrolled_at).label("arrived"),
    )
    # Of many orders it is quicker to go through the fleet once than to look each up.
    of_them = key.in_(names) if len(names) <= _FEW else devices.c.order_name.is_not(None)
    came = query.where(of_them).group_by(key, devices.c.model, devices.c.product_code).subquery()
    parts = func.jsonb_build_array(
        came.c.model, came.c.product_code, came.c.delivered, came.c.arrived
    )
    # A row an order: read one by one, the parts of many orders take as long as counting them.
    by_order = select(came.c.name, func.jsonb_agg(parts)).group_by(came.c.name)
    wanted = frozenset(names)
    found = {row[0]: row[1] for row in connection.execute(by_order) if row[0] in wanted}
    return cast("dict[str, list[Came]]", found)


def refresh_cohorts(connection: Connection, names: Sequence[str]) -> None:
    """Bring cohorts to what is now known of the orders of these names."""
    lower = [name.lower() for name in names]
    touched = select(devices.c.id).where(func.lower(devices.c.order_name).in_(lower))
    settle_alone(connection, written(touched), {"order"})
