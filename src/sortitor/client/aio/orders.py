# Made by tools/async_client.py; change the module of the same name one folder up.
"""Orders."""

from __future__ import annotations

from sortitor.client.aio.documents import Documents
from sortitor.schemas import orders as od


class Orders(Documents[od.Order, od.OrderDetail]):
    """Orders: ordered, delivered, arrived, short, over."""

    path = "/orders"
    answer = od.OrderDetail
    model = od.Order
