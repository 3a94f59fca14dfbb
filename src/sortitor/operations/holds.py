"""Keeping devices out of sweeps: single ones, all of a person's, or all of a cohort's."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sortitor.core.errors import BadInput, Conflict, NotFound
from sortitor.core.holds import Terms, state_of
from sortitor.core.journal import document_revert
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import HoldKind, HoldState, Stage
from sortitor.operations import people
from sortitor.operations.cohorts.documents import COHORTS, find
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.documents import Key
from sortitor.operations.selections import resolve_selection
from sortitor.store import devices, journal
from sortitor.store import holds as store
from sortitor.store.devices import TurnRow
from sortitor.store.engine import Connection
from sortitor.store.holds import HoldRow as HoldRow
from sortitor.store.journal import EntryRow

_EXAMPLES = 50


@dataclass(frozen=True, slots=True)
class About:
    """What is to be held: exactly one of these is said."""

    selection: Selection | None = None
    person: Key | None = None
    cohort: Key | None = None


@dataclass(frozen=True, slots=True)
class _Target:
    """What is held: its kind, its number where it is one thing, and its devices at this moment."""

    kind: HoldKind
    number: int | None
    title: str
    rows: Sequence[TurnRow]

    @property
    def kept(self) -> list[TurnRow]:
        """Those that a sweep could take."""
        return [row for row in self.rows if row.stage is not Stage.RETIRED]


def label(ctx: Context, row: HoldRow) -> str:
    """What a hold keeps, in words."""
    if words := _several(row):
        return words
    assert row.device_id is not None
    assert row.ownership is not None
    return ctx.veil.label(row.device_id, row.name, row.serial, row.ownership)


def _several(row: HoldRow) -> str | None:
    """The words where it is not one single device."""
    if row.kind is HoldKind.PERSON:
        return f"all devices of {row.person}"
    if row.kind is HoldKind.COHORT:
        return f"cohort “{row.cohort}”"
    return None if row.devices == 1 else plural(row.devices, "device")


def state(ctx: Context, row: HoldRow) -> HoldState:
    """How a hold stands today."""
    return state_of(row.from_on, row.until_on, row.ended_at is not None, ctx.today)


def page(ctx: Context, before: int | None, limit: int, over: bool = False) -> list[HoldRow]:
    """Holds that run or are to come, newest first; also those that are `over` when asked."""
    with ctx.reading() as connection:
        return store.page(connection, before, limit, ctx.today, over)


def one(ctx: Context, hold_id: int) -> HoldRow:
    """One hold, also one that has ended. Raises NotFound."""
    with ctx.reading() as connection:
        return or_not_found(store.one(connection, hold_id), "hold", hold_id)


def on_person(ctx: Context, person_id: int) -> list[HoldRow]:
    """The living holds on all that a person has."""
    with ctx.reading() as connection:
        return store.on_person(connection, person_id, ctx.today)


def _target(ctx: Context, connection: Connection, about: About, lock: bool = False) -> _Target:
    said = [one for one in (about.selection, about.person, about.cohort) if one is not None]
    if len(said) != 1 or about.selection == Selection():
        raise BadInput(
            "hold_what", "It is not said what is held.", "Name devices, or a person, or a cohort."
        )
    if about.person is not None:
        person = people.find(connection, about.person)
        title = f"all devices of {person.name}"
        selection = Selection(person_id=person.id)
        kind, number = HoldKind.PERSON, person.id
    elif about.cohort is not None:
        if lock:
            COHORTS.hold(connection)
        cohort = find(connection, about.cohort)
        if cohort.moving:
            raise Conflict(
                "cohort_moves",
                f"Time moves the devices of “{cohort.name}” in and out, so a hold would let go of"
                " them by itself.",
                "Hold the devices that are in it now: choose them by its filter.",
            )
        title = f"cohort “{cohort.name}”"
        selection = Selection(cohort_id=cohort.id)
        kind, number = HoldKind.COHORT, cohort.id
    else:
        assert about.selection is not None
        selection, kind, number, title = about.selection, HoldKind.DEVICES, None, ""
    found = devices.turn_rows(connection, resolve_selection(connection, selection), ctx.now)
    target = _Target(kind, number, title, found)
    if kind is HoldKind.DEVICES:
        target = _Target(kind, None, plural(len(target.kept), "device"), found)
    return target


def _plan(ctx: Context, target: _Target, terms: Terms) -> Preview:
    terms.check(ctx.today)
    kept, named = target.kept, target.kind is HoldKind.DEVICES
    retired = len(target.rows) - len(kept)
    counts = [
        Count("kept", "devices that no sweep takes", len(kept), "good" if kept else "warn"),
        Count("held", "of them on hold already", sum(row.held for row in kept)),
    ]
    if retired:
        counts.append(Count("retired", "retired already, left as they are", retired))
    warnings = []
    if not named:
        warnings.append("What is in it later is held too; what leaves it is not.")
    if terms.from_on > ctx.today:
        warnings.append(f"It begins on {terms.from_on}: until then sweeps take them.")
    shown = Preview(
        title=f"Hold {target.title} until {terms.until_on}",
        apply_label=f"Hold {plural(len(kept), 'device')}" if named else f"Hold {target.title}",
        counts=tuple(counts),
        examples=tuple(_example(ctx, row, terms) for row in kept[:_EXAMPLES]),
        examples_total=len(kept),
        warnings=tuple(warnings),
        nothing_to_do=named and not kept,
    )
    facts = [target.kind, target.number, [row.id for row in kept] if named else None]
    return sealed(shown, [*facts, terms.from_on, terms.until_on, terms.reason, terms.owner])


def _example(ctx: Context, row: TurnRow, terms: Terms) -> Example:
    subject = ctx.veil.label(row.id, row.name, row.serial, row.ownership)
    words = ", ".join(part for part in (row.person_name, row.site) if part)
    before = "held" if row.held else "not held"
    return Example(subject, "hold", before, f"held until {terms.until_on}", words, row.id)


def preview(ctx: Context, about: About, terms: Terms) -> Preview:
    """Which devices a hold would keep out of sweeps."""
    with ctx.reading() as connection:
        return _plan(ctx, _target(ctx, connection, about), terms)


def add(ctx: Context, about: About, terms: Terms, digest: str) -> HoldRow:
    """Hold as previewed."""
    with ctx.changing() as connection:
        target = _target(ctx, connection, about, lock=True)
        plan = _plan(ctx, target, terms)
        require_digest(plan, digest)
        if plan.nothing_to_do:
            raise Conflict("nothing_to_do", "None of these devices can be held.", "Choose others.")
        named = [row.id for row in target.kept] if target.kind is HoldKind.DEVICES else []
        hold_id = store.add(
            connection,
            {
                "person_id": target.number if target.kind is HoldKind.PERSON else None,
                "cohort_id": target.number if target.kind is HoldKind.COHORT else None,
                "reason": terms.reason,
                "owner": terms.owner,
                "from_on": terms.from_on,
                "until_on": terms.until_on,
                "created_by": ctx.actor.name,
                "created_at": ctx.now,
            },
            named,
        )
        told = {"hold": hold_id, "from_on": str(terms.from_on), "until_on": str(terms.until_on)}
        row = or_not_found(store.one(connection, hold_id), "hold", hold_id)
        words = f"{_told(row)} held until {terms.until_on}"
        _note(ctx, connection, "hold.add", row, words, told, terms.reason, named)
        return row


def end(ctx: Context, hold_id: int, device_id: int | None, reason: str | None) -> None:
    """End a hold now, or for one of the devices that it names."""
    with ctx.changing() as connection:
        row = store.one(connection, hold_id, lock=True)
        if row is None or state(ctx, row) is HoldState.OVER:
            raise NotFound("hold", hold_id)
        if device_id is not None:
            _release(ctx, connection, row, device_id, reason)
            return
        store.end(connection, hold_id, ctx.now)
        words = f"{_told(row)} no longer held"
        named = store.named(connection, hold_id)
        _note(ctx, connection, "hold.end", row, words, {"hold": hold_id}, reason, named)


def _release(
    ctx: Context, connection: Connection, row: HoldRow, device_id: int, reason: str | None
) -> None:
    device = or_not_found(devices.one(connection, device_id), "device", device_id)
    if not store.release(connection, row.id, device_id):
        raise Conflict(
            "not_named",
            f"This hold keeps {label(ctx, row)}, not single devices.",
            "End the whole hold, or take the device out of what it keeps.",
        )
    if row.devices == 1:
        store.end(connection, row.id, ctx.now)
    words = f"{device.name or f'Device no. {device_id}'} no longer held"
    told = {"hold": row.id, "device": device_id}
    _note(ctx, connection, "hold.end", row, words, told, reason, [device_id])


def _told(row: HoldRow) -> str:
    """What a hold keeps, for the journal: which everybody reads, so by no number."""
    words = _several(row) or row.name or f"device no. {row.device_id}"
    return words[:1].upper() + words[1:]


def _note(
    ctx: Context,
    connection: Connection,
    operation: str,
    row: HoldRow,
    words: str,
    told: dict[str, Any],
    reason: str | None,
    named: Sequence[int],
) -> None:
    """A journal entry that shows in the timelines of the devices that the hold names."""
    subject, number = "hold", row.id
    if len(named) == 1:
        subject, number = "device", named[0]
    elif row.person_id is not None:
        subject, number = "person", row.person_id
    elif row.cohort_id is not None:
        subject, number = "cohort", row.cohort_id
    entry = ctx.record(
        connection, operation, subject, words, subject_id=number, reason=reason, after=told
    )
    journal.touch(connection, entry, named, told)


# ---- taking back


def plan_undoing(
    ctx: Context, connection: Connection, entry: EntryRow, lock: bool = False
) -> Preview:
    """What taking back the making or the ending of a hold does."""
    row = store.one(connection, entry.after["hold"], lock)
    return sealed(document_revert(entry.summary, _is_stale(ctx, entry, row)), [entry.id, str(row)])


def _is_stale(ctx: Context, entry: EntryRow, row: HoldRow | None) -> bool:
    if row is None or row.until_on < ctx.today:
        return True
    if entry.operation == "hold.add":
        return row.ended_at is not None
    return row.ended_at is None and "device" not in entry.after


def undo(ctx: Context, connection: Connection, entry: EntryRow) -> None:
    """End the hold that was made, or let the one that was ended live again."""
    hold_id = entry.after["hold"]
    if entry.operation == "hold.add":
        store.end(connection, hold_id, ctx.now)
        return
    store.end(connection, hold_id, None)
    if device_id := entry.after.get("device"):
        store.name_devices(connection, hold_id, [device_id])
