"""Arrivals as the coordinator reads them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from sortitor.core.filters import lower
from sortitor.core.identifiers import normal_forms
from sortitor.core.vocabulary import Ownership, WayStage
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.documents import is_number
from sortitor.store import arrivals as store
from sortitor.store import people
from sortitor.store.arrivals import ArrivalRow, MessageRow, Wanted
from sortitor.store.engine import Connection


def page(
    ctx: Context,
    wanted: Wanted,
    before: int | None,
    limit: int,
    identifier: str | None = None,
    person: str | None = None,
) -> list[ArrivalRow]:
    """Arrivals, newest first. identifier: those that stated this serial number or IMEI, however it
    is written; whoever may not see it finds none by it. person: somebody's, by number or user name.
    """
    with ctx.reading() as connection:
        if identifier is not None:
            forms = {identifier.strip(), *normal_forms([identifier])[identifier]}
            known = None if ctx.veil.lifted else _SHOWN_TO_ALL
            identifiers = tuple(sorted(one.upper() for one in forms))
            wanted = replace(wanted, identifiers=identifiers, known=known)
        if person is not None:
            wanted = replace(wanted, person=_person(connection, person))
        return store.page(connection, wanted, before, limit)


#: Of these devices everybody sees the identifiers.
_SHOWN_TO_ALL = tuple(one for one in Ownership if one is not Ownership.PERSONAL)


def _person(connection: Connection, key: str) -> tuple[int, tuple[str, ...]]:
    found = people.one(connection, int(key)) if is_number(key) else people.by_name(connection, key)
    row = or_not_found(found, "person", key)
    return row.id, tuple(lower(name) for name in (row.user_name, row.mail) if name)


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
