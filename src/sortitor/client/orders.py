"""Orders."""

from __future__ import annotations

from sortitor.client.documents import Documents
from sortitor.schemas import orders as od


class Orders(Documents[od.Order, od.OrderDetail]):
    """Orders: ordered, delivered, arrived, short, over."""

    path = "/orders"
    answer = od.OrderDetail
    model = od.Order
