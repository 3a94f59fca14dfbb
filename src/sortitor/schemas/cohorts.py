"""Cohorts, filters and saved views."""

from __future__ import annotations

from datetime import date
from typing import Any, Literal

from pydantic import Field

from sortitor.schemas.base import Answer, Apply, Name, Request, Text, Time
from sortitor.schemas.devices import Selection

FilterText = Field(
    max_length=4_000,
    description=(
        'In the filter language (RFC 7644 §3.4.2.2), such as `site eq "Quillharbour" and platform'
        ' eq "ios"`.'
    ),
)


class CohortNew(Request):
    """A set of devices: by filter, or (without one) by list."""

    name: Name
    filter: str | None = Field(default=None, max_length=4_000)
    note: str | None = Field(default=None, max_length=500)
    digest: str | None = Field(
        default=None,
        description="Of the preview that was looked at; 409 if it would be another now.",
    )
    reason: str | None = Field(default=None, max_length=500)


class CohortFilter(Request):
    """A filter to be looked at, for a new cohort or for one that has another now."""

    filter: str = FilterText
    cohort_id: int | None = None


class Cohort(Answer):
    """A cohort; `devices` is right at this moment.

    A `moving` one changes by the mere passing of time.
    """

    id: int
    revision: int
    name: str
    kind: Literal["filter", "list"]
    filter: str | None
    note: str | None
    moving: bool
    devices: int
    created_by: str
    created_at: Time


class Clause(Answer):
    """One comparison: what was asked, what the device has, whether it held."""

    text: str
    actual: str
    held: bool


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


class FilterGiven(Request):
    """A filter to be read."""

    filter: str = FilterText


class FilterRead(Answer):
    """A filter that can be read: its tree for an editor, and how many devices fit it now."""

    tree: dict[str, Any]
    devices: int
    moving: bool


class Attribute(Answer):
    """What a filter can speak of, and how."""

    name: str
    kind: str
    meaning: str
    operators: list[str]
    words: list[str]
    suggests: bool = Field(description="Whether values can be asked for.")


class ViewSettings(Request):
    """A list of devices as somebody likes to see it."""

    filter: str | None = Field(default=None, max_length=4_000)
    columns: list[Text] = Field(default=[], max_length=40)
    sort: str = Field(default="id", max_length=40)
    descending: bool = False


class ViewNew(Request):
    """A view to be kept; of the same name it takes the place of the former."""

    name: Name
    shared: bool = False
    settings: ViewSettings


class View(Answer):
    """A saved view; `mine` may be removed."""

    id: int
    name: str
    shared: bool
    mine: bool
    by: str
    settings: ViewSettings
