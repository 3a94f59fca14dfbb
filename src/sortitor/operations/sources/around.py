"""Numbers around a change of people: what cohorts hold, and what licence pools need."""

from __future__ import annotations

from sortitor.operations import licences
from sortitor.operations.context import Context
from sortitor.store import cohorts
from sortitor.store.engine import Connection


def around(ctx: Context, connection: Connection) -> dict[str, int]:
    """What is counted, in words → how many, now and in this transaction."""
    sizes = cohorts.sizes(connection)
    pools = licences.POOLS.shelf.every(connection)
    needed = licences.needed(ctx, connection, pools)
    return {
        **{f"devices of cohort “{name}”": size for name, size in sizes.items()},
        **{
            f"seats of “{kept.document.name}” needed": number
            for kept, number in zip(pools, needed, strict=True)
        },
    }
