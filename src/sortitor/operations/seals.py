"""Sealing the journal after its writers, and proving that it is unchanged."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from sortitor.core.seals import BEGINNING, next_digest
from sortitor.operations.context import Context
from sortitor.store import accounts as facts
from sortitor.store import seals as store
from sortitor.store.engine import Connection
from sortitor.store.seals import SealRow

_HORIZON = "sealed_up_to"
_BATCH = 500
_MOST_AT_ONCE = 5_000


def seal(ctx: Context) -> int:
    """Seal what was written since, in the order of numbers; gives how many entries. Writers wait
    for nothing: whatever they commit is sealed afterwards, once, by one process at a time.
    """
    done = fresh = _seal_some(ctx)
    # What came in the meantime waits for the next time: under load there is always something.
    while fresh == _BATCH:
        fresh = _seal_some(ctx)
        done += fresh
    return done


def _seal_some(ctx: Context) -> int:
    with ctx.bookkeeping() as connection:
        if not store.hold_the_chain(connection):
            return 0
        horizon = int(facts.fact(connection, _HORIZON) or 0)
        # Of transactions before this one nothing new can come; it is asked first.
        running = store.oldest_running(connection)
        entries = store.unsealed(connection, horizon, _BATCH)
        end = store.last(connection)
        place, digest = (end.place, end.digest) if end else (0, BEGINNING)
        made = []
        for entry in entries:
            place, digest = place + 1, next_digest(digest, entry)
            made.append(SealRow(place, entry["id"], digest, ctx.clock.wall()))
        if made:
            store.add(connection, made)
        if len(made) < _BATCH and running > horizon:
            facts.set_fact(connection, _HORIZON, str(running))
        return len(made)


def look_at_all(connection: Connection) -> None:
    """Let the next sealing look at every entry: numbers of transactions begin anew in another
    cluster.
    """
    facts.set_fact(connection, _HORIZON, None)


@dataclass(frozen=True, slots=True)
class Checked:
    """A part of the chain as it was checked: up to which place, and the first entry that is not
    what was sealed, with why.
    """

    place: int
    digest: str
    checked: int
    over: bool
    broken_entry: int | None = None
    why: str = ""


def verify(ctx: Context, after_place: int = 0, limit: int = _MOST_AT_ONCE) -> Checked:
    """Check the chain after a place; the rest is asked for in further calls."""
    with ctx.reading(one_moment=True) as connection:
        before = store.at(connection, after_place)
        if after_place and before is None:
            return Checked(after_place, "", 0, True, None, f"Place {after_place} is missing.")
        digest = before.digest if before else BEGINNING
        place = after_place
        seals = store.after(connection, after_place, min(limit, _MOST_AT_ONCE))
        ids = [one.entry_id for one in seals]
        found = {e["id"]: e for e in store.entries(connection, ids)}
        vouched = store.vouched(connection, ids)
    for one in seals:
        entry = found.get(one.entry_id)
        why = ""
        if one.place != place + 1:
            why = f"Place {place + 1} of the chain is missing."
        elif entry is None:
            why = "The entry is no longer there."
        elif one.entry_id in vouched:
            # It was emptied: its erasure, which has a place of its own, tells the digest it had.
            if vouched[one.entry_id] != one.digest.hex():
                why = "The entry was emptied, and its erasure does not vouch for it."
        elif next_digest(digest, entry) != one.digest:
            why = "The entry, or what it did to devices, is not what was sealed."
        if why:
            return Checked(place, digest.hex(), place - after_place, True, one.entry_id, why)
        place, digest = one.place, one.digest
    return Checked(place, digest.hex(), place - after_place, len(seals) < limit)


def lines(ctx: Context, after_place: int) -> Iterator[bytes]:
    """The sealed journal as JSON Lines, in the order of its chain, with places and digests."""
    place = after_place
    while True:
        with ctx.reading() as connection:
            seals = store.after(connection, place, _BATCH)
            ids = [one.entry_id for one in seals]
            found = {e["id"]: e for e in store.entries(connection, ids)}
            vouched = store.vouched(connection, ids)
        for one in seals:
            line = {"place": one.place, "digest": one.digest.hex(), **found.get(one.entry_id, {})}
            if one.entry_id in vouched:
                line["erased"] = True
            yield json.dumps(line, default=_moment, ensure_ascii=False).encode() + b"\n"
        if len(seals) < _BATCH:
            return
        place = seals[-1].place


def _moment(value: object) -> str:
    return value.isoformat() if isinstance(value, datetime) else str(value)


def note_export(ctx: Context, what: str, detail: str) -> None:
    """Write down that data were taken out."""
    with ctx.changing() as connection:
        ctx.record(connection, "export", what, detail)
