"""Routes: orders."""

from __future__ import annotations

from fastapi import APIRouter, Response

from sortitor.api.access import Coordinator, Viewer
from sortitor.api.etags import IfMatch, revision_of, tag
from sortitor.api.routes import Route
from sortitor.core import orders as core
from sortitor.operations import orders
from sortitor.schemas.orders import Order, OrderLine, OrderNew

router = APIRouter(prefix="/orders", tags=["orders"], route_class=Route)


def _shape(whole: orders.Whole) -> Order:
    lines = [OrderLine.model_validate(line) for line in whole.lines]
    sums = {
        name: sum(getattr(line, name) for line in lines)
        for name in ("delivered", "arrived", "short", "over")
    }
    return Order.model_validate(
        {
            **whole.order._mapping,
            "lines": lines,
            "ordered": sum(line.quantity for line in lines),
            **sums,
        }
    )


def _order(given: OrderNew) -> orders.Order:
    lines = tuple(core.OrderLine(line.product, line.quantity, line.price) for line in given.lines)
    return orders.Order(given.name, given.supplier, given.ordered_on, given.note or None, lines)


@router.get("")
def list_orders(ctx: Viewer) -> list[Order]:
    """Orders, newest first: ordered, delivered, arrived, short, over."""
    return [_shape(whole) for whole in orders.every(ctx)]


@router.get("/{order_id}")
def show_order(response: Response, ctx: Viewer, order_id: int) -> Order:
    """One order, line by line."""
    shown = _shape(orders.one(ctx, order_id))
    tag(response, shown.revision)
    return shown


@router.post("", status_code=201)
def add_order(ctx: Coordinator, given: OrderNew) -> Order:
    """Add an order."""
    return _shape(orders.add(ctx, _order(given)))


@router.put("/{order_id}")
def edit_order(ctx: Coordinator, order_id: int, given: OrderNew, if_match: IfMatch = None) -> Order:
    """Change an order."""
    return _shape(orders.edit(ctx, order_id, _order(given), revision_of(if_match)))


@router.delete("/{order_id}", status_code=204)
def remove_order(ctx: Coordinator, order_id: int) -> None:
    """Remove an order; its devices keep its name."""
    orders.remove(ctx, order_id)
