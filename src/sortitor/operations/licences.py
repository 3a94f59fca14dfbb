"""Licence pools: seats needed against seats held."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from sortitor.core import licences as core
from sortitor.core.errors import BadInput, FieldProblem, Stale
from sortitor.core.filters import Filter, all_of, one_of, parse
from sortitor.core.lifecycle import SEATED
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Stage
from sortitor.operations.context import Context, must
from sortitor.operations.reverts import POOL_FIELDS
from sortitor.operations.selections import meant
from sortitor.store import devices
from sortitor.store import licences as store
from sortitor.store.engine import Line


@dataclass(frozen=True, slots=True)
class Counted:
    """A pool with the seats it needs."""

    pool: Line
    needed: int


def _counted(ctx: Context, connection: Connection, found: Sequence[Line]) -> list[Counted]:
    needed = devices.counts(
        connection, [meant(connection, _devices(pool)) for pool in found], ctx.now
    )
    return [Counted(pool, number) for pool, number in zip(found, needed, strict=True)]


def _devices(pool: Line) -> Selection:
    """The devices that take a seat of the pool."""
    stages = (*SEATED, Stage.AWAITED) if pool.awaited_too else SEATED
    return Selection(
        filter=all_of(parse(pool.filter) if pool.filter else None, one_of("stage", stages))
    )


def every(ctx: Context) -> list[Counted]:
    """Pools by name with the seats needed."""
    with ctx.reading() as connection:
        return _counted(ctx, connection, store.every(connection))


def one(ctx: Context, pool_id: int) -> Counted:
    """One pool with the seats needed."""
    with ctx.reading() as connection:
        return _one(ctx, connection, pool_id)


def _one(ctx: Context, connection: Connection, pool_id: int) -> Counted:
    return _counted(
        ctx, connection, [must(store.one(connection, pool_id), "licence pool", pool_id)]
    )[0]


def needing(ctx: Context, pool_id: int) -> Filter | None:
    """The filter of the very devices that a pool's count is made of."""
    with ctx.reading() as connection:
        return _devices(must(store.one(connection, pool_id), "licence pool", pool_id)).filter


def _values(pool: core.Pool) -> dict[str, Any]:
    if pool.seats < 0:
        detail = f"A pool cannot hold {pool.seats} seats."
        raise BadInput(
            "seats_negative",
            detail,
            "Give 0 or more.",
            (FieldProblem("/seats", "seats_negative", detail),),
        )
    if pool.filter:
        parse(pool.filter)
    return {
        "name": pool.name,
        "seats": pool.seats,
        "filter": pool.filter,
        "awaited_too": pool.awaited_too,
    }


def add(ctx: Context, pool: core.Pool) -> Counted:
    """A new pool."""
    with ctx.changing() as connection:
        values = _values(pool)
        pool_id = store.add(connection, values)
        ctx.record(
            connection,
            "pool.add",
            "pool",
            f"Licence pool {pool.name} added with {pool.seats} seats",
            subject_id=pool_id,
            after=values,
        )
        return _one(ctx, connection, pool_id)


def edit(ctx: Context, pool_id: int, pool: core.Pool, revision: int | None) -> Counted:
    """Change a pool; `revision` (If-Match) must be the one that was read."""
    with ctx.changing() as connection:
        before = must(store.one(connection, pool_id, lock=True), "licence pool", pool_id)
        if revision is not None and revision != before.revision:
            raise Stale("the pool")
        values = _values(pool)
        store.change(connection, pool_id, values)
        ctx.record(
            connection,
            "pool.edit",
            "pool",
            f"Licence pool {pool.name} changed",
            subject_id=pool_id,
            before={name: before._mapping[name] for name in POOL_FIELDS},
            after=values,
        )
        return _one(ctx, connection, pool_id)


def remove(ctx: Context, pool_id: int) -> None:
    """Remove a pool; a revert brings it back."""
    with ctx.changing() as connection:
        before = must(store.one(connection, pool_id, lock=True), "licence pool", pool_id)
        store.remove(connection, pool_id)
        ctx.record(
            connection,
            "pool.remove",
            "pool",
            f"Licence pool {before.name} removed",
            subject_id=pool_id,
            before={name: before._mapping[name] for name in POOL_FIELDS},
        )
