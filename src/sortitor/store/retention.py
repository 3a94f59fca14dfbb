"""What is older than it is kept."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import (
    Column,
    ColumnElement,
    Connection,
    Table,
    and_,
    delete,
    func,
    or_,
    select,
    update,
)

from sortitor.core.vocabulary import JobState, LotStatus, MailState
from sortitor.store.idempotency import KEPT
from sortitor.store.rows import number
from sortitor.store.tables import (
    arrivals,
    idempotency,
    jobs,
    lots,
    mails,
    reminded,
    sessions,
    strangers,
)

AT_ONCE = 5_000


class Old(StrEnum):
    """What has a time after which it goes."""

    ARRIVALS = "arrivals"
    UPLOADS = "uploaded files"
    JOBS = "finished jobs"
    SESSIONS = "ended sessions"
    ANSWERS = "kept answers"
    STRANGERS = "counts of strangers"
    MAILS = "mails that were sent"
    REMINDERS = "notes of what was reminded of"


@dataclass(frozen=True, slots=True)
class Bounds:
    """What was before `before` goes; `now` and `idle_since` are for sessions."""

    before: datetime
    now: datetime
    idle_since: datetime


def _condition(kind: Old, bounds: Bounds) -> tuple[Table, Column[Any], ColumnElement[bool]]:
    open_jobs = (JobState.WAITING, JobState.RUNNING)
    found: dict[Old, tuple[Table, Column[Any], ColumnElement[bool]]] = {
        Old.ARRIVALS: (
            arrivals,
            arrivals.c.id,
            and_(arrivals.c.at < bounds.before, arrivals.c.claim.is_distinct_from("open")),
        ),
        Old.UPLOADS: (
            lots,
            lots.c.id,
            and_(
                lots.c.created_at < bounds.before,
                lots.c.status.not_in([LotStatus.CHECKING, LotStatus.DRAFT]),
                func.octet_length(lots.c.content) > 0,
            ),
        ),
        Old.JOBS: (
            jobs,
            jobs.c.id,
            and_(jobs.c.finished_at < bounds.before, jobs.c.state.not_in(open_jobs)),
        ),
        Old.SESSIONS: (
            sessions,
            sessions.c.id,
            or_(sessions.c.expires_at < bounds.now, sessions.c.used_at < bounds.idle_since),
        ),
        Old.ANSWERS: (idempotency, idempotency.c.key, idempotency.c.created_at < bounds.now - KEPT),
        Old.STRANGERS: (strangers, strangers.c.hour, strangers.c.hour < bounds.before),
        Old.MAILS: (
            mails,
            mails.c.id,
            and_(mails.c.at < bounds.before, mails.c.state != MailState.WAITING),
        ),
        Old.REMINDERS: (reminded, reminded.c.key, reminded.c.at < bounds.before),
    }
    return found[kind]


def count(connection: Connection, kind: Old, bounds: Bounds) -> int:
    """How many would go."""
    table, _, old = _condition(kind, bounds)
    return number(connection, select(func.count()).select_from(table).where(old))


def remove(connection: Connection, kind: Old, bounds: Bounds) -> int:
    """Let some go; gives how many, at most AT_ONCE. Of a lot only its file goes."""
    table, key, old = _condition(kind, bounds)
    some = select(key).where(old).limit(AT_ONCE)
    if kind is Old.UPLOADS:
        statement: Any = update(lots).where(key.in_(some)).values(content=b"")
    else:
        statement = delete(table).where(key.in_(some), old)
    return int(connection.execute(statement).rowcount)
