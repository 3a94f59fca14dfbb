"""Sweeps: which devices went quiet for too long, and when a sweep must stop and ask."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sortitor.core.errors import BadInput, FieldProblem


@dataclass(frozen=True, slots=True)
class Rule:
    """Who is watched (a filter; None: everyone), and after how many days without a sign of life a
    device is retired.
    """

    name: str
    idle_window_days: int
    filter: str | None = None
    daily: bool = False
    brake_percent: int = 5


def check_rule(rule: Rule, bounds: tuple[int, int]) -> None:
    """Raise BadInput for an idle window outside the bounds of this installation, or a brake outside
    1–100.
    """
    low, high = bounds
    if not low <= rule.idle_window_days <= high:
        detail = (
            f"The idle window is {rule.idle_window_days} days; it must be {low} to {high} days."
        )
        raise BadInput(
            "window_bounds",
            detail,
            "Choose a window within the bounds.",
            (FieldProblem("/idle_window_days", "window_bounds", detail),),
        )
    if not 1 <= rule.brake_percent <= 100:
        detail = f"The brake is {rule.brake_percent} %; it must be 1 to 100 %."
        raise BadInput(
            "brake_bounds",
            detail,
            "Choose a share within the bounds.",
            (FieldProblem("/brake_percent", "brake_bounds", detail),),
        )


def idle_days(now: datetime, last_seen_at: datetime | None, since: datetime) -> int:
    """Whole days since the last sign of life; `since` (enrolment) stands in for a device never
    seen.
    """
    return (now - (last_seen_at or since)).days


def past(idle: int, rule: Rule) -> bool:
    """A device is past its window when it has been idle for as many days as the window has, or
    more.
    """
    return idle >= rule.idle_window_days


def brake(taken: int, watched: int, rule: Rule) -> bool:
    """Whether a run without a person looking on must stop and ask."""
    return taken * 100 > watched * rule.brake_percent


@dataclass(frozen=True, slots=True)
class Bar:
    """One bar of the histogram: devices idle from `low` up to and including `high` days."""

    low: int
    high: int
    count: int


def histogram(counts: Sequence[tuple[int, int]], width: int = 15, bars: int = 28) -> list[Bar]:
    """Bars of `width` days from (idle days, devices) pairs; the last bar holds everything
    beyond.
    """
    totals = [0] * bars
    for idle, count in counts:
        totals[min(max(idle, 0) // width, bars - 1)] += count
    last = max((i for i, total in enumerate(totals) if total), default=0)
    return [
        Bar(i * width, (i + 1) * width - 1, total) for i, total in enumerate(totals[: last + 1])
    ]
