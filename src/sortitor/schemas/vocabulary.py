"""The service's words, for the console and the terminal."""

from __future__ import annotations

from pydantic import Field

from sortitor.core.vocabulary import Remedy, Severity
from sortitor.schemas.base import Answer


class Word(Answer):
    """One word on the wire, and how it is said."""

    value: str
    label: str


class NoteWords(Answer):
    """A note that a row of a lot can carry."""

    code: str
    severity: Severity
    title: str
    remedy: str
    resolved_by: Remedy | None = Field(description="What resolves its rows at once.")
    resolve_label: str | None = Field(description="That, in the words of a button.")


class ReasonWords(Answer):
    """A reason of the gate."""

    code: str
    remedy: str


class RoleWords(Answer):
    """A role, and what it is granted."""

    role: str
    label: str
    permissions: list[str]


class Thresholds(Answer):
    """When something becomes a job."""

    job_bytes: int = Field(description="A file of so many bytes or more is checked as a job.")
    job_rows: int = Field(description="A lot of so many rows or more is applied as a job.")


class Vocabulary(Answer):
    """Everything that is the same for all callers."""

    words: dict[str, list[Word]] = Field(description="Kind of words → its words, in their order.")
    comparisons: list[Word] = Field(description="The comparisons of the filter language.")
    lot_columns: list[str] = Field(description="What a column of a lot can mean.")
    identifier_columns: list[str] = Field(description="Those that identify a device.")
    encodings: list[str] = Field(description="What a text can be said to be encoded in.")
    notes: list[NoteWords]
    reasons: list[ReasonWords]
    final: dict[str, str] = Field(
        description="Operation that cannot be taken back → what to do instead."
    )
    roles: list[RoleWords]
    permissions: list[Word]
    thresholds: Thresholds
    idle_window_days: tuple[int, int] = Field(description="Bounds of a sweep rule's window.")
