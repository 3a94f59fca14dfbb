"""Numbers for those who run the service."""

from __future__ import annotations

from dataclasses import dataclass

from sortitor.operations import licences
from sortitor.operations.context import Context
from sortitor.store import engine, today


@dataclass(frozen=True, slots=True)
class Numbers:
    """Devices by stage, refusals by reason, and `(pool, seats needed, seats)`."""

    stages: dict[str, int]
    refusals: dict[str, int]
    pools: list[tuple[str, int, int]]


def ping(ctx: Context) -> None:
    """Raise Unavailable unless the database answers."""
    with ctx.reading() as connection:
        engine.ping(connection)


def numbers(ctx: Context) -> Numbers:
    """The business's numbers."""
    pools = []
    for counted in licences.every(ctx):
        pool = counted.kept.document
        pools.append((pool.name, counted.needed, pool.seats))
    with ctx.reading() as connection:
        return Numbers(today.stages(connection), today.refusals_by_reason(connection), pools)
