"""Licence pools, vouchers and their outcomes."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

from pydantic import ConfigDict, Field

from sortitor.core.licences.pools import Pool as Pool
from sortitor.core.vocabulary import Act, Outcome, PoolState, Stage
from sortitor.schemas.base import Answer, Apply, Request, Time
from sortitor.schemas.documents import Kept


class PoolDetail(Pool, Kept):
    """A pool with the seats it needs; the count's devices are at `/devices?pool=ID`."""

    model_config = ConfigDict(extra="ignore")

    needed: int = Field(description="Seats that devices need now.")
    state: PoolState
    held: int = Field(description="Seats that count today: those without an end and of vouchers.")
    in_grace: int = Field(description="Those of them that have ended and still count.")
    free: int = Field(description="Seats that nothing takes.")
    ends_on: date | None = Field(description="The first day without the next seats that end.")
    ended_on: date | None = Field(description="The last day on which seats ended.")
    lasts_on: date | None = Field(description="The last day of grace of those that have ended.")
    seat_days: int | None = Field(
        description="Where all seats end together: seat-days that are left, exactly."
    )


class VoucherText(Request):
    """A voucher in whatever text it came: pasted, a file, a mail."""

    text: str = Field(min_length=1, max_length=200_000)


class PoolNamed(Answer):
    """A pool by its name."""

    id: int
    name: str


class Grant(Answer):
    """A voucher that was used; reverting its journal entry (`entry_id`) takes it back."""

    id: int
    pool_id: int
    issuer: str = Field(description="Who made it, as the voucher says.")
    issuer_name: str = Field(description="The source that has the issuer's keys.")
    voucher: str = Field(description="Its number, as the issuer gave it.")
    used_as: str = Field(
        description="The number it is booked under: another one each time it was taken back."
    )
    token: str = Field(description="The voucher itself.")
    product: str
    trial: bool
    act: Act
    seats: int
    days: int
    granted_on: date
    at: Time
    by: str
    reason: str | None
    entry_id: int
    reverted_at: Time | None
    reverted_by: str | None


class Voucher(Answer):
    """What a voucher is, before it is used."""

    number: str
    used_as: str = Field(description="The number under which it is, or would be, booked.")
    source_id: int
    issuer: str = Field(description="The source whose key has signed it.")
    made_at: Time
    product: str
    seats: int
    days: int
    trial: bool
    words: str = Field(description="All of it in a sentence.")
    pools: list[PoolNamed] = Field(description="The pools that it is for.")
    booked: Grant | None = Field(description="Where it is booked already.")


class PoolOutcome(Answer):
    """What a pool is, or would be after a voucher was used one way."""

    act: Act
    state: PoolState
    held: int
    in_grace: int
    ends_on: date | None
    whole_days: int | None = Field(
        description="Whole days that are left; the rest stays in the books."
    )
    seat_days: int = Field(description="Seat-days that are left, exactly.")
    moved_days: int | None = Field(description="By how many days the end moves.")
    uncovered: int = Field(description="Devices without a seat today.")
    uncovered_on: date | None = Field(description="The first day on which some have none.")
    without: int = Field(description="Device-days without a seat, until the day compared to.")
    unused: int = Field(description="Seat-days that nothing takes, until then.")


class SeatTaker(Answer):
    """A device that takes a seat, and since when it is in use."""

    id: int
    name: str | None
    serial: str | None
    stage: Stage
    site: str | None
    person_name: str | None
    since: Time


class Comparison(Answer):
    """Both outcomes of a voucher beside the present."""

    voucher: Voucher
    needed: int
    now: PoolOutcome
    outcomes: list[PoolOutcome]
    gained: int = Field(description="The voucher's seat-days, the same each way.")
    until: date = Field(description="The day up to which days without a seat are counted.")
    best: Act = Field(description="What leaves the fewest device-days without a seat.")
    latest: list[SeatTaker] = Field(
        description="Devices that took a seat last: without one where seats are too few."
    )


class GrantAsked(VoucherText):
    """A voucher, and how it is to be used."""

    act: Act


class GrantApply(Apply, GrantAsked):
    """Use it as previewed."""


class PoolDay(Answer):
    """One day of a pool, as known or expected."""

    day: date
    seats: int
    in_grace: int
    needed: int


class WayBack(Answer):
    """One way to have seats for everybody."""

    code: str
    words: str
    seats: int = Field(description="How many seats it frees or brings.")
    page: str = Field(description="The console's page on which it is previewed.")


class TurnedAway(Answer):
    """How many arrivals of 90 days found no seat, by what became of them."""

    outcome: Outcome
    number: int


class PoolCourse(Answer):
    """A pool over time, with the day on which it turns short."""

    today: date
    people: int = Field(description="How many people have its devices.")
    days: list[PoolDay]
    came: int = Field(description="Devices that came in 90 days.")
    went: int = Field(description="Devices that went in 90 days.")
    awaited: int = Field(description="Devices that will take a seat when they arrive.")
    usual_days: int = Field(description="In how many days awaited devices usually came.")
    short_on: date | None = Field(description="The day it turns short; null: not in 400 days.")
    short_of: int
    short_by_end: bool = Field(description="Because seats end, not because devices come.")
    ways: list[WayBack]
    turned_away: list[TurnedAway]


class PoolMonth(Answer):
    """One pool in one month; numbers are those of its last day."""

    pool_id: int
    pool: str
    state: PoolState
    needed: int
    seats: int
    came: int
    went: int
    vouchers: list[Grant]
    ends_on: date | None
    cost: Decimal | None
    currency: str | None


class LicenceReport(Answer):
    """A month of every pool."""

    first_on: date
    last_on: date
    pools: list[PoolMonth]
