"""What ends, when, and whom to remind of it."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from datetime import date
from typing import Annotated

from pydantic import Field

from sortitor.core.documents import Document, Name
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.mails import check_address
from sortitor.core.previews import plural
from sortitor.core.vocabulary import EndKind

Days = Annotated[int, Field(ge=1, le=365)]


@dataclass(frozen=True, slots=True)
class End:
    """One day on which something ends. `key` stays the same from look to look; `page` is the
    console's path; `count` is of how many things it is the end.
    """

    key: str
    kind: EndKind
    title: str
    ends_on: date
    page: str
    count: int = 1

    def days_left(self, today: date) -> int:
        """Whole days until then; negative once it is past."""
        return (self.ends_on - today).days


class Reminders(Document):
    """Who is reminded by mail of what ends, and how many days before."""

    addresses: tuple[Name, ...] = Field(
        default=(), max_length=20, description="Mail addresses; empty: nobody is reminded."
    )
    days: tuple[Days, ...] = Field(
        default=(60, 30, 14, 7, 1),
        min_length=1,
        max_length=20,
        description="So many days before each end a mail goes out.",
    )
    kinds: tuple[EndKind, ...] = Field(
        default=tuple(EndKind),
        description="Of what: credential, pass, hold, warranty, policy, licence.",
    )

    def check(self) -> None:
        """Raise BadInput for what is no mail address."""
        for place, address in enumerate(self.addresses):
            try:
                check_address(address)
            except BadInput as error:
                problem = FieldProblem(f"/addresses/{place}", error.code, error.detail)
                raise BadInput(error.code, error.detail, error.remedy, (problem,)) from error


@dataclass(frozen=True, slots=True)
class Told:
    """That somebody was reminded of an end so many days before it."""

    key: str
    ends_on: date
    days: int


def untold(ends: Iterable[End], days: Collection[int], today: date) -> Iterator[tuple[End, Told]]:
    """The ends that are near, each with the reminder that covers it: the nearest that is due. One
    that was missed is not made up for.
    """
    for end in ends:
        left = end.days_left(today)
        due = [wanted for wanted in days if wanted >= left]
        if left >= 0 and due:
            yield end, Told(end.key, end.ends_on, min(due))


def said(end: End, today: date) -> str:
    """An end in words: what, when, and how soon."""
    left = end.days_left(today)
    if left < 0:
        return f"{end.title} ended on {end.ends_on:%F}"
    soon = {0: "today", 1: "tomorrow"}.get(left, f"in {plural(left, 'day')}")
    return f"{end.title} ends on {end.ends_on:%F}, {soon}"


def reminder_mail(ends: Collection[End], today: date, address: str) -> tuple[str, str]:
    """Subject and body of one mail about what ends soon; `address` is where the console is."""
    first = min(ends, key=lambda end: end.ends_on)
    more = f", and {plural(len(ends) - 1, 'more end')}" if len(ends) > 1 else ""
    lines = [
        f"- {said(end, today)}\n  {address}{end.page}\n"
        for end in sorted(ends, key=lambda end: (end.ends_on, end.title))
    ]
    return (
        f"{said(first, today)}{more}",
        "What ends soon:\n\n" + "\n".join(lines) + "\n"
        "Who gets these mails, and how long before, is set on the page “What ends”:\n"
        f"{address}/ends\n",
    )
