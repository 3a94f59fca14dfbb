"""Orders: what was ordered against what came."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from functools import lru_cache

from pydantic import Field

from sortitor.core.documents import Day, Document, Name, NamedDocument, Note
from sortitor.core.errors import BadInput, FieldProblem


class OrderLine(Document):
    """So many of a product, which is a model or a product code."""

    product: Name = Field(description="A model or a product code.")
    quantity: int = Field(ge=1, le=10_000_000, description="How many were ordered.")
    price: Decimal | None = Field(
        default=None, ge=0, max_digits=14, decimal_places=2, description="Of one, where known."
    )


class Order(NamedDocument):
    """An order as it was given to the supplier. Devices belong to it by its name."""

    supplier: Name | None = Field(default=None, description="To whom it was given.")
    ordered_on: Day | None = Field(default=None, description="The day of the order.")
    note: Note = Field(default=None, description="Anything else worth knowing.")
    lines: tuple[OrderLine, ...] = Field(
        default=(), max_length=500, description="What was ordered, product by product."
    )

    def check(self) -> None:
        """Raise BadInput for a product that stands twice."""
        keys = [product_key(line.product) for line in self.lines]
        problems = tuple(
            FieldProblem(
                pointer=f"/lines/{place}/product",
                code="product_twice",
                detail=f"{self.lines[place].product!r} stands in the order twice.",
            )
            for place, key in enumerate(keys)
            if key in keys[:place]
        )
        if problems:
            remedy = "Join the two lines into one."
            raise BadInput("bad_order", problems[0].detail, remedy, problems)


@dataclass(frozen=True, slots=True)
class Tally:
    """One line against the fleet: `delivered` by lots (or at the door), of them `arrived`; `short`
    or `over` the quantity.
    """

    product: str
    quantity: int
    price: Decimal | None
    delivered: int
    arrived: int

    @property
    def short(self) -> int:
        """How many are still to come."""
        return max(0, self.quantity - self.delivered)

    @property
    def over(self) -> int:
        """How many came beyond the order."""
        return max(0, self.delivered - self.quantity)


@lru_cache(maxsize=10_000)
def product_key(product: str) -> str:
    """What two spellings of a product have in common."""
    return " ".join(product.casefold().split())


def tally(
    lines: Sequence[OrderLine], fleet: Sequence[tuple[str | None, str | None, int, int]]
) -> list[Tally]:
    """Each line with its counts, then what came without having been ordered (quantity 0).

    fleet: `(model, product code, delivered, arrived)` of the order's devices. A product code
    decides before a model.
    """
    places = {product_key(line.product): place for place, line in enumerate(lines)}
    counts = [[0, 0] for _ in lines]
    unordered: dict[str, list[int]] = {}
    for model, code, delivered, arrived in fleet:
        place = next(
            (
                places[key]
                for name in (code, model)
                if name and (key := product_key(name)) in places
            ),
            None,
        )
        target = (
            counts[place]
            if place is not None
            else unordered.setdefault(model or code or "(no model)", [0, 0])
        )
        target[0] += delivered
        target[1] += arrived
    known = [
        Tally(line.product, line.quantity, line.price, *found)
        for line, found in zip(lines, counts, strict=True)
    ]
    return known + [Tally(product, 0, None, *found) for product, found in sorted(unordered.items())]
