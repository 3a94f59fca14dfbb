"""Numbers for those who run the service."""

from __future__ import annotations

from dataclasses import dataclass

from sortitor.operations.context import Context
from sortitor.store import engine, licences, today


@dataclass(frozen=True, slots=True)
class Numbers:
    """Devices by stage, refusals by reason, and `(pool, needed, held)`."""

    stages: dict[str, int]
    refusals: dict[str, int]
    pools: list[tuple[str, int, int]]


def ping(ctx: Context) -> None:
    """Raise Unavailable unless the database answers."""
    with ctx.reading() as connection:
        engine.ping(connection)


def numbers(ctx: Context) -> Numbers:
    """The business's numbers."""
    with ctx.reading() as connection:
        pools = [(row.name, row.needed, row.seats) for row in licences.every(connection)]
        return Numbers(today.stages(connection), today.refusals_by_reason(connection), pools)
