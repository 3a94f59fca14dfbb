"""Lots."""

from __future__ import annotations

from typing import Any, Literal, Self

from pydantic import Field, model_validator

from sortitor.core.vocabulary import LotStatus, Remedy, Severity, Verdict
from sortitor.schemas.base import Answer, Name, Request, Time
from sortitor.schemas.jobs import Job


class Remark(Answer):
    """What is to be said of the file or of a column as a whole, or of `rows` of its rows."""

    code: str
    severity: Severity
    title: str
    remedy: str
    column: str | None
    given: str | None
    rows: int


class LineAbove(Answer):
    """A line above the rows: a title, an address, the headers."""

    line: int
    cells: list[str]


class Manner(Answer):
    """What was said about such files.

    `dates`: header → day or month first. `trusted`: headers whose numbers are right as they stand.
    `makers`: a spelling's key → the maker that is meant, null: one of its own.
    """

    dates: dict[str, Literal["day", "month"]]
    trusted: list[str]
    makers: dict[str, str | None]


class Lot(Answer):
    """One import. `columns` maps header → column; `repeated` tells that this very file was given
    before.
    """

    id: int
    name: str
    status: LotStatus
    form: str
    file_name: str | None
    content_bytes: int
    layout: str
    encoding: str
    sheet: str | None
    sheets: list[str]
    header_row: int = Field(description="The line of the headers; 0 where the file has none.")
    above: list[LineAbove] = Field(description="The lines above the rows.")
    remarks: list[Remark] = Field(
        description="How the file was understood, where that was a decision."
    )
    manner: Manner
    sheets_read: list[str] = Field(description="Sheets that were taken together.")
    columns_from: str
    by_hand: bool
    known_only: bool = Field(description="Devices that nobody knows are rejected.")
    headers: list[str]
    columns: dict[str, str]
    defaults: dict[str, str]
    overwrite_manual: bool
    counts: dict[Verdict, int]
    severities: dict[Severity, int]
    created_by: str
    created_at: Time
    checked_at: Time
    applied_at: Time | None
    reverted_at: Time | None
    repeated: bool = False


class Note(Answer):
    """One remark on one cell: what is the matter and what to do."""

    code: str
    severity: Severity
    title: str
    remedy: str
    column: str | None
    given: str | None


class LotRow(Answer):
    """One row: its number in the file, its cells as given, its verdict; `changes` maps field →
    {old, new}.
    """

    row: int
    verdict: Verdict
    cells: dict[str, str | None]
    kept: dict[str, str] = Field(
        description="Header → the value that is kept, where it differs from the cell."
    )
    edited: dict[str, str | None]
    remedy: Remedy | None
    device_id: int | None
    device_name: str | None = Field(description="What its device is called, once it has a name.")
    changes: dict[str, dict[str, Any]] | None
    notes: list[Note]


class NoteGroup(Note):
    """All rows with one note in one column; `given` is an example."""

    rows: int


class LotTaken(Answer):
    """A file that a job looks through: the lot's number and the job's; without a job it was checked
    before.
    """

    lot_id: int
    job: Job | None


class LotSettings(Request):
    """Read a draft in another way; what is left out stays as it is.

    `columns` is header → column, null for a plain detail. Columns, dates, trust and makers are
    remembered for the supplier's next file.
    """

    columns: dict[str, str | None] | None = None
    defaults: dict[str, str] | None = None
    sheet: str | None = None
    sheets: list[str] | None = Field(
        default=None, max_length=100, description="Sheets to be taken together."
    )
    header_row: int | None = Field(
        default=None, ge=0, le=1_000_000, description="The line of the headers; 0: there are none."
    )
    encoding: str | None = Field(default=None, description="Such as Windows-1250 or Shift_JIS.")
    dates: dict[str, Literal["day", "month"] | None] | None = Field(
        default=None, description="Header → whether the day or the month comes first."
    )
    trusted: dict[str, bool] | None = Field(
        default=None, description="Header → whether its numbers are right as they stand."
    )
    makers: dict[str, str | None] | None = Field(
        default=None,
        description="A maker as the file spells it → the one that is meant; null: one of its own.",
    )
    overwrite_manual: bool | None = None
    by_hand: bool | None = None
    add_unknown: bool | None = Field(
        default=None, description="Add devices that nobody knows, rather than reject them."
    )
    name: Name | None = None


class Rows(Request):
    """Rows of a lot: by number, or all with a note, or all with a verdict; at least one of
    these.
    """

    rows: list[int] = Field(default=[], max_length=10_000)
    note: str | None = None
    verdict: Verdict | None = None

    @model_validator(mode="after")
    def _some(self) -> Self:
        if not self.rows and self.note is None and self.verdict is None:
            raise ValueError("Name rows, a note or a verdict")
        return self


class RowEdit(Rows):
    """Set one column of the rows: `column` is a header of the file, or a column that it lacks; null
    makes it blank.
    """

    column: str
    value: str | None


class RowRemedy(Rows):
    """What is to become of rows in conflict; null undoes it."""

    remedy: Remedy | None
