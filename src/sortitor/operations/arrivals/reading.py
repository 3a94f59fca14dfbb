"""Arrivals as the coordinator reads them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from sortitor.core.vocabulary import WayStage
from sortitor.operations.context import Context, or_not_found
from sortitor.store import arrivals as store
from sortitor.store.arrivals import ArrivalRow, MessageRow, Wanted


def page(ctx: Context, wanted: Wanted, before: int | None, limit: int) -> list[ArrivalRow]:
    """Arrivals, newest first."""
    with ctx.reading() as connection:
        return store.page(connection, wanted, before, limit)


def counts(ctx: Context, days: int) -> dict[WayStage, int]:
    """How many arrivals of the last days stand at each stage of the way in."""
    with ctx.reading() as connection:
        return store.way_counts(connection, ctx.now - timedelta(days=days))


@dataclass(frozen=True, slots=True)
class Board:
    """The board at a glance: when something moved last, and how many stand where today."""

    moved_at: datetime | None
    counts: dict[WayStage, int]


def board(ctx: Context) -> Board:
    """The board at a glance, of the last day."""
    with ctx.reading() as connection:
        counted = store.way_counts(connection, ctx.now - timedelta(days=1))
        return Board(store.last_move(connection), counted)


@dataclass(frozen=True, slots=True)
class Way:
    """One arrival with every message that went to and fro."""

    arrival: ArrivalRow
    messages: list[MessageRow]


def one(ctx: Context, arrival_id: int) -> Way:
    """One arrival with its trace and its messages."""
    with ctx.reading() as connection:
        found = or_not_found(store.one(connection, arrival_id), "arrival", arrival_id)
        return Way(found, store.messages_of(connection, arrival_id))
