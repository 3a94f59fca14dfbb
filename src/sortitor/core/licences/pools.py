"""Licence pools: who needs a seat, how many seats there are, and what that means."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from pydantic import Field

from sortitor.core.documents import FilterText, NamedDocument, Note
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.filters import Filter, all_of, lower, matches, one_of, parse
from sortitor.core.licences.books import Course
from sortitor.core.lifecycle import SEATED
from sortitor.core.vocabulary import PoolState, Shortage, Stage, Term

MOST_SEATS = 100_000_000


class Pool(NamedDocument):
    """A licence product: the seats that there are, and which devices need one."""

    seats: int = Field(
        default=0,
        ge=0,
        le=MOST_SEATS,
        description="Seats that have no end, beside those of vouchers.",
    )
    filter: FilterText = Field(
        default=None, description="Which devices need a seat, in the filter language; empty: all."
    )
    awaited_too: bool = Field(
        default=False, description="Whether devices that have not arrived take a seat too."
    )
    product: Note = Field(
        default=None,
        description="The product of its vouchers, as the issuer calls it; empty: the pool's name.",
    )
    term: Term = Field(
        default=Term.SHARED,
        description="Whether all seats of vouchers end together, or each voucher's by themselves.",
    )
    grace_days: int = Field(
        default=0, ge=0, le=365, description="For how many days seats still count after their end."
    )
    when_short: Shortage = Field(
        default=Shortage.ADMIT,
        description="What becomes of a device that arrives and finds no free seat.",
    )
    price: Decimal | None = Field(
        default=None,
        ge=0,
        le=1_000_000,
        decimal_places=4,
        description="What a seat costs in a month, for reports.",
    )
    currency: str | None = Field(
        default=None, pattern="^[A-Z]{3}$", description="In which currency (ISO 4217), such as EUR."
    )

    def check(self) -> None:
        """Raise BadInput for a filter that cannot be read, or a price without its currency."""
        if self.filter:
            parse(self.filter)
        if (self.price is None) != (self.currency is None):
            detail = "A price and its currency go together."
            problem = FieldProblem("/currency", "price_and_currency", detail)
            raise BadInput("price_and_currency", detail, "Give both, or neither.", (problem,))


def needing(pool: Pool) -> Filter:
    """The devices that take a seat of the pool, as a filter."""
    return needing_by(pool.filter, pool.awaited_too)


def needing_by(filter_text: str | None, awaited_too: bool) -> Filter:
    """The same by what a pool says of them."""
    stages = (*SEATED, Stage.AWAITED) if awaited_too else SEATED
    return all_of(one_of("stage", stages), parse(filter_text) if filter_text else None)


def needs_seat(pool: Pool, device: Mapping[str, Any]) -> bool:
    """Whether one device (attribute → value) takes a seat of the pool."""
    return matches(needing(pool), device)[0]


def is_for(pool: Pool, product: str) -> bool:
    """Whether vouchers of a product are for the pool."""
    return lower(product.strip()) == lower((pool.product or pool.name).strip())


@dataclass(frozen=True, slots=True)
class Standing:
    """The seats of a pool on one day.

    firm:     seats without an end, and those of vouchers that have not ended
    in_grace: seats that have ended and still count
    ends_on:  the next day on which seats go for want of time; None: none do
    ended_on: the last such day that has passed; None: there was none
    lasts_on: the last day of grace that is still to come; None: nothing is in grace
    """

    firm: int
    in_grace: int
    ends_on: date | None = None
    ended_on: date | None = None
    lasts_on: date | None = None

    @property
    def seats(self) -> int:
        """All that count."""
        return self.firm + self.in_grace


def standing_on(pool: Pool, course: Course, day: date) -> Standing:
    """What seats a pool has on a day."""
    firm = pool.seats + course.seats_on(day)
    seats = pool.seats + course.seats_on(day, pool.grace_days)
    coming, past = course.ends_after(day), course.ended_by(day)
    in_grace = max(0, seats - firm)
    return Standing(
        firm=firm,
        in_grace=in_grace,
        ends_on=coming[0] if coming else None,
        ended_on=past[-1] if past else None,
        lasts_on=past[-1] + timedelta(pool.grace_days - 1) if in_grace and past else None,
    )


def state_of(pool: Pool, standing: Standing, needed: int) -> PoolState:
    """What so many needed seats mean on that day."""
    if needed <= standing.firm:
        is_over = standing.ended_on and not standing.ends_on and standing.firm == 0
        if not is_over:
            return PoolState.COVERED
        return PoolState.GRACE if standing.in_grace else PoolState.LAPSED
    if needed <= standing.seats:
        return PoolState.GRACE
    has_lapsed = standing.ended_on is not None and standing.seats == pool.seats
    return PoolState.LAPSED if has_lapsed else PoolState.SHORT
