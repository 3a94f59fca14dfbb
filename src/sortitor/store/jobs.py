"""Long work: what was asked for, and how far it is."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, insert, select, update

from sortitor.core.vocabulary import JobState
from sortitor.store.engine import Line
from sortitor.store.tables import jobs

_OPEN = (JobState.WAITING, JobState.RUNNING)


def add(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new job's id."""
    return connection.execute(insert(jobs).values(**values).returning(jobs.c.id)).scalar_one()


def one(connection: Connection, job_id: int, lock: bool = False) -> Line | None:
    """One job."""
    query = select(jobs).where(jobs.c.id == job_id)
    return connection.execute(query.with_for_update() if lock else query).one_or_none()


def page(connection: Connection, before: int | None, limit: int, open_only: bool) -> Sequence[Line]:
    """Jobs, newest first."""
    query = select(jobs).order_by(jobs.c.id.desc()).limit(limit)
    if before is not None:
        query = query.where(jobs.c.id < before)
    return connection.execute(query.where(jobs.c.state.in_(_OPEN)) if open_only else query).all()


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
