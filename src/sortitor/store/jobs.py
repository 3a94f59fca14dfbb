"""Long work: what was asked for, and how far it is."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, insert, select, update

from sortitor.core.vocabulary import JobState, Role
from sortitor.store.rows import number, read_all, read_one
from sortitor.store.tables import jobs

_OPEN = (JobState.WAITING, JobState.RUNNING)


def add(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new job's id."""
    return number(connection, insert(jobs).values(**values).returning(jobs.c.id))


@dataclass(frozen=True, slots=True)
class JobRow:
    """Long work: what was asked for by whom, and how far it is."""

    id: int
    kind: str
    title: str
    subject_id: int
    arguments: dict[str, Any]
    actor: str
    role: Role
    account_id: int | None
    state: JobState
    phase: str
    done: int
    total: int
    created_at: datetime
    started_at: datetime | None
    finished_at: datetime | None
    cancel: bool
    problem: dict[str, Any] | None
    attempts: int


def one(connection: Connection, job_id: int, lock: bool = False) -> JobRow | None:
    """One job."""
    query = select(jobs).where(jobs.c.id == job_id)
    return read_one(connection, query.with_for_update() if lock else query, JobRow)


def page(connection: Connection, before: int | None, limit: int, open_only: bool) -> list[JobRow]:
    """Jobs, newest first."""
    query = select(jobs).order_by(jobs.c.id.desc()).limit(limit)
    if before is not None:
        query = query.where(jobs.c.id < before)
    if open_only:
        query = query.where(jobs.c.state.in_(_OPEN))
    return read_all(connection, query, JobRow)


def change(connection: Connection, job_id: int, values: Mapping[str, Any]) -> None:
    """Set a job's columns."""
    connection.execute(update(jobs).where(jobs.c.id == job_id).values(**values))


def step(connection: Connection, job_id: int, phase: str, done: int, total: int) -> bool:
    """Note how far a job is; True if somebody wants it stopped."""
    statement = update(jobs).where(jobs.c.id == job_id).values(phase=phase, done=done, total=total)
    return bool(connection.execute(statement.returning(jobs.c.cancel)).scalar_one_or_none())


def ask_to_stop(connection: Connection, job_id: int, at: datetime) -> None:
    """Mark a running job; one that nobody has begun ends at once."""
    connection.execute(
        update(jobs)
        .where(jobs.c.id == job_id, jobs.c.state == JobState.WAITING)
        .values(state=JobState.CANCELLED, finished_at=at)
    )
    connection.execute(
        update(jobs)
        .where(jobs.c.id == job_id, jobs.c.state == JobState.RUNNING)
        .values(cancel=True)
    )
