"""Orders: ordered, delivered, arrived, short, over."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

from sqlalchemy import Connection

from sortitor.core import orders as core
from sortitor.core.errors import Stale
from sortitor.operations.context import Context, must
from sortitor.store import orders as store
from sortitor.store.engine import Line


@dataclass(frozen=True, slots=True)
class Order:
    """What is stated of an order."""

    name: str
    supplier: str | None
    ordered_on: date | None
    note: str | None
    lines: tuple[core.OrderLine, ...]


@dataclass(frozen=True, slots=True)
class Whole:
    """An order with its lines against the fleet."""

    order: Line
    lines: list[core.Tally]


def every(ctx: Context) -> list[Whole]:
    """Orders, newest first, each with its lines."""
    with ctx.reading() as connection:
        return _whole(connection, store.every(connection))


def one(ctx: Context, order_id: int) -> Whole:
    """One order with its lines."""
    with ctx.reading() as connection:
        return _whole(connection, [must(store.one(connection, order_id), "order", order_id)])[0]


def _whole(connection: Connection, found: Sequence[Line]) -> list[Whole]:
    lines = store.lines(connection, [order.id for order in found])
    fleet = store.fleet(connection, [order.name.lower() for order in found])
    return [
        Whole(
            order,
            core.tally(
                [
                    core.OrderLine(line.product, line.quantity, line.price)
                    for line in lines
                    if line.order_id == order.id
                ],
                [
                    (row.model, row.product_code, row.delivered, row.arrived)
                    for row in fleet
                    if row.order_key == order.name.lower()
                ],
            ),
        )
        for order in found
    ]


def _parts(order: Order) -> tuple[dict[str, Any], list[dict[str, Any]]]:
    core.check_lines(order.lines)
    head = {
        "name": order.name,
        "supplier": order.supplier,
        "ordered_on": order.ordered_on,
        "note": order.note,
    }
    return head, [
        {"product": line.product, "quantity": line.quantity, "price": line.price}
        for line in order.lines
    ]


def document(connection: Connection, order_id: int) -> dict[str, Any] | None:
    """The order as the journal keeps it."""
    head = store.one(connection, order_id, lock=True)
    if head is None:
        return None
    lines = [
        {
            "product": line.product,
            "quantity": line.quantity,
            "price": None if line.price is None else str(line.price),
        }
        for line in store.lines(connection, [order_id])
    ]
    return {
        "name": head.name,
        "supplier": head.supplier,
        "ordered_on": None if head.ordered_on is None else str(head.ordered_on),
        "note": head.note,
        "lines": lines,
    }


def add(ctx: Context, order: Order) -> Whole:
    """A new order."""
    head, lines = _parts(order)
    with ctx.changing() as connection:
        order_id = store.add(connection, head, lines)
        ctx.record(
            connection,
            "order.add",
            "order",
            f"Order {order.name} added",
            subject_id=order_id,
            after=document(connection, order_id),
        )
        return _whole(connection, [must(store.one(connection, order_id), "order", order_id)])[0]


def edit(ctx: Context, order_id: int, order: Order, revision: int | None) -> Whole:
    """Change an order; `revision` (If-Match) must be the one that was read."""
    head, lines = _parts(order)
    with ctx.changing() as connection:
        known = must(store.one(connection, order_id, lock=True), "order", order_id)
        if revision is not None and revision != known.revision:
            raise Stale("the order")
        before = document(connection, order_id)
        store.change(connection, order_id, head, lines)
        ctx.record(
            connection,
            "order.edit",
            "order",
            f"Order {order.name} changed",
            subject_id=order_id,
            before=before,
            after=document(connection, order_id),
        )
        return _whole(connection, [must(store.one(connection, order_id), "order", order_id)])[0]


def remove(ctx: Context, order_id: int) -> None:
    """Remove an order; a revert brings it back, and its devices keep its name."""
    with ctx.changing() as connection:
        before = must(document(connection, order_id), "order", order_id)
        store.remove(connection, order_id)
        ctx.record(
            connection,
            "order.remove",
            "order",
            f"Order {before['name']} removed",
            subject_id=order_id,
            before=before,
        )
