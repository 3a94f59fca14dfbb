"""Licence pools: seats needed against the seats that there are."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from sortitor.core.errors import Conflict
from sortitor.core.filters import Filter
from sortitor.core.licences import books
from sortitor.core.licences.books import Course
from sortitor.core.licences.pools import Pool, Standing, needing, standing_on, state_of
from sortitor.core.previews import Count, plural
from sortitor.core.vocabulary import PoolState, Term
from sortitor.operations.context import Context
from sortitor.operations.documents import DocumentKind, Effect, Key, Wanted
from sortitor.operations.licences import seats
from sortitor.store import licences as store
from sortitor.store import seats as store_seats
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection
from sortitor.store.licences import GrantRow


@dataclass(frozen=True, slots=True)
class CountedPool:
    """A pool with the seats it needs and has now; `course` is that of its vouchers."""

    kept: Kept[Pool]
    needed: int
    course: Course
    standing: Standing

    @property
    def state(self) -> PoolState:
        """What that means."""
        return state_of(self.kept.document, self.standing, self.needed)

    @property
    def missing(self) -> int:
        """How many devices have no seat."""
        return max(0, self.needed - self.standing.seats)


class Pools(DocumentKind[Pool]):
    """Licence pools as documents."""

    heavy = True

    def check(self, ctx: Context, connection: Connection, wanted: Wanted[Pool]) -> None:
        """Vouchers that are booked one way are not counted another way."""
        before, proposed = wanted.before, wanted.proposed
        if wanted.number is None or before is None or proposed is None:
            return
        if before.term is not proposed.term and living(connection, wanted.number):
            raise Conflict(
                "has_vouchers",
                f"“{before.name}” has vouchers, which were booked by the term that it has.",
                "Add another pool with the other term.",
            )

    def effect(self, ctx: Context, connection: Connection, wanted: Wanted[Pool]) -> Effect:
        """Seats needed before and after."""
        pools = [pool for pool in (wanted.before, wanted.proposed) if pool is not None]
        numbers = seats.count(ctx, connection, pools)
        booked = [] if wanted.number is None else living(connection, wanted.number)
        if wanted.proposed is None:
            warnings: tuple[str, ...] = ()
            if booked:
                told = plural(len(booked), "voucher")
                warnings = (f"{told} stay booked: they come back with the pool, not elsewhere.",)
            count = Count("needed", "devices that take a seat now", numbers[0])
            return Effect((count,), warnings=warnings)
        needed = numbers[-1]
        held = standing_of(ctx, wanted.proposed, course_of(wanted.proposed, booked)).seats
        counts = [
            Count("needed", "devices that need a seat", needed),
            Count("seats", "seats", held),
            Count("short", "seats short", max(0, needed - held), "warn"),
        ]
        if wanted.former is not None:
            counts.insert(1, Count("needed_before", "devices that needed one before", numbers[0]))
        return Effect(counts=tuple(counts), facts=numbers)

    def written(
        self, ctx: Context, connection: Connection, number: int, wanted: Wanted[Pool]
    ) -> None:
        """The seats that are kept follow the filter at once."""
        before, proposed = wanted.before, wanted.proposed
        if proposed is None:
            store_seats.let_go(connection, number)
        elif before is None or needing(before) != needing(proposed):
            seats.keep(ctx, connection, number, proposed)


POOLS = Pools("licence pool", "pool", seats.SHELF, short="pool")


def living(connection: Connection, pool_id: int) -> list[GrantRow]:
    """The vouchers of a pool that count, in order."""
    return [row for row in store.history(connection, [pool_id])[pool_id] if not row.reverted_at]


def course_of(pool: Pool, booked: Collection[GrantRow]) -> Course:
    """What seats the vouchers of a pool give on each day."""
    return books.course_of([row.booked for row in booked], pool.term is Term.SHARED)


def standing_of(ctx: Context, pool: Pool, course: Course) -> Standing:
    """The pool's seats today."""
    return standing_on(pool, course, ctx.today)


def every(ctx: Context) -> list[CountedPool]:
    """Pools by name with the seats needed."""
    with ctx.reading() as connection:
        return counted_in(ctx, connection, POOLS.shelf.every(connection))


def one(ctx: Context, key: Key) -> CountedPool:
    """One pool with the seats needed."""
    with ctx.reading() as connection:
        return counted_in(ctx, connection, [POOLS.find(connection, key)])[0]


def counted(ctx: Context, kept: Kept[Pool]) -> CountedPool:
    """A pool at hand with the seats needed."""
    with ctx.reading() as connection:
        return counted_in(ctx, connection, [kept])[0]


def filter_of(ctx: Context, key: Key) -> Filter:
    """The filter of the very devices that a pool's count is made of."""
    return needing(POOLS.one(ctx, key).document)


def counted_in(
    ctx: Context, connection: Connection, found: Sequence[Kept[Pool]]
) -> list[CountedPool]:
    """The same within a transaction."""
    numbers = seats.needed(ctx, connection, found)
    history = store.history(connection, [kept.id for kept in found])
    counted = []
    for kept, needed in zip(found, numbers, strict=True):
        booked = [row for row in history[kept.id] if not row.reverted_at]
        course = course_of(kept.document, booked)
        standing = standing_of(ctx, kept.document, course)
        counted.append(CountedPool(kept, needed, course, standing))
    return counted
