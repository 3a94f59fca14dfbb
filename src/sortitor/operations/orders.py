"""Orders: ordered, delivered, arrived, short, over."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sortitor.core.orders import Order, Tally, tally
from sortitor.core.previews import Count
from sortitor.operations import kept_numbers
from sortitor.operations.context import Context
from sortitor.operations.documents import DocumentKind, Effect, Key, Wanted
from sortitor.operations.kept_numbers import Counting
from sortitor.store import orders as store
from sortitor.store import tables
from sortitor.store.documents import Kept, Shelf
from sortitor.store.engine import Connection

#: Order in lower case → what of it is in the fleet.
Came = dict[str, list[store.Came]]


@dataclass(frozen=True, slots=True)
class OrderDetail:
    """An order with its lines against the fleet, as they were so many seconds ago."""

    kept: Kept[Order]
    lines: list[Tally]
    age_seconds: int = 0


class Orders(DocumentKind[Order]):
    """Orders as documents."""

    def beside(self, ctx: Context, wanted: Wanted[Order]) -> dict[str, Any]:
        """The day of the order, which filters compare."""
        return {"ordered_on": wanted.proposed and wanted.proposed.ordered_on}

    def effect(self, ctx: Context, connection: Connection, wanted: Wanted[Order]) -> Effect:
        """The order's lines against the fleet, as they would be."""
        if wanted.proposed is None:
            assert wanted.former is not None
            lines = _against_the_fleet(connection, wanted.former.document)
            came = sum(line.delivered for line in lines)
            return Effect(
                counts=(Count("delivered", "devices that keep its name", came),), facts=came
            )
        lines = _against_the_fleet(connection, wanted.proposed)
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
    """Orders, newest first, each with its lines; of a large fleet as they were counted last."""
    with ctx.reading() as connection:
        kept = sorted(ORDERS.shelf.every(connection), key=lambda one: -one.id)
    orders = [one.document for one in kept]
    counting = _counting(orders)
    counted = kept_numbers.known(ctx, [counting])
    came: Came = counted[counting.family]
    fresh = [order for order in orders if order.name.lower() not in came]
    with ctx.reading() as connection:
        came |= _came(connection, fresh)
    return [OrderDetail(one, _lines(one.document, came), counted.age_seconds) for one in kept]


def keep_up(ctx: Context) -> None:
    """Count anew what came of the orders of a large fleet; by schedule."""
    with ctx.reading() as connection:
        kept = ORDERS.shelf.every(connection)
    kept_numbers.keep_up(ctx, [_counting([one.document for one in kept])])


def _counting(orders: Sequence[Order]) -> Counting:
    """What came of the orders: each that is counted is told, whatever the others are by then."""

    def count(ctx: Context) -> Came:
        with ctx.reading() as connection:
            return _came(connection, orders)

    return Counting("orders", count)


def one(ctx: Context, key: Key) -> OrderDetail:
    """One order with its lines."""
    with ctx.reading() as connection:
        return _detail(connection, ORDERS.find(connection, key))


def detail(ctx: Context, kept: Kept[Order]) -> OrderDetail:
    """An order at hand with its lines."""
    with ctx.reading() as connection:
        return _detail(connection, kept)


def _detail(connection: Connection, kept: Kept[Order]) -> OrderDetail:
    return OrderDetail(kept, _against_the_fleet(connection, kept.document))


def _against_the_fleet(connection: Connection, order: Order) -> list[Tally]:
    return _lines(order, _came(connection, [order]))


def _lines(order: Order, came: Came) -> list[Tally]:
    return tally(order.lines, came[order.name.lower()])


def _came(connection: Connection, orders: Sequence[Order]) -> Came:
    names = [order.name.lower() for order in orders]
    return {**{name: [] for name in names}, **store.fleet(connection, names)}
