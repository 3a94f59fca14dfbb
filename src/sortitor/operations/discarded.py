"""Discarded lots: taken back, each is a draft again."""

from __future__ import annotations

from sortitor.core.vocabulary import LotStatus
from sortitor.operations.context import Context
from sortitor.store import lots
from sortitor.store.engine import Connection
from sortitor.store.journal import EntryRow


def is_gone(connection: Connection, entry: EntryRow, lock: bool) -> bool:
    """Whether there is no such lot any more, or it is no longer put aside."""
    assert entry.subject_id is not None
    lot = lots.one(connection, entry.subject_id, lock)
    return lot is None or lot.status is not LotStatus.DISCARDED


def restore(ctx: Context, connection: Connection, entry: EntryRow) -> None:
    """The lot as a draft."""
    assert entry.subject_id is not None
    lots.change(connection, entry.subject_id, {"status": LotStatus.DRAFT})
