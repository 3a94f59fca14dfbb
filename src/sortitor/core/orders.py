"""Orders: what was ordered against what came."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

from sortitor.core.errors import BadInput, FieldProblem


@dataclass(frozen=True, slots=True)
class OrderLine:
    """So many of a product, which is a model or a product code; the price of one, where it is
    known.
    """

    product: str
    quantity: int
    price: Decimal | None = None


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


def product_key(product: str) -> str:
    """What two spellings of a product have in common."""
    return " ".join(product.casefold().split())


def check_lines(lines: Sequence[OrderLine]) -> None:
    """Raise BadInput for a product that stands twice."""
    keys = [product_key(line.product) for line in lines]
    problems = tuple(
        FieldProblem(
            f"/lines/{place}/product",
            "product_twice",
            f"{lines[place].product!r} stands in the order twice.",
        )
        for place, key in enumerate(keys)
        if key in keys[:place]
    )
    if problems:
        raise BadInput("bad_order", problems[0].detail, "Join the two lines into one.", problems)


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
