"""Routes: orders."""

from __future__ import annotations

from sortitor.api.http.documents import Noun, document_router
from sortitor.core.access import Permission
from sortitor.core.orders import Order
from sortitor.operations import orders
from sortitor.operations.context import Context
from sortitor.operations.documents import Kept
from sortitor.schemas.orders import OrderDetail, OrderTally


def _shape(detail: orders.OrderDetail) -> OrderDetail:
    kept, lines = detail.kept, detail.lines
    return OrderDetail(
        **kept.document.model_dump(),
        id=kept.id,
        revision=kept.revision,
        tally=[OrderTally.model_validate(line) for line in lines],
        ordered=sum(line.quantity for line in lines),
        delivered=sum(line.delivered for line in lines),
        arrived=sum(line.arrived for line in lines),
        short=sum(line.short for line in lines),
        over=sum(line.over for line in lines),
        age_seconds=detail.age_seconds,
    )


def _made(ctx: Context, kept: Kept[Order]) -> OrderDetail:
    return _shape(orders.detail(ctx, kept))


router = document_router(
    Noun(
        kind=orders.ORDERS,
        path="/orders",
        tag="orders",
        one="order",
        many="orders",
        answer=OrderDetail,
        every=lambda ctx: [_shape(detail) for detail in orders.every(ctx)],
        find=lambda ctx, key: _shape(orders.one(ctx, key)),
        shape=_made,
        may=Permission.IMPORT,
    )
)
