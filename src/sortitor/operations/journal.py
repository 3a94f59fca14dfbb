"""Reading the journal: by whom, by what, by when, in words, and as a file."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from typing import Any

import polars as pl

from sortitor.core.documents import Difference, told
from sortitor.core.errors import BadInput, FieldProblem, TooLarge
from sortitor.core.journal import device_changes
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Ownership
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.documents import is_number
from sortitor.operations.people import name_people
from sortitor.operations.reverts import changes_of
from sortitor.store import devices, people
from sortitor.store import journal as store
from sortitor.store.engine import Connection
from sortitor.store.journal import EffectRow, EntryRow, Wanted

_EFFECTS_SHOWN, _PAGE = 100, 500


@dataclass(frozen=True, slots=True)
class Question:
    """Which entries are asked for: kinds by how their operation begins, who acted, a person by
    number or user name, a device by number, and the days from and to (the organisation's).
    """

    operation: str | None = None
    actor: str | None = None
    person: str | None = None
    device: int | None = None
    since: date | None = None
    until: date | None = None


@dataclass(frozen=True, slots=True)
class Effect:
    """What an entry did to one device, which goes by `label`."""

    device_id: int
    label: str
    before: dict[str, Any] | None
    after: dict[str, Any] | None
    changes: tuple[Difference, ...]


@dataclass(frozen=True, slots=True)
class Told:
    """An entry with what it changed in a document."""

    entry: EntryRow
    changes: tuple[Difference, ...]


def page(
    ctx: Context, question: Question, after: int | None, limit: int, newest_first: bool = True
) -> list[Told]:
    """Entries in the order of their numbers, from the one after a number on."""
    with ctx.reading() as connection:
        wanted = _wanted(ctx, connection, question)
        found = store.page(connection, wanted, after, limit, newest_first)
        return [_told(entry) for entry in found]


def pages(ctx: Context, question: Question) -> Iterator[list[Told]]:
    """All that is asked for, newest first, a part at a time. What cannot be asked is said at once,
    not when the first part is taken.
    """
    with ctx.reading() as connection:
        wanted = _wanted(ctx, connection, question)
    return _parts(ctx, wanted)


def _parts(ctx: Context, wanted: Wanted) -> Iterator[list[Told]]:
    before: int | None = None
    while True:
        with ctx.reading() as connection:
            some = [_told(entry) for entry in store.page(connection, wanted, before, _PAGE)]
        if not some:
            return
        yield some
        before = some[-1].entry.id


#: More entries are no table that anybody reads.
_MOST_IN_A_TABLE = 100_000
_COLUMNS = ("Entry", "At (UTC)", "By", "What", "Changes", "Why", "Operation", "Reverted by")


def table(parts: Iterator[list[Told]]) -> pl.DataFrame:
    """Entries in words, a row each, every cell a text. Raises TooLarge for more than anybody reads
    in a table.
    """
    rows: list[tuple[str | None, ...]] = []
    for some in parts:
        rows += [_row(one) for one in some]
        if len(rows) > _MOST_IN_A_TABLE:
            words = f"More than {_MOST_IN_A_TABLE:,} entries are asked for."
            remedy = "Choose fewer days, or take them out as JSON Lines."
            raise TooLarge("too_many_entries", words, remedy)
    return pl.DataFrame(rows, schema=dict.fromkeys(_COLUMNS, pl.String), orient="row")


def _row(one: Told) -> tuple[str | None, ...]:
    entry = one.entry
    return (
        str(entry.id),
        f"{entry.at.astimezone(UTC):%Y-%m-%d %H:%M:%S}",
        entry.actor,
        entry.summary,
        told(one.changes, len(one.changes)),
        entry.reason,
        entry.operation,
        str(entry.reverted_by) if entry.reverted_by else None,
    )


def _told(entry: EntryRow) -> Told:
    return Told(entry, changes_of(entry))


def _wanted(ctx: Context, connection: Connection, question: Question) -> Wanted:
    since, until = question.since, question.until
    if since and until and until < since:
        words = "The last day is before the first one."
        problem = FieldProblem("/query/until", "bad_days", words)
        raise BadInput("bad_days", words, "Correct the days.", (problem,))
    return Wanted(
        operation=question.operation,
        actor=question.actor,
        person_id=_person(connection, question.person),
        device_id=question.device,
        since=_begin(ctx, since) if since else None,
        before=_begin(ctx, until + timedelta(days=1)) if until else None,
    )


def _begin(ctx: Context, day: date) -> datetime:
    return datetime.combine(day, time(), ctx.limits.zone)


def _person(connection: Connection, key: str | None) -> int | None:
    if key is None:
        return None
    if is_number(key):
        return int(key)
    return or_not_found(people.by_name(connection, key), "person", key).id


def one(ctx: Context, entry_id: int) -> tuple[Told, list[Effect]]:
    """One entry with its first hundred effects on devices."""
    with ctx.reading() as connection:
        entry = or_not_found(store.one(connection, entry_id), "journal entry", entry_id)
        rows = store.effects(connection, entry_id, 0, _EFFECTS_SHOWN)
        return _told(entry), _effects(ctx, connection, rows)


def _effects(ctx: Context, connection: Connection, rows: Sequence[EffectRow]) -> list[Effect]:
    """People by name instead of by number, devices as people call them."""
    shown = Selection(ids=tuple(row.device_id for row in rows))
    found = devices.some(connection, devices.matching(shown, ctx.now), _EFFECTS_SHOWN)
    known = {row.id: row for row in found} if rows else {}
    sides = [_sides(ctx, row) for row in rows]
    name_people(connection, [side for both in sides for side in both])
    effects = []
    for row, (before, after) in zip(rows, sides, strict=True):
        device = known.get(row.device_id)
        label = (
            ctx.veil.label(device.id, device.name, device.serial, device.ownership)
            if device
            else f"device no. {row.device_id}, which is gone"
        )
        effects.append(Effect(row.device_id, label, before, after, device_changes(before, after)))
    return effects


def _sides(ctx: Context, row: EffectRow) -> tuple[dict[str, Any] | None, dict[str, Any] | None]:
    """A device that was, is or became personal is treated as personal on both sides."""
    states: list[Ownership | None] = [row.ownership]
    states += [(side or {}).get("ownership") for side in (row.before, row.after)]
    ownership = next((state for state in states if ctx.veil.hides(state)), row.ownership)
    return ctx.veil.effect(row.before, ownership), ctx.veil.effect(row.after, ownership)
