"""Licence pools: seats needed against seats held."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sortitor.core import licences as core
from sortitor.core.errors import BadInput, FieldProblem, Stale
from sortitor.core.selection import Selection
from sortitor.operations.context import Context, must
from sortitor.store import licences as store
from sortitor.store.engine import Line

FIELDS = ("name", "seats", "platforms", "ownerships", "awaited_too")


def every(ctx: Context) -> Sequence[Line]:
    """Pools by name with the seats needed."""
    with ctx.reading() as connection:
        return store.every(connection)


def one(ctx: Context, pool_id: int) -> Line:
    """One pool with the seats needed."""
    with ctx.reading() as connection:
        return must(store.one(connection, pool_id), "licence pool", pool_id)


def selection(ctx: Context, pool_id: int) -> Selection:
    """The very devices that a pool's count is made of."""
    return store.selection(one(ctx, pool_id))


def _values(pool: core.Pool) -> dict[str, Any]:
    if pool.seats < 0:
        detail = f"A pool cannot hold {pool.seats} seats."
        raise BadInput("seats_negative", detail, "Give 0 or more.", (FieldProblem("/seats", "seats_negative", detail),))
    return {"name": pool.name, "seats": pool.seats, "platforms": [*pool.platforms], "ownerships": [*pool.ownerships], "awaited_too": pool.awaited_too}


def add(ctx: Context, pool: core.Pool) -> Line:
    """A new pool."""
    with ctx.changing() as connection:
        values = _values(pool)
        pool_id = store.add(connection, values)
        ctx.record(connection, "pool.add", "pool", f"Licence pool {pool.name} added with {pool.seats} seats", subject_id=pool_id, after=values)
        return must(store.one(connection, pool_id), "licence pool", pool_id)


def edit(ctx: Context, pool_id: int, pool: core.Pool, revision: int | None) -> Line:
    """Change a pool; `revision` (If-Match) must be the one that was read."""
    with ctx.changing() as connection:
        before = must(store.one(connection, pool_id, lock=True), "licence pool", pool_id)
        if revision is not None and revision != before.revision:
            raise Stale("the pool")
        values = _values(pool)
        store.change(connection, pool_id, values)
        ctx.record(connection, "pool.edit", "pool", f"Licence pool {pool.name} changed", subject_id=pool_id,
                   before={name: before._mapping[name] for name in FIELDS}, after=values)  # fmt: skip
        return must(store.one(connection, pool_id), "licence pool", pool_id)


def remove(ctx: Context, pool_id: int) -> None:
    """Remove a pool; a revert brings it back."""
    with ctx.changing() as connection:
        before = must(store.one(connection, pool_id, lock=True), "licence pool", pool_id)
        store.remove(connection, pool_id)
        ctx.record(connection, "pool.remove", "pool", f"Licence pool {before.name} removed", subject_id=pool_id, before={name: before._mapping[name] for name in FIELDS})
