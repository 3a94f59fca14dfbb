"""Seats for devices that arrive."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sortitor.core.gate import Seats
from sortitor.core.licences.pools import needs_seat
from sortitor.core.vocabulary import Shortage, Stage
from sortitor.operations.context import Context
from sortitor.operations.licences.pools import POOLS, counted_in
from sortitor.store.engine import Connection


def seats_for(
    ctx: Context,
    connection: Connection,
    before: Mapping[str, Any] | None,
    after: Mapping[str, Any],
    *,
    lock: bool,
) -> tuple[Seats, ...]:
    """The pools that mind who comes and of which a device would take one more seat, by what is
    known of it before and after its arrival (attribute → value). Locked, their numbers stay true
    until the transaction ends: of two arrivals only one takes the last seat.
    """
    minding = [
        kept
        for kept in POOLS.shelf.every(connection)
        if kept.document.when_short is not Shortage.ADMIT
        and needs_seat(kept.document, {**after, "stage": Stage.ACTIVE})
        and not (before and needs_seat(kept.document, before))
    ]
    if lock:
        for kept in sorted(minding, key=lambda one: one.id):
            POOLS.shelf.one(connection, kept.id, lock=True)
    return tuple(
        Seats(
            pool=one.kept.document.name,
            when_short=one.kept.document.when_short,
            taken=one.needed,
            seats=one.standing.seats,
        )
        for one in counted_in(ctx, connection, minding)
    )
