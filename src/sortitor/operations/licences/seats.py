"""Seats that devices take: kept with every change, or counted where the mere passing of time moves
devices in and out.
"""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.core.cohorts import speaks_of
from sortitor.core.filters import moving, parse
from sortitor.core.licences.pools import Pool, needing
from sortitor.core.selection import Selection
from sortitor.operations.context import Context
from sortitor.operations.selections import resolve_selection, written_out
from sortitor.store import devices, tables
from sortitor.store import seats as store
from sortitor.store.documents import Kept, Shelf
from sortitor.store.engine import Connection
from sortitor.store.seats import MovedRow
from sortitor.store.settling import hold_still

SHELF = Shelf(Pool, tables.pools)


def taking(connection: Connection, pool: Pool) -> Selection:
    """The devices that take a seat of a pool."""
    return resolve_selection(connection, Selection(filter=needing(pool)))


def whoever(connection: Connection, pool: Pool) -> Selection:
    """The devices that the pool's filter fits, in whatever stage."""
    wanted = parse(pool.filter) if pool.filter else None
    return resolve_selection(connection, Selection(filter=wanted))


def count(ctx: Context, connection: Connection, pools: Sequence[Pool]) -> list[int]:
    """How many seats each of the pools needs, by going through the fleet."""
    chosen = [taking(connection, pool) for pool in pools]
    return devices.counts(connection, chosen, ctx.now)


def needed(ctx: Context, connection: Connection, found: Sequence[Kept[Pool]]) -> list[int]:
    """How many seats each of the pools needs."""
    known = store.needed(connection)
    others = [kept for kept in found if kept.id not in known]
    counted = count(ctx, connection, [kept.document for kept in others])
    known |= {kept.id: number for kept, number in zip(others, counted, strict=True)}
    return [known[kept.id] for kept in found]


def taken_by(ctx: Context, connection: Connection, device_id: int) -> list[Kept[Pool]]:
    """The pools of which a device takes a seat, by name."""
    found = SHELF.every(connection)
    takes = store.taken_by(connection, device_id)
    known = store.needed(connection)
    others = [kept for kept in found if kept.id not in known]
    chosen = [taking(connection, kept.document) for kept in others]
    fits = devices.fits(connection, device_id, chosen, ctx.now)
    takes |= {kept.id for kept, fit in zip(others, fits, strict=True) if fit}
    return [kept for kept in found if kept.id in takes]


def moves(ctx: Context, connection: Connection, kept: Kept[Pool]) -> list[MovedRow]:
    """Devices that came to a pool and went from it, day by day."""
    if store.is_kept(connection, kept.id):
        return store.moves(connection, kept.id)
    return store.moved_by_day(connection, whoever(connection, kept.document), ctx.now)


# ---- keeping


def keep(ctx: Context, connection: Connection, pool_id: int, pool: Pool) -> None:
    """Keep the seats of a pool as its filter says now, or no longer where time moves it."""
    # First: what the cohorts are that it speaks of must not change between looking and keeping.
    hold_still(connection)
    if moving(written_out(connection, needing(pool))):
        store.let_go(connection, pool_id)
        return
    # What came and went before is read off today's fleet; from now on it is written down.
    past = store.moved_by_day(connection, whoever(connection, pool), ctx.now)
    store.keep(connection, pool_id, taking(connection, pool), past, ctx.now)


def keep_those_of(ctx: Context, connection: Connection, cohort: str) -> None:
    """The same for the pools that speak of a cohort whose filter changed."""
    for kept in SHELF.every(connection):
        if speaks_of(needing(kept.document), cohort):
            keep(ctx, connection, kept.id, kept.document)


def keep_up(ctx: Context) -> None:
    """Keep the pools that are not kept yet, and put what moved on a day into one line; by
    schedule.
    """
    with ctx.reading() as connection:
        known = store.needed(connection)
        due = [
            kept.id
            for kept in SHELF.every(connection)
            if kept.id not in known and not moving(written_out(connection, needing(kept.document)))
        ]
    for pool_id in due:
        with ctx.bookkeeping() as connection:
            kept = SHELF.one(connection, pool_id, lock=True)
            if kept is not None and not store.is_kept(connection, pool_id):
                keep(ctx, connection, pool_id, kept.document)
    with ctx.bookkeeping() as connection:
        store.fold(connection)
