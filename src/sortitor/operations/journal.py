"""Reading the journal."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.operations.context import Context, must
from sortitor.store import journal as store
from sortitor.store.engine import Line


def page(
    ctx: Context, before: int | None, limit: int, operation: str | None, actor: str | None
) -> Sequence[Line]:
    """Entries, newest first."""
    with ctx.reading() as connection:
        return store.page(connection, before, limit, operation, actor)


def one(ctx: Context, entry_id: int) -> tuple[Line, Sequence[Line]]:
    """One entry with its first hundred effects on devices."""
    with ctx.reading() as connection:
        return must(store.one(connection, entry_id), "journal entry", entry_id), store.effects(
            connection, entry_id, 0, 100
        )
