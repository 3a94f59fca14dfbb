"""Sweeps: which devices went quiet for too long, and when a sweep must stop and ask."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from pydantic import Field

from sortitor.core.documents import FilterText, NamedDocument
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.filters import Filter, all_of, one_of, parse
from sortitor.core.lifecycle import SWEPT

#: Bounds of an idle window in days, where the installation's settings give no others.
WINDOW_DAYS = (21, 400)


class Rule(NamedDocument):
    """Who is watched, and after how many days without a sign of life a device is retired."""

    idle_window_days: int = Field(description="Days without a sign of life, then it is retired.")
    filter: FilterText = Field(
        default=None, description="Whom it watches, in the filter language; empty: every device."
    )
    daily: bool = Field(default=False, description="Whether it runs by itself once a day.")
    brake_percent: int = Field(
        default=5, description="A daily run that would take more than this share stops and asks."
    )

    def check(self) -> None:
        """Raise BadInput for a filter that cannot be read, or a brake outside 1–100."""
        if self.filter:
            parse(self.filter)
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


def _out_of_bounds(field: str, code: str, detail: str) -> BadInput:
    problem = FieldProblem(f"/{field}", code, detail)
    return BadInput(code, detail, "Choose a value within the bounds.", (problem,))


def watching(rule: Rule) -> Filter:
    """The devices that a rule looks at, as a filter."""
    return all_of(one_of("stage", SWEPT), parse(rule.filter) if rule.filter else None)


def idle_days(now: datetime, last_seen_at: datetime | None, since: datetime) -> int:
    """Whole days since the last sign of life; `since` (enrolment) stands in for a device never
    seen.
    """
    return (now - (last_seen_at or since)).days


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
