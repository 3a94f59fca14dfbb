"""When the seats of a pool will not suffice any more."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, timedelta
from fractions import Fraction

#: How far it is looked back, and ahead.
BACK_DAYS = 90
AHEAD_DAYS = 400
#: Within how many days what is awaited comes, where nothing has come before.
USUAL_DAYS = 30


@dataclass(frozen=True, slots=True)
class Growth:
    """What is known of how needed seats grow: devices that came and went in the last 90 days, those
    that are awaited and will take one, and in how many days what was awaited came.
    """

    came: int = 0
    went: int = 0
    awaited: int = 0
    usual_days: int = USUAL_DAYS

    def by(self, days: int) -> int:
        """How many more seats are needed after so many days. What is awaited comes evenly within
        its usual time; beyond that it goes on as it did. At least what is awaited, since it was
        bought.
        """
        pace = Fraction(self.came - self.went, BACK_DAYS) * days
        bought = min(Fraction(self.awaited), Fraction(self.awaited * days, max(1, self.usual_days)))
        return int(max(pace, bought))


@dataclass(frozen=True, slots=True)
class Forecast:
    """The first day on which seats do not suffice, and how many are missing then; None: within the
    time that is looked ahead they do. `by_end`: because seats end, rather than because more devices
    come.
    """

    short_on: date | None
    missing: int = 0
    by_end: bool = False


def forecast(needed: int, growth: Growth, seats_on: Callable[[date], int], today: date) -> Forecast:
    """Look ahead day by day."""
    for days in range(AHEAD_DAYS + 1):
        day = today + timedelta(days)
        missing = needed + growth.by(days) - seats_on(day)
        if missing > 0:
            return Forecast(day, missing, needed > seats_on(day))
    return Forecast(None)
