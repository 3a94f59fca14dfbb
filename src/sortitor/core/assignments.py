"""A list of devices that wait, filled in with their people: what each row would do."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from enum import StrEnum
from typing import NamedTuple

from sortitor.core.errors import BadInput
from sortitor.core.numerals import number_in

#: The columns of the list; those that are not named here are for the reader alone.
DEVICE, PERSON = "device", "person"
_TITLES = {DEVICE: {"device", "device id", "number", "id"}, PERSON: {"person", "user name", "mail"}}


class RowVerdict(StrEnum):
    """What becomes of one row."""

    GIVE = "give"
    #: Nobody is named: the device waits on.
    BLANK = "blank"
    FAULT = "fault"


class Row(NamedTuple):
    """One row of the list as it was given; `row` is its number in the file."""

    row: int
    device: str
    person: str

    @property
    def number(self) -> int | None:
        """The device's; None where it is none, or longer than any."""
        return number_in(self.device)


class Judged(NamedTuple):
    """One row with its verdict; `why` says what is wrong and what to do."""

    row: Row
    verdict: RowVerdict
    device_id: int | None = None
    person_id: int | None = None
    why: str = ""


def rows_of(headers: Sequence[str], lines: Iterable[tuple[int, Sequence[str | None]]]) -> list[Row]:
    """The rows of a file: number in it, and its cells. Raises BadInput where a column lacks."""
    places = {
        column: next(
            (place for place, title in enumerate(headers) if title.strip().lower() in titles), None
        )
        for column, titles in _TITLES.items()
    }
    for column, place in places.items():
        if place is None:
            raise BadInput(
                "missing_column",
                f"The file has no column “{column.capitalize()}”.",
                "Fill in the file that the list of waiting devices was taken out as.",
            )
    device, person = places[DEVICE], places[PERSON]
    assert device is not None
    assert person is not None
    named = (
        (number, (cells[device] or "").strip(), (cells[person] or "").strip())
        for number, cells in lines
    )
    return [Row(*one) for one in named if one[1] or one[2]]


def judged(
    rows: Sequence[Row], devices: Mapping[int, bool], people: Mapping[str, tuple[int, bool]]
) -> list[Judged]:
    """Each row's verdict, the quota aside.

    devices: number → whether it waits. people: lower-case name → (number, whether they left).
    """
    seen: dict[int, int] = {}
    found = []
    for row in rows:
        one = _judge(row, devices, people)
        number = one.device_id
        if one.verdict is RowVerdict.GIVE and number is not None:
            if number in seen:
                why = f"Row {seen[number]} gives the same device. Keep one of the two."
                one = Judged(row, RowVerdict.FAULT, number, why=why)
            else:
                seen[number] = row.row
        found.append(one)
    return found


def _judge(row: Row, devices: Mapping[int, bool], people: Mapping[str, tuple[int, bool]]) -> Judged:
    number = row.number
    if number is None or number not in devices:
        why = f"There is no device {row.device or 'without a number'}."
        return Judged(row, RowVerdict.FAULT, why=f"{why} Leave the column “Device” as it was.")
    if not row.person:
        return Judged(row, RowVerdict.BLANK, number)
    if not devices[number]:
        why = "The device waits no longer. Take the list out again."
        return Judged(row, RowVerdict.FAULT, number, why=why)
    person = people.get(row.person.lower())
    if person is None:
        why = f"There is no person {row.person}. Write the user name or the mail address."
        return Judged(row, RowVerdict.FAULT, number, why=why)
    if person[1]:
        return Judged(row, RowVerdict.FAULT, number, why=f"{row.person} has left.")
    return Judged(row, RowVerdict.GIVE, number, person[0])
