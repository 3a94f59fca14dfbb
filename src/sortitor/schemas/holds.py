"""Holds: what is kept out of sweeps."""

from __future__ import annotations

from pydantic import Field

from sortitor.core.documents import Day, Text
from sortitor.schemas.base import Request
from sortitor.schemas.selection import Selection
from sortitor.schemas.sweeps import Hold as Hold


class HoldNew(Request):
    """What is to be held, which is exactly one of `selection`, `person` and `cohort`; why, and
    until when.
    """

    selection: Selection | None = Field(default=None, description="These very devices.")
    person: int | str | None = Field(
        default=None,
        description="All devices of a person, by number, user name or mail; later ones too.",
    )
    cohort: int | str | None = Field(
        default=None, description="The members of a cohort, by number or name; later ones too."
    )
    reason: Text
    from_on: Day | None = Field(default=None, description="Its first day; null: today.")
    until_on: Day = Field(description="Its last day.")
    owner: Text | None = Field(default=None, description="Who answers for it; null: you.")


class HoldApply(HoldNew):
    """The same, as previewed."""

    digest: str


class HoldEnd(Request):
    """End a hold now; `device_id`: only for this one of the devices that it names."""

    device_id: int | None = None
    reason: Text | None = None
