"""Until when: one option for everything that ends."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, datetime, timedelta
from typing import Any, TypeVar

import click

Command = TypeVar("Command", bound=Callable[..., Any])


class Day(click.ParamType):  # type: ignore[type-arg]
    """A day, or for how many days from today: `2026-04-30`, `+30`; within `most` days, from
    tomorrow on, where something lasts for so many.
    """

    name = "day"

    def __init__(self, most: int | None = None) -> None:
        self.most = most

    def get_metavar(self, param: click.Parameter, ctx: click.Context) -> str:
        """How help names it."""
        return "DAY"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> date:
        """The day."""
        day = value if isinstance(value, date) else self._read(str(value).strip(), param, ctx)
        if self.most is not None and not 1 <= days_until(day) <= self.most:
            self.fail(f"{day} is not within {self.most} days, from tomorrow on.", param, ctx)
        return day

    def _read(self, text: str, param: click.Parameter | None, ctx: click.Context | None) -> date:
        try:
            if text.startswith("+"):
                return _today() + timedelta(days=int(text[1:]))
            return date.fromisoformat(text)
        except (ValueError, OverflowError):
            self.fail(
                f"{text!r} is not a day. Write it as 2026-04-30, or +30 for thirty days from now.",
                param,
                ctx,
            )


def until_option(what: str, most: int | None = None, **given: Any) -> Callable[[Command], Command]:
    """`--until`, on everything that ends; `what` begins its help."""
    told = f"{what}: a day, or +30 for thirty days from now."
    return click.option("--until", type=Day(most), help=told, **given)


def days_until(day: date) -> int:
    """How many days from today, where something lasts for so many."""
    return (day - _today()).days


def _today() -> date:
    """Where the command is given."""
    return datetime.now().astimezone().date()
