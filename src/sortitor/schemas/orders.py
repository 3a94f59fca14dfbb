"""Orders."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

from pydantic import Field

from sortitor.schemas.base import Answer, Name, Request


class OrderLineNew(Request):
    """So many of a product (a model or a product code); the price of one, where it is known."""

    product: Name
    quantity: int = Field(ge=1, le=10_000_000)
    price: Decimal | None = Field(default=None, ge=0, max_digits=14, decimal_places=2)


class OrderNew(Request):
    """An order as it was given to the supplier. Devices belong to it by its name."""

    name: Name
    supplier: Name | None = None
    ordered_on: date | None = None
    note: str | None = Field(default=None, max_length=500)
    lines: list[OrderLineNew] = Field(default=[], max_length=500)


class OrderLine(Answer):
    """One line against the fleet.

    A quantity of 0 is a product that came without having been ordered.
    """

    product: str
    quantity: int
    price: Decimal | None
    delivered: int
    arrived: int
    short: int
    over: int


class Order(Answer):
    """An order with its lines, and their sums."""

    id: int
    revision: int
    name: str
    supplier: str | None
    ordered_on: date | None
    note: str | None
    lines: list[OrderLine]
    ordered: int
    delivered: int
    arrived: int
    short: int
    over: int
