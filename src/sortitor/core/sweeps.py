"""Sweeps: which devices went quiet for too long, and when a sweep must stop and ask."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, tzinfo
from statistics import median
from typing import Any

from pydantic import Field, model_validator

from sortitor.core.documents import FilterText, Name, NamedDocument
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.filters import Filter, all_of, lower, one_of, parse
from sortitor.core.lifecycle import SWEPT
from sortitor.core.mails import check_address

#: Bounds of an idle window in days, where the installation's settings give no others.
WINDOW_DAYS = (21, 400)


MOST_HOURS = 24 * 7


class Rule(NamedDocument):
    """Who is watched, and after how many days without a sign of life a device is dormant, and
    retired. Of several rules that watch one device the one with the longest window counts.
    """

    idle_window_days: int = Field(
        description="Days without a sign of life, then it is dormant, or retired at once."
    )
    filter: FilterText = Field(
        default=None, description="Whom it watches, in the filter language; empty: every device."
    )
    dormant_days: int = Field(
        default=0,
        ge=0,
        le=365,
        description=(
            "Days for which a quiet device is dormant, with a mail to its person, before it is"
            " retired; 0: it is retired at once."
        ),
    )
    remind_days: int = Field(
        default=0,
        ge=0,
        le=364,
        description="So many days before it is retired the mail goes out again; 0: it does not.",
    )
    retention_days: int = Field(
        default=0,
        ge=0,
        le=3650,
        description=(
            "Days after which a retired device is erased for ever, by the rule's own runs; 0: it is"
            " kept."
        ),
    )
    contacts: tuple[Name, ...] = Field(
        default=(),
        max_length=100,
        description=(
            "Who hears of it beside the device's person: SITE=ADDRESS, or an address for all sites."
        ),
    )
    every_hours: int | None = Field(
        default=None,
        ge=1,
        le=MOST_HOURS,
        description="Hours from run to run; empty: it runs only by hand.",
    )
    brake_percent: int = Field(
        default=5, description="A run by itself that would take a greater share stops and asks."
    )

    @model_validator(mode="before")
    @classmethod
    def _as_it_was(cls, given: Any) -> Any:
        """`daily` is what rules in the journal say that were kept before there were hours."""
        if isinstance(given, dict) and "daily" in given:
            daily = given["daily"]
            given = {name: value for name, value in given.items() if name != "daily"}
            if daily is True:
                given.setdefault("every_hours", 24)
        return given

    def check(self) -> None:
        """Raise BadInput for a filter that cannot be read, a brake outside 1–100, a contact that is
        none, or a reminder that would come before the notice.
        """
        if self.filter:
            parse(self.filter)
        if self.remind_days and self.remind_days >= self.dormant_days:
            detail = "The second mail would go out before the first."
            raise _out_of_bounds("remind_days", "remind_bounds", detail)
        for place, line in enumerate(self.contacts):
            try:
                check_address(line.rpartition("=")[2].strip())
            except BadInput as error:
                problem = FieldProblem(f"/contacts/{place}", error.code, error.detail)
                raise BadInput(error.code, error.detail, error.remedy, (problem,)) from error
        if not 1 <= self.brake_percent <= 100:
            detail = f"The brake is {self.brake_percent} %; it must be 1 to 100 %."
            raise _out_of_bounds("brake_percent", "brake_bounds", detail)

    def check_window(self, bounds: tuple[int, int]) -> None:
        """Raise BadInput for an idle window outside the bounds of this installation."""
        low, high = bounds
        if not low <= self.idle_window_days <= high:
            detail = (
                f"The idle window is {self.idle_window_days} days; it must be {low} to {high} days."
            )
            raise _out_of_bounds("idle_window_days", "window_bounds", detail)

    def contacts_of(self, site: str | None) -> list[str]:
        """The addresses that hear of devices of a site."""
        found = []
        for line in self.contacts:
            place, _, address = line.rpartition("=")
            if not place or lower(place.strip()) == lower(site or ""):
                found.append(address.strip())
        return found


def _out_of_bounds(field: str, code: str, detail: str) -> BadInput:
    problem = FieldProblem(f"/{field}", code, detail)
    return BadInput(code, detail, "Choose a value within the bounds.", (problem,))


def watching(rule: Rule) -> Filter:
    """The devices that a rule looks at, as a filter."""
    return all_of(one_of("stage", SWEPT), parse(rule.filter) if rule.filter else None)


def idle_days(zone: tzinfo, now: datetime, seen: datetime) -> int:
    """Midnights in a time zone since the last sign of life."""
    return max(0, (now.astimezone(zone).date() - seen.astimezone(zone).date()).days)


#: How many days must be known before a silence can be told, and how far it is looked back.
_KNOWN_DAYS, BACK_DAYS = 3, 14


def is_silent(seen: int, usual: Sequence[int]) -> bool:
    """Whether so few devices gave a sign of life within a day, against those of the days before,
    that rather something on the way has failed than the devices.
    """
    return len(usual) >= _KNOWN_DAYS and seen * 5 < median(usual)


def brake(taken: int, watched: int, rule: Rule) -> bool:
    """Whether a run without a person looking on must stop and ask."""
    return taken * 100 > watched * rule.brake_percent


@dataclass(frozen=True, slots=True)
class Bar:
    """One bar of the histogram: devices idle from `low` up to and including `high` days."""

    low: int
    high: int
    count: int


def histogram(
    counts: Sequence[tuple[int, int]], window: int, width: int = 15, bars: int = 28
) -> list[Bar]:
    """Bars of `width` days from (idle days, devices) pairs; the last bar holds everything beyond.

    They reach at least to the window, also where no device is that idle.
    """
    totals = [0] * bars
    for idle, count in counts:
        totals[min(max(idle, 0) // width, bars - 1)] += count
    furthest = max((place for place, total in enumerate(totals) if total), default=0)
    last = max(furthest, min(window // width, bars - 1))
    return [
        Bar(place * width, (place + 1) * width - 1, total)
        for place, total in enumerate(totals[: last + 1])
    ]
