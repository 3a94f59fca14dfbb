"""Runs of sources: asked for by a person or the schedule, read outside any transaction, taken over
in one.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

import polars as pl

from sortitor.core import rosters
from sortitor.core.errors import Conflict
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.rosters import Remarked, Told
from sortitor.core.sources import Source, Standing, brakes, next_run_at, wants_whole
from sortitor.core.vocabulary import RunState, SourceKind
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.documents import Key
from sortitor.operations.documents import Wanted as Edit
from sortitor.operations.sources import news
from sortitor.operations.sources.around import around
from sortitor.operations.sources.documents import SOURCES, is_elsewhere
from sortitor.operations.sources.ports import Asked
from sortitor.operations.sources.secrets import secrets_of
from sortitor.store import licences, source_people
from sortitor.store import rosters as store_rosters
from sortitor.store import sources as store
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection
from sortitor.store.licences import KeysMoved
from sortitor.store.rosters import Moved
from sortitor.store.source_people import PeopleMoved
from sortitor.store.sources import RunRow as RunRow

_EXAMPLES = 50


@dataclass(frozen=True, slots=True)
class Outcome:
    """What a run would change, or did."""

    devices: Moved | None = None
    people: PeopleMoved | None = None
    keys: KeysMoved | None = None
    remarks: tuple[Remarked, ...] = ()

    @property
    def counts(self) -> dict[str, int]:
        """Every number that is told of a run, without those that are nothing."""
        told: dict[str, int] = {}
        if self.devices is not None:
            moved = self.devices
            told |= {
                "devices_added": moved.added,
                "devices_changed": moved.changed,
                "devices_gone": moved.gone,
            }
        if self.people is not None:
            found = asdict(self.people)
            told |= {name: found[name] for name in PEOPLE_WORDS}
        if self.keys is not None:
            told |= {"keys_added": self.keys.added, "keys_gone": self.keys.gone}
        return {name: number for name, number in told.items() if number}

    @property
    def changes_people(self) -> bool:
        """Whether people or groups become others by it."""
        found = self.people
        return found is not None and any(getattr(found, name) for name in PEOPLE_WORDS)


DEVICE_WORDS = {
    "devices_added": "devices new in its roster",
    "devices_changed": "devices of which it says something else",
    "devices_gone": "devices that it lists no longer",
}
PEOPLE_WORDS = {
    "people_added": "new people",
    "people_changed": "people changed",
    "people_left": "people who have left",
    "people_back": "people who are back",
    "groups_added": "new groups",
    "groups_changed": "groups renamed or emptied",
    "joins": "memberships added",
    "leaves": "memberships ended",
}
KEY_WORDS = {
    "keys_added": "new public keys",
    "keys_gone": "public keys withdrawn: vouchers made with them are refused",
}
WORDS = {**DEVICE_WORDS, **PEOPLE_WORDS, **KEY_WORDS}
#: The same of one.
_ONE = {
    "people_added": "new person",
    "people_changed": "person changed",
    "people_left": "person who has left",
    "people_back": "person who is back",
    "groups_added": "new group",
    "groups_changed": "group renamed or emptied",
    "joins": "membership added",
    "leaves": "membership ended",
}


def _counted(name: str, number: int) -> str:
    return f"{number:,} {_ONE[name] if number == 1 else PEOPLE_WORDS[name]}"


_WARN = {"devices_gone", "people_left", "leaves", "keys_gone"}


def standing_of(row: store.StandingRow) -> Standing:
    """What decides about a source's state and its next run."""
    return Standing(row.good_at, row.whole_at, row.last_state, row.last_at)


# ---- asking for one


def begin(ctx: Context, connection: Connection, kept: Kept[Source], wanted: Wanted) -> int | None:
    """Note that a run is wanted; None where one is under way already."""
    return store.begin_run(
        connection,
        {
            "source_id": kept.id,
            "source_name": kept.document.name,
            "whole": wanted.whole,
            "unbraked": wanted.unbraked,
            "by": ctx.actor.name,
            "asked_at": ctx.now,
            "state": RunState.WAITING,
        },
    )


@dataclass(frozen=True, slots=True)
class Wanted:
    """How a run is wanted: everything or changes alone, and whether it may drop many."""

    whole: bool = True
    unbraked: bool = False


def require_asking(source: Source) -> None:
    """Raise Conflict for a source that is not asked but told."""
    if not source.asks:
        raise Conflict(
            "not_asked",
            f"“{source.name}” is not asked by Sortitor: it is told.",
            "Hand its file over."
            if source.kind in (SourceKind.ROSTER, SourceKind.ISSUER)
            else "Let the identity provider push.",
        )


def due(ctx: Context) -> list[tuple[Kept[Source], Wanted]]:
    """The sources whose time has come, each with how it is to be read."""
    with ctx.reading() as connection:
        standings = store.standings(connection)
        found = []
        for kept in SOURCES.shelf.every(connection):
            row = standings[kept.id]
            standing = standing_of(row)
            at = next_run_at(kept.document, standing)
            # A run that was braked waits for somebody; asking again would only ask again.
            braked = row.last_state is RunState.BRAKED
            if at is not None and at <= ctx.now and row.at_work is None and not braked:
                whole = wants_whole(kept.document, standing, ctx.now)
                found.append((kept, Wanted(whole)))
        return found


# ---- carrying one out


def carry_out(ctx: Context, run_id: int) -> RunRow:
    """Read a source and take over what it says. Raises what it failed of; the run keeps it."""
    with ctx.bookkeeping() as connection:
        run = or_not_found(store.run(connection, run_id, hold=True), "run", run_id)
        if run.state not in store.AT_WORK:
            return run
        kept = or_not_found(SOURCES.shelf.one(connection, run.source_id), "source", run.source_name)
        store.change_run(connection, run_id, {"state": RunState.RUNNING})
        row = or_not_found(store.standing(connection, kept.id), "source", kept.id)
        secrets = secrets_of(ctx, connection, kept.id)
    whole = run.whole or row.whole_at is None
    asked = Asked(whole, None if whole else row.cursor, row.etag)
    told = ctx.outside.read(kept.document, secrets, asked, ctx.progress)
    with ctx.changing() as connection:
        if not store.lock(connection, kept.id):
            or_not_found(None, "source", run.source_name)
        run = or_not_found(store.run(connection, run_id, hold=True), "run", run_id)
        if run.state not in store.AT_WORK:
            return run
        taken = Taken() if told is None else take_over(ctx, connection, kept, told, run.unbraked)
        finish(ctx, connection, run_id, kept, told, taken)
        return or_not_found(store.run(connection, run_id), "run", run_id)


@dataclass(frozen=True, slots=True)
class Taken:
    """What taking over a source's word did."""

    outcome: Outcome = Outcome()
    entry_id: int | None = None
    lot_id: int | None = None
    brake: str | None = None


def stage(ctx: Context, connection: Connection, source_id: int, told: Told) -> Outcome:
    """What the source's word would change, worked out in temporary tables."""
    devices = people = None
    if told.devices is not None:
        devices = store_rosters.stage(
            connection,
            source_id,
            told.devices,
            told.gone,
            told.whole,
            ctx.counting("writing devices", told.devices.height),
        )
    if told.people is not None:
        ctx.progress("comparing people", 0, told.people.height)
        people = source_people.stage(
            connection,
            source_id,
            told.people,
            _or_empty(told.groups, rosters.GROUP_SCHEMA),
            _or_empty(told.members, rosters.MEMBER_SCHEMA),
            told.whole,
            ctx.now,
        )
    keys = None if told.keys is None else licences.keys_moved(connection, source_id, told.keys)
    return Outcome(devices, people, keys, (*told.remarks, *_doubts(people)))


def _or_empty(frame: pl.DataFrame | None, schema: Any) -> pl.DataFrame:
    return pl.DataFrame(schema=schema) if frame is None else frame


def _doubts(people: PeopleMoved | None) -> tuple[Remarked, ...]:
    if people is None:
        return ()
    said = []
    if people.name_taken:
        words = "people whose new user name another person has; they keep the former one"
        said.append(Remarked("user_name_taken", words, people.name_taken))
    if people.kept_by_hand:
        words = "people who stay as somebody set them by hand"
        said.append(Remarked("kept_by_hand", words, people.kept_by_hand))
    return tuple(said)


def brake_of(source: Source, outcome: Outcome) -> str | None:
    """Why a run stops and asks, or None."""
    said = []
    devices, people = outcome.devices, outcome.people
    if devices and brakes(source, devices.gone, devices.known):
        said.append(f"{devices.gone:,} of {plural(devices.known, 'device')}")
    if people and brakes(source, people.gone, people.known):
        said.append(f"{people.gone:,} of {people.known:,} people")
    if not said:
        return None
    return f"It would drop {' and '.join(said)}, more than the brake of {source.brake_percent} %."


def take_over(
    ctx: Context, connection: Connection, kept: Kept[Source], told: Told, unbraked: bool
) -> Taken:
    """Write what a source says, whole or not at all."""
    if told.people is not None:
        source_people.hold(connection)
    outcome = stage(ctx, connection, kept.id, told)
    brake = None if unbraked else brake_of(kept.document, outcome)
    if brake is not None:
        return Taken(outcome, brake=brake)
    return _write(ctx, connection, kept, told, outcome)


def _write(
    ctx: Context, connection: Connection, kept: Kept[Source], told: Told, outcome: Outcome
) -> Taken:
    """Write what was staged, all at one moment: the clock goes on meanwhile."""
    source, now = kept.document, ctx.now
    entry_id = lot_id = None
    if outcome.changes_people:
        entry_id = _record(ctx, connection, kept, outcome)
        ctx.progress("writing people", 0, 0)
        source_people.take_over(connection, kept.id, entry_id, now)
    elif told.people is not None:
        source_people.note(connection, kept.id, now)
    if told.devices is not None:
        store_rosters.merge(connection, kept.id, told.whole, now)
        if source.kind is SourceKind.REGISTRY and source.takes_new:
            lot_id = news.take_in(ctx, connection, kept, now)
        store_rosters.write(connection, kept.id, now, made_devices=lot_id is not None)
    if told.keys is not None:
        licences.put_keys(connection, kept.id, told.keys, now)
    return Taken(outcome, entry_id, lot_id)


def _record(ctx: Context, connection: Connection, kept: Kept[Source], outcome: Outcome) -> int:
    counts = {name: outcome.counts[name] for name in PEOPLE_WORDS if name in outcome.counts}
    said = ", ".join(_counted(name, number) for name, number in counts.items())
    return ctx.record(
        connection,
        "source.run",
        "source",
        f"“{kept.document.name}” read: {said}",
        subject_id=kept.id,
        after=counts,
    )


def finish(
    ctx: Context,
    connection: Connection,
    run_id: int,
    kept: Kept[Source],
    told: Told | None,
    taken: Taken,
) -> None:
    """Note what became of a run, and where the next one goes on."""
    braked = taken.brake is not None
    problem = None
    if braked:
        problem = {
            "code": "braked",
            "detail": taken.brake,
            "remedy": "Preview the run. If that is right, run it once without the brake.",
        }
    store.change_run(
        connection,
        run_id,
        {
            "state": RunState.BRAKED if braked else RunState.DONE,
            "ended_at": ctx.now,
            "counts": taken.outcome.counts,
            "remarks": [asdict(remark) for remark in taken.outcome.remarks],
            "problem": problem,
            "entry_id": taken.entry_id,
            "lot_id": taken.lot_id,
        },
    )
    if braked:
        ctx.record(
            connection,
            "source.brake",
            "source",
            f"“{kept.document.name}” stopped: {taken.brake}",
            subject_id=kept.id,
        )
        return
    values: dict[str, Any] = {"good_at": ctx.now}
    if told is not None:
        values |= {"cursor": told.cursor, "etag": told.etag}
    if told is None or told.whole:
        values["whole_at"] = ctx.now
    store.note_read(connection, kept.id, values)


def fail(ctx: Context, connection: Connection, run_id: int, problem: dict[str, Any] | None) -> None:
    """Note that a run came to nothing: what was known before stands."""
    run = store.run(connection, run_id, hold=True)
    if run is None or run.state not in store.AT_WORK:
        return
    state = RunState.CANCELLED if problem is None else RunState.FAILED
    values = {"state": state, "ended_at": ctx.now, "problem": problem}
    store.change_run(connection, run_id, values)


def is_over(connection: Connection, run_id: int) -> bool:
    """Whether a run has come to an end."""
    run = store.run(connection, run_id)
    return run is None or run.state not in store.AT_WORK


def note_job(connection: Connection, run_id: int, job_id: int) -> None:
    """Note which job carries a run out."""
    store.change_run(connection, run_id, {"job_id": job_id})


# ---- looking before


def preview(ctx: Context, key: Key, proposed: Source | None = None, whole: bool = True) -> Preview:
    """What a run would change now; with `proposed`, read as that document says. It is carried out
    and rolled back, so that cohorts and seats are counted as they would be.
    """
    with ctx.reading() as connection:
        kept = SOURCES.find(connection, key)
        row = or_not_found(store.standing(connection, kept.id), "source", key)
        secrets = secrets_of(ctx, connection, kept.id)
    if proposed is not None:
        proposed.check()
        with ctx.reading() as connection:
            SOURCES.check(ctx, connection, Edit(kept, proposed))
        if is_elsewhere(kept.document, proposed):
            # What opens the one place is shown to no other.
            secrets = {}
        kept = replace(kept, document=proposed)
    require_asking(kept.document)
    asked = Asked(whole, None if whole else row.cursor)
    told = ctx.outside.read(kept.document, secrets, asked, ctx.progress)
    return preview_told(ctx, kept, told)


def preview_told(ctx: Context, kept: Kept[Source], told: Told | None) -> Preview:
    """What taking over a source's word would do."""
    with ctx.working_out() as connection:
        if told is None:
            return sealed(_shown(kept, Outcome(), (), [], None), "unchanged")
        before = around(ctx, connection)
        outcome = stage(ctx, connection, kept.id, told)
        brake = brake_of(kept.document, outcome)
        lines = source_people.examples(connection, _EXAMPLES) if outcome.people is not None else []
        taken = _write(ctx, connection, kept, told, outcome)
        after = around(ctx, connection)
        moved = [
            Count(name, f"{name}: {before.get(name, 0):,} → {number:,}", number)
            for name, number in after.items()
            if before.get(name, 0) != number
        ]
        if taken.lot_id is not None:
            moved = [*news.counts(connection, taken.lot_id), *moved]
        shown = _shown(kept, outcome, tuple(moved), lines, brake)
        return sealed(shown, [kept.id, outcome.counts, lines, [c.label for c in moved]])


def _shown(
    kept: Kept[Source],
    outcome: Outcome,
    moved: tuple[Count, ...],
    lines: Sequence[tuple[str, str, str | None, str | None]],
    brake: str | None,
) -> Preview:
    counts = tuple(
        Count(name, WORDS[name], number, "warn" if name in _WARN else "plain")
        for name, number in outcome.counts.items()
    )
    examples = tuple(Example(who, field, before, after) for who, field, before, after in lines)
    warnings = [f"{remark.count:,} {remark.words}." for remark in outcome.remarks]
    if brake is not None:
        warnings.insert(0, f"{brake} A scheduled run would stop and ask.")
    return Preview(
        title=f"Run “{kept.document.name}”",
        apply_label=f"Read “{kept.document.name}”",
        counts=(*counts, *moved),
        examples=examples,
        examples_total=len(examples),
        warnings=tuple(warnings),
        nothing_to_do=not outcome.counts,
    )


# ---- reading them


def page(ctx: Context, key: Key | None, before: int | None, limit: int) -> Sequence[RunRow]:
    """Runs, newest first; of one source, or of all."""
    with ctx.reading() as connection:
        source_id = None if key is None else SOURCES.find(connection, key).id
        return store.runs(connection, source_id, before, limit)


def one(ctx: Context, run_id: int) -> RunRow:
    """One run."""
    with ctx.reading() as connection:
        return or_not_found(store.run(connection, run_id), "run", run_id)
