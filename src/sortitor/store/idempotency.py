"""Answers kept for repeated requests.

The claim is written in the transaction of the change that it protects.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import Connection, delete, insert, select, update

from sortitor.store.rows import read_one
from sortitor.store.tables import idempotency

KEPT = timedelta(hours=24)


@dataclass(frozen=True, slots=True)
class AnswerRow:
    """What is known of a request; `status` is None while its answer is on its way."""

    request_hash: str
    status: int | None
    answer: bytes | None
    headers: dict[str, str] | None


def find(connection: Connection, account_id: int, key: str, now: datetime) -> AnswerRow | None:
    """What is known under the key within the last 24 hours."""
    query = select(idempotency).where(
        idempotency.c.account_id == account_id,
        idempotency.c.key == key,
        idempotency.c.created_at > now - KEPT,
    )
    return read_one(connection, query, AnswerRow)


def claim(
    connection: Connection, account_id: int, key: str, request_hash: str, now: datetime
) -> None:
    """Write the key; a parallel request of the same key waits here, and fails when this one
    commits.
    """
    connection.execute(delete(idempotency).where(idempotency.c.created_at <= now - KEPT))
    connection.execute(
        insert(idempotency).values(
            account_id=account_id, key=key, request_hash=request_hash, created_at=now
        )
    )


def keep_answer(
    connection: Connection,
    account_id: int,
    key: str,
    status: int,
    answer: bytes,
    headers: Mapping[str, str],
) -> None:
    """Keep the answer of a claimed key, so that a repeated request gets the same one."""
    statement = update(idempotency).where(
        idempotency.c.account_id == account_id, idempotency.c.key == key
    )
    connection.execute(statement.values(status=status, answer=answer, headers=dict(headers)))
