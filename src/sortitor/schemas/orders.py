"""Orders."""

from __future__ import annotations

from decimal import Decimal

from pydantic import ConfigDict, Field

from sortitor.core.orders import Order as Order
from sortitor.core.orders import OrderLine as OrderLine
from sortitor.schemas.base import Answer
from sortitor.schemas.documents import Kept


class OrderTally(Answer):
    """One line against the fleet.

    A quantity of 0 is a product that came without having been ordered.
    """

    product: str
    quantity: int
    price: Decimal | None
    delivered: int = Field(description="Devices that lots, or arrivals, brought.")
    arrived: int = Field(description="Of them arrived.")
    short: int = Field(description="Still to come.")
    over: int = Field(description="Beyond the order.")


class OrderDetail(Order, Kept):
    """An order with its lines against the fleet, and their sums."""

    model_config = ConfigDict(extra="ignore")

    tally: list[OrderTally]
    ordered: int
    delivered: int
    arrived: int
    short: int
    over: int
    age_seconds: int = Field(
        description="So many seconds ago what came of it was counted; 0: for this answer."
    )
