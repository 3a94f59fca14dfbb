"""Lots."""

from __future__ import annotations

from typing import Any, Self

from pydantic import Field, model_validator

from sortitor.core.vocabulary import LotStatus, Remedy, Severity, Verdict
from sortitor.schemas.base import Answer, Name, Request, Time
from sortitor.schemas.jobs import Job


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
    header_row: int
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
    edited: dict[str, str | None]
    remedy: Remedy | None
    device_id: int | None
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

    `columns` is header → column, null for a plain detail.
    """

    columns: dict[str, str | None] | None = None
    defaults: dict[str, str] | None = None
    sheet: str | None = None
    header_row: int | None = Field(default=None, ge=1, le=1_000_000)
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
            raise ValueError("name rows, a note or a verdict")
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
