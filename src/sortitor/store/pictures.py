"""Pictures of the welcome card."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import Connection, select
from sqlalchemy.dialects.postgresql import insert

from sortitor.store.tables import pictures


def put(connection: Connection, digest: str, content: bytes, at: datetime) -> None:
    """Keep a picture; the same one twice is one."""
    statement = insert(pictures).values(digest=digest, content=content, at=at)
    connection.execute(statement.on_conflict_do_nothing())


def content(connection: Connection, digest: str) -> bytes | None:
    """A picture's bytes."""
    query = select(pictures.c.content).where(pictures.c.digest == digest)
    return connection.execute(query).scalar_one_or_none()
