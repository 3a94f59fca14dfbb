"""Long work."""

from __future__ import annotations

from typing import Any

from sortitor.core.vocabulary import JobState
from sortitor.schemas.base import Answer, Time


class Job(Answer):
    """One piece of long work: `done` of `total` rows in its present phase; `result` is the address
    of what it is about.

    `problem` has code, detail and remedy where it failed; nothing of a failed or cancelled job is
    kept.
    """

    id: int
    kind: str
    title: str
    subject_id: int
    actor: str
    state: JobState
    phase: str
    done: int
    total: int
    created_at: Time
    started_at: Time | None
    finished_at: Time | None
    problem: dict[str, Any] | None
    result: str
