"""Cohorts."""

from __future__ import annotations

from datetime import date
from typing import Literal

from pydantic import ConfigDict, Field

from sortitor.core.cohorts import Cohort as Cohort
from sortitor.schemas.base import Answer, Apply, Request, Time
from sortitor.schemas.documents import Kept
from sortitor.schemas.selection import Selection


class CohortDetail(Cohort, Kept):
    """A cohort; `devices` is right at this moment."""

    model_config = ConfigDict(extra="ignore")

    kind: Literal["filter", "list"]
    moving: bool = Field(description="Whether the mere passing of time moves devices in and out.")
    devices: int = Field(description="How many are in it now.")
    created_by: str
    created_at: Time


class Clause(Answer):
    """One comparison: what was asked, what the device has, whether it matched, and whether the
    answer turns on it.
    """

    text: str
    actual: str
    matched: bool
    decides: bool


class Explained(Answer):
    """Whether a device is in a cohort, and why."""

    inside: bool
    clauses: list[Clause]


class Overlap(Answer):
    """Devices in one of two cohorts, in both, in the other."""

    only_one: int
    both: int
    only_other: int


class Use(Answer):
    """What speaks of a cohort."""

    kind: str
    id: int
    name: str


class DayCount(Answer):
    """How many devices there were on a day."""

    day: date
    devices: int


class ListChange(Request):
    """Devices to put in a list, or to take out of it."""

    selection: Selection
    put_in: bool = True


class ListChangeApply(Apply, ListChange):
    """Change the list as previewed."""
