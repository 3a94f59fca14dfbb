"""Holds: what no sweep touches from a day up to and including another, and why."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.vocabulary import HoldState

#: A hold is for a season or two, not for ever.
_MOST_DAYS = 3 * 366


@dataclass(frozen=True, slots=True)
class Terms:
    """Why something is held, from which day up to and including which, and who answers for it."""

    reason: str
    from_on: date
    until_on: date
    owner: str

    def check(self, today: date) -> None:
        """Raise BadInput for days that are past, in the wrong order, or too far apart."""
        if self.until_on < today:
            raise _wrong("hold_past", f"The hold would have ended on {self.until_on}.")
        if self.until_on < self.from_on:
            raise _wrong("hold_backwards", f"It would end before it begins on {self.from_on}.")
        if self.until_on - max(self.from_on, today) > timedelta(_MOST_DAYS):
            raise _wrong("hold_too_long", "A hold lasts for three years at most.")


def _wrong(code: str, detail: str) -> BadInput:
    problem = FieldProblem("/until_on", code, detail)
    return BadInput(code, detail, "Choose another day.", (problem,))


def state_of(from_on: date, until_on: date, ended: bool, today: date) -> HoldState:
    """Whether it is to come, runs, or is over on a day."""
    if ended or until_on < today:
        return HoldState.OVER
    return HoldState.COMING if today < from_on else HoldState.RUNNING
