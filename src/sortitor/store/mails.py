"""Mails that wait, were sent, or could not be."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, insert, select, update

from sortitor.core.vocabulary import MailState
from sortitor.store.rows import read_all, read_one
from sortitor.store.tables import mails


@dataclass(frozen=True, slots=True)
class MailRow:
    """One mail; its body is gone once it was sent, where it held a secret."""

    id: int
    at: datetime
    to_address: str
    to_name: str | None
    subject: str
    body: str | None
    kind: str
    person_id: int | None
    pass_id: int | None
    state: MailState
    tries: int
    next_try_at: datetime | None
    useless_at: datetime | None
    sent_at: datetime | None
    last_error: str | None

    @property
    def can_be_tried(self) -> bool:
        """Whether it can still be sent: nobody has it yet, and its words are there."""
        return self.state in (MailState.WAITING, MailState.FAILED) and self.body is not None


def put(connection: Connection, lines: Sequence[Mapping[str, Any]]) -> None:
    """Mails that leave once this transaction is committed."""
    if lines:
        connection.execute(insert(mails), [*lines])


def next_due(connection: Connection, now: datetime) -> MailRow | None:
    """A mail whose time has come and that nobody else is sending; its row is held."""
    query = (
        select(mails)
        .where(mails.c.state == MailState.WAITING, mails.c.next_try_at <= now)
        .order_by(mails.c.next_try_at, mails.c.id)
        .limit(1)
        .with_for_update(skip_locked=True)
    )
    return read_one(connection, query, MailRow)


def change(connection: Connection, mail_id: int, values: Mapping[str, Any]) -> None:
    """Write down what became of a mail."""
    connection.execute(update(mails).where(mails.c.id == mail_id).values(**values))


def one(connection: Connection, mail_id: int, lock: bool = False) -> MailRow | None:
    """One mail."""
    query = select(mails).where(mails.c.id == mail_id)
    return read_one(connection, query.with_for_update() if lock else query, MailRow)


def page(
    connection: Connection, state: MailState | None, before: int | None, limit: int
) -> list[MailRow]:
    """Mails, newest first."""
    query = select(mails)
    if state is not None:
        query = query.where(mails.c.state == state)
    if before is not None:
        query = query.where(mails.c.id < before)
    return read_all(connection, query.order_by(mails.c.id.desc()).limit(limit), MailRow)


def drop_of_passes(connection: Connection, pass_ids: Sequence[int]) -> None:
    """Let the mails of passes that ended stay unsent."""
    connection.execute(
        update(mails)
        .where(mails.c.pass_id.in_(pass_ids), mails.c.state == MailState.WAITING)
        .values(state=MailState.DROPPED, body=None)
    )
