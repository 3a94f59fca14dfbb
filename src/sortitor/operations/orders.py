"""Orders: ordered, delivered, arrived, short, over."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sortitor.core.orders import Order, Tally, tally
from sortitor.core.previews import Count
from sortitor.operations.context import Context
from sortitor.operations.documents import DocumentKind, Effect, Key, Wanted
from sortitor.store import orders as store
from sortitor.store import tables
from sortitor.store.documents import Kept, Shelf
from sortitor.store.engine import Connection


@dataclass(frozen=True, slots=True)
class OrderDetail:
    """An order with its lines against the fleet."""

    kept: Kept[Order]
    lines: list[Tally]


class Orders(DocumentKind[Order]):
    """Orders as documents."""

    def beside(self, ctx: Context, wanted: Wanted[Order]) -> dict[str, Any]:
        """The day of the order, which filters compare."""
        return {"ordered_on": wanted.proposed and wanted.proposed.ordered_on}

    def effect(self, ctx: Context, connection: Connection, wanted: Wanted[Order]) -> Effect:
        """The order's lines against the fleet, as they would be."""
        if wanted.proposed is None:
            assert wanted.former is not None
            lines = _against_the_fleet(connection, [wanted.former.document])[0]
            came = sum(line.delivered for line in lines)
            return Effect(
                counts=(Count("delivered", "devices that keep its name", came),), facts=came
            )
        lines = _against_the_fleet(connection, [wanted.proposed])[0]
        counts = (
            Count("ordered", "ordered", sum(line.quantity for line in lines)),
            Count("delivered", "delivered", sum(line.delivered for line in lines)),
            Count("short", "still to come", sum(line.short for line in lines)),
            Count("over", "beyond the order", sum(line.over for line in lines)),
        )
        return Effect(counts=counts, facts=[count.count for count in counts])

    def written(
        self, ctx: Context, connection: Connection, number: int, wanted: Wanted[Order]
    ) -> None:
        """Cohorts may speak of orders."""
        sides = (wanted.before, wanted.proposed)
        store.refresh_cohorts(connection, [order.name for order in sides if order is not None])


ORDERS = Orders("order", "order", Shelf(Order, tables.orders))


def every(ctx: Context) -> list[OrderDetail]:
    """Orders, newest first, each with its lines."""
    with ctx.reading() as connection:
        kept = sorted(ORDERS.shelf.every(connection), key=lambda one: -one.id)
        return _details(connection, kept)


def one(ctx: Context, key: Key) -> OrderDetail:
    """One order with its lines."""
    with ctx.reading() as connection:
        return _details(connection, [ORDERS.find(connection, key)])[0]


def detail(ctx: Context, kept: Kept[Order]) -> OrderDetail:
    """An order at hand with its lines."""
    with ctx.reading() as connection:
        return _details(connection, [kept])[0]


def _details(connection: Connection, found: Sequence[Kept[Order]]) -> list[OrderDetail]:
    lines = _against_the_fleet(connection, [kept.document for kept in found])
    return [OrderDetail(kept, its) for kept, its in zip(found, lines, strict=True)]


def _against_the_fleet(connection: Connection, orders: Sequence[Order]) -> list[list[Tally]]:
    came = store.fleet(connection, [order.name.lower() for order in orders])
    return [tally(order.lines, came.get(order.name.lower(), [])) for order in orders]
