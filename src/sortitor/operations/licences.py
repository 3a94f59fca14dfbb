"""Licence pools: seats needed against the seats that there are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sortitor.core.filters import Filter
from sortitor.core.licences import Pool, needing
from sortitor.core.previews import Count
from sortitor.core.selection import Selection
from sortitor.operations.context import Context
from sortitor.operations.documents import DocumentKind, Effect, Key, Wanted
from sortitor.operations.selections import resolve_selection
from sortitor.store import devices, tables
from sortitor.store.documents import Kept, Shelf
from sortitor.store.engine import Connection


@dataclass(frozen=True, slots=True)
class CountedPool:
    """A pool with the seats it needs now."""

    kept: Kept[Pool]
    needed: int


class Pools(DocumentKind[Pool]):
    """Licence pools as documents."""

    def effect(self, ctx: Context, connection: Connection, wanted: Wanted[Pool]) -> Effect:
        """Seats needed before and after."""
        pools = [pool for pool in (wanted.before, wanted.proposed) if pool is not None]
        numbers = seats_needed(ctx, connection, pools)
        if wanted.proposed is None:
            return Effect((Count("needed", "devices that take a seat now", numbers[0]),))
        needed, seats = numbers[-1], wanted.proposed.seats
        counts = [
            Count("needed", "devices that need a seat", needed),
            Count("seats", "seats", seats),
            Count("short", "seats short", max(0, needed - seats), "warn"),
        ]
        if wanted.former is not None:
            counts.insert(1, Count("needed_before", "devices that needed one before", numbers[0]))
        return Effect(counts=tuple(counts), facts=numbers)


POOLS = Pools("licence pool", "pool", Shelf(Pool, tables.pools), short="pool")


def every(ctx: Context) -> list[CountedPool]:
    """Pools by name with the seats needed."""
    with ctx.reading() as connection:
        return _counted(ctx, connection, POOLS.shelf.every(connection))


def one(ctx: Context, key: Key) -> CountedPool:
    """One pool with the seats needed."""
    with ctx.reading() as connection:
        return _counted(ctx, connection, [POOLS.find(connection, key)])[0]


def counted(ctx: Context, kept: Kept[Pool]) -> CountedPool:
    """A pool at hand with the seats needed."""
    with ctx.reading() as connection:
        return _counted(ctx, connection, [kept])[0]


def filter_of(ctx: Context, key: Key) -> Filter:
    """The filter of the very devices that a pool's count is made of."""
    return needing(POOLS.one(ctx, key).document)


def _counted(
    ctx: Context, connection: Connection, found: Sequence[Kept[Pool]]
) -> list[CountedPool]:
    numbers = seats_needed(ctx, connection, [kept.document for kept in found])
    return [CountedPool(kept, number) for kept, number in zip(found, numbers, strict=True)]


def seats_needed(ctx: Context, connection: Connection, pools: Sequence[Pool]) -> list[int]:
    """How many seats each of the pools needs."""
    chosen = [resolve_selection(connection, Selection(filter=needing(pool))) for pool in pools]
    return devices.counts(connection, chosen, ctx.now)
