"""Levelling the books: comparing the fleet with the rosters, deciding about what differs, and
mending it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

import polars as pl

from sortitor.core import levels as core
from sortitor.core.errors import BadInput, Conflict, NotFound
from sortitor.core.lifecycle import TRANSITIONS
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.rosters import DEVICE_COLUMNS
from sortitor.core.selection import Selection
from sortitor.core.sources import Source
from sortitor.core.vocabulary import Gap, GapState, Mend, SourceKind, Stage
from sortitor.core.words import JOB_ROWS
from sortitor.operations import gate, quotas
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.selections import resolve_selection
from sortitor.operations.sources import news, registry
from sortitor.operations.sources.documents import SOURCES
from sortitor.store import arrivals, devices
from sortitor.store import levels as store
from sortitor.store import people as store_people
from sortitor.store import rosters as store_rosters
from sortitor.store import sources as store_sources
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection
from sortitor.store.levels import Chosen as Chosen
from sortitor.store.levels import DayRow as DayRow
from sortitor.store.levels import GapRow as GapRow
from sortitor.store.levels import PresentRow as PresentRow

_EXAMPLES = 50
_MOST_AT_ONCE = 100_000
_TREND_DAYS = 400


# ---- comparing


def refresh(ctx: Context, always: bool = True) -> bool:
    """Compare the fleet with every roster; unless `always`, only where something has happened since
    the last time. Gives whether it was done.
    """
    with ctx.bookkeeping() as connection:
        store.hold(connection)
        last = store.overview(connection)
        marks = store.marks(connection)
        day_is_over = last is None or last.at.date() != ctx.now.date()
        if not always and last and (last.entry_id, last.run_id) == marks and not day_is_over:
            return False
        if not always and last is None and not SOURCES.shelf.every(connection):
            return False
        ctx.progress("comparing the rosters", 0, 0)
        store_rosters.match_again(connection, last.entry_id if last else 0)
    # Committed, so that a standby has it too.
    aside = ctx.aside(as_now=True)
    with ctx.bookkeeping() as connection:
        store.hold(connection)
        if aside is ctx:
            compared = _compare(ctx, connection, connection)
        else:
            with aside.reading(one_moment=True) as reading:
                compared = _compare(ctx, connection, reading)
        store.put(connection, ctx.now, *marks, compared)
        store.write_day(connection, ctx.now.date())
    return True


def is_large(ctx: Context) -> bool:
    """Whether comparing takes longer than anybody should wait for."""
    with ctx.reading() as connection:
        last = store.overview(connection)
    rosters = last.document["rosters"] if last else []
    return sum(int(roster["devices"]) for roster in rosters) > JOB_ROWS


def _compare(ctx: Context, connection: Connection, reading: Connection) -> dict[str, Any]:
    """Bring the disagreements up to date; gives the comparison at a glance. What is compared is
    read by `reading`: the connection that writes, or a standby's.
    """
    sources = SOURCES.shelf.every(reading)
    tallies = store.tallies(reading)
    shown = [kept for kept in sources if kept.id in tallies][: core.MOST_ROSTERS]
    store.find(connection, reading, [kept.id for kept in shown])
    for kept in sources:
        if kept.document.covers:
            covered = Selection(filter=ctx.veil.parse(kept.document.covers))
            resolved = resolve_selection(reading, covered)
            store.find_absent(connection, reading, kept.id, resolved, ctx.now)
        unknown, missing = store.doubtful(connection, reading, kept.id)
        if unknown.height and missing.height:
            store.note_near(connection, kept.id, core.near_misses(unknown, missing))
    store.settle(connection, ctx.now)
    numbers = [kept.id for kept in shown]
    patterns = store.patterns(reading, numbers, is_kept=reading is connection)
    return _overview(patterns, shown, tallies)


def _overview(
    patterns: Mapping[int, int],
    sources: Sequence[Kept[Source]],
    tallies: Mapping[int, tuple[int, int]],
) -> dict[str, Any]:
    rosters = [
        {"key": "bought", "name": "Bought", "devices": _holding(patterns, store.BOUGHT)},
        {"key": "managed", "name": "Managed", "devices": _holding(patterns, store.MANAGED)},
        *(
            {"key": str(kept.id), "name": kept.document.name, "devices": tallies[kept.id][0]}
            for kept in sources
        ),
    ]
    ordered = sorted(patterns.items(), key=lambda one: (-one[1], one[0]))
    return {
        "rosters": rosters,
        "patterns": [{"mask": mask, "devices": number} for mask, number in ordered],
    }


def _holding(patterns: Mapping[int, int], bit: int) -> int:
    return sum(number for mask, number in patterns.items() if mask & bit)


@dataclass(frozen=True, slots=True)
class Overview:
    """The comparison at a glance, with how many disagreements stand open and since when."""

    at: Any
    rosters: list[dict[str, Any]]
    patterns: list[dict[str, Any]]
    gaps: list[dict[str, Any]]


def overview(ctx: Context) -> Overview:
    """The comparison as it was last made."""
    with ctx.reading() as connection:
        kept = store.overview(connection)
        standings = store_sources.standings(connection)
        document = kept.document if kept else {"rosters": [], "patterns": []}
        rosters = []
        for roster in document["rosters"]:
            row = standings.get(int(roster["key"])) if roster["key"].isdigit() else None
            rosters.append({**roster, "good_at": row.good_at if row else ctx.now})
        names = {one.id: one.document.name for one in SOURCES.shelf.every(connection)}
        gaps = [
            {
                "source_id": source_id,
                "source": names.get(source_id, ""),
                "kind": kind,
                "title": core.TITLES[kind],
                "state": state,
                "count": number,
                "since_at": since,
            }
            for source_id, kind, state, number, since in store.counts(connection)
        ]
        return Overview(kept.at if kept else None, rosters, document["patterns"], gaps)


def open_gaps(connection: Connection) -> list[tuple[int, Gap, int, Any]]:
    """`source, kind, number, since when` of what stands open."""
    return [
        (source_id, kind, number, since)
        for source_id, kind, state, number, since in store.counts(connection)
        if state is GapState.OPEN
    ]


def present(ctx: Context, mask: int, after: str | None, limit: int) -> list[PresentRow]:
    """The devices of one pattern of presence."""
    with ctx.aside(as_now=True).reading() as connection:
        kept = store.overview(connection)
        known = kept and any(one["mask"] == mask for one in kept.document["patterns"])
        if kept is None or not known:
            raise NotFound("pattern", mask)
        rosters = kept.document["rosters"]
        numbers = [int(roster["key"]) for roster in rosters if roster["key"].isdigit()]
        found = store.present(connection, numbers, mask, after, limit)
        return [
            replace(row, serial=ctx.veil.identifier(row.serial, row.ownership)) for row in found
        ]


def trend(ctx: Context) -> list[DayRow]:
    """How many disagreements stood open, day by day."""
    with ctx.reading() as connection:
        return store.trend(connection, ctx.now.date() - timedelta(days=_TREND_DAYS))


# ---- reading


def page(ctx: Context, chosen: Chosen, after: int | None, limit: int) -> list[GapRow]:
    """Disagreements, oldest first."""
    with ctx.reading() as connection:
        return [_veiled(ctx, row) for row in store.page(connection, chosen, after, limit)]


def one(ctx: Context, gap_id: int) -> GapRow:
    """One disagreement."""
    with ctx.reading() as connection:
        found = or_not_found(store.one(connection, gap_id), "discrepancy", gap_id)
        return _veiled(ctx, found)


def source_names(ctx: Context) -> dict[int, str]:
    """Source → what it is called."""
    with ctx.reading() as connection:
        return {kept.id: kept.document.name for kept in SOURCES.shelf.every(connection)}


def _veiled(ctx: Context, row: GapRow) -> GapRow:
    veil = ctx.veil
    row = replace(row, near_serial=veil.identifier(row.near_serial, row.near_ownership))
    if not veil.hides(row.ownership):
        return row
    return replace(
        row,
        label=row.device_name or f"device no. {row.device_id}",
        serial=veil.identifier(row.serial, row.ownership),
        their_serial=veil.identifier(row.their_serial, row.ownership),
        roster_key=veil.identifier(row.roster_key, row.ownership),
    )


# ---- deciding


@dataclass(frozen=True, slots=True)
class Decision:
    """What somebody decides about disagreements; None leaves a value as it is."""

    state: GapState | None = None
    until_on: date | None = None
    owner: str | None = None
    note: str | None = None

    def check(self, today: date) -> None:
        """Raise BadInput for a decision that nobody can take."""
        if self.state is GapState.CLOSED:
            raise BadInput(
                "not_by_hand",
                "A discrepancy closes by itself once it is gone.",
                "Mend it, or accept it.",
            )
        if (self.state is GapState.IGNORED) != (self.until_on is not None):
            raise BadInput(
                "until_when", "What is ignored is ignored until a day.", "Name the day, or accept."
            )
        if self.until_on is not None and self.until_on <= today:
            raise BadInput("past_day", f"{self.until_on} is not in the future.", "Name another.")
        if (self.state, self.owner, self.note) == (None, None, None):
            raise BadInput("nothing_said", "Nothing is decided by this.", "Say what is decided.")


def decide(ctx: Context, chosen: Chosen, decision: Decision, reason: str | None) -> int:
    """Accept, put off, open again, or note whose business it is; gives how many were meant."""
    decision.check(ctx.now.date())
    with ctx.changing() as connection:
        store.hold_gaps(connection, chosen)
        rows = _chosen(connection, chosen)
        values: dict[str, Any] = {}
        if decision.state is not None:
            done = decision.state is GapState.DONE
            values |= {
                "state": decision.state,
                "until_on": decision.until_on,
                "done_at": ctx.now if done else None,
                "done_by": ctx.actor.name if done else None,
            }
        if decision.owner is not None:
            values["owner"] = decision.owner or None
        if decision.note is not None:
            values["note"] = decision.note or None
        store.decide(connection, [row.id for row in rows], values)
        decided = store.Chosen(ids=tuple(row.id for row in rows), any_state=True)
        ctx.record(
            connection,
            "level.decide",
            "discrepancy",
            f"{plural(len(rows), 'discrepancy', 'discrepancies')}: {_told(decision)}",
            subject_id=rows[0].id if len(rows) == 1 else None,
            reason=reason,
            before={"gaps": [_decided(row) for row in rows]},
            after={"gaps": [_decided(row) for row in _chosen(connection, decided)]},
        )
        return len(rows)


@dataclass(frozen=True, slots=True)
class Undoing:
    """What taking a decision back restores, and how many were decided again since."""

    lines: tuple[dict[str, Any], ...]
    left: int


def plan_undoing(connection: Connection, before: Any, after: Any) -> Undoing:
    """Which disagreements still stand as an entry decided them: those alone are taken back."""
    made = {line["id"]: line for line in after["gaps"]}
    decided = store.Chosen(ids=tuple(made), any_state=True)
    now = {row.id: _decided(row) for row in store.page(connection, decided, None, len(made))}
    lines = tuple(line for line in before["gaps"] if now.get(line["id"]) == made.get(line["id"]))
    return Undoing(lines, len(made) - len(lines))


def _told(decision: Decision) -> str:
    said = []
    if decision.state is not None:
        until = f" until {decision.until_on}" if decision.until_on else ""
        said.append(f"{decision.state}{until}")
    if decision.owner is not None:
        said.append(f"owner {decision.owner or 'nobody'}")
    if decision.note is not None:
        said.append("note")
    return ", ".join(said)


def _decided(row: GapRow) -> dict[str, Any]:
    return {
        "id": row.id,
        "state": row.state,
        "owner": row.owner,
        "note": row.note,
        "until_on": row.until_on and row.until_on.isoformat(),
        "done_at": row.done_at and row.done_at.isoformat(),
        "done_by": row.done_by,
    }


def _chosen(connection: Connection, chosen: Chosen) -> list[GapRow]:
    rows = list(store.page(connection, chosen, None, _MOST_AT_ONCE))
    if not rows:
        raise Conflict(
            "nothing_to_do", "No discrepancy is meant by this.", "Look at the list again."
        )
    return rows


# ---- mending

#: What closes which kind.
MENDS: dict[Mend, tuple[Gap, ...]] = {
    Mend.TAKE_WORD: (Gap.DIFFERS,),
    Mend.TAKE_IN: (Gap.UNKNOWN,),
    Mend.SAME: (Gap.UNKNOWN,),
    Mend.RETIRE: (Gap.ABSENT,),
    Mend.SEND: (Gap.ALIVE, Gap.ABSENT),
}
MEND_WORDS: dict[Mend, str] = {
    Mend.TAKE_WORD: "Take their word",
    Mend.TAKE_IN: "Take into the fleet",
    Mend.SAME: "It is the similar one",
    Mend.RETIRE: "Retire here",
    Mend.SEND: "Tell the source",
}


@dataclass(frozen=True, slots=True)
class _Plan:
    """What a mend does: which gaps, and the patch of each device."""

    preview: Preview
    rows: tuple[GapRow, ...]
    patches: Mapping[int, dict[str, Any]]


def preview_mend(ctx: Context, chosen: Chosen, mend: Mend) -> Preview:
    """What mending would do to the devices that are meant."""
    with ctx.reading() as connection:
        return _plan(ctx, connection, chosen, mend).preview


def _plan(ctx: Context, connection: Connection, chosen: Chosen, mend: Mend) -> _Plan:
    rows = _chosen(connection, chosen)
    fitting = [row for row in rows if row.kind in MENDS[mend] and row.state is not GapState.CLOSED]
    patches, left = _PATCHES[mend](ctx, connection, fitting)
    if mend in (Mend.TAKE_IN, Mend.SEND):
        done = [row for row in fitting if row.id not in left]
    else:
        done = [row for row in fitting if row.device_id in patches or row.near_id in patches]
    left_over = len(rows) - len(done)
    counts = (
        Count("mended", _DOES[mend], len(done), "warn" if mend is Mend.RETIRE else "good"),
        Count("left", "left as they are", left_over, "warn" if left_over else "plain"),
    )
    words = Counter(left.values())
    warnings = [f"{number:,} left: {why}" for why, number in sorted(words.items())]
    if mend is Mend.SEND:
        warnings.insert(0, "What a registry releases only its reseller can bring back.")
    noun = plural(len(done), "device")
    shown = Preview(
        title=f"{MEND_WORDS[mend]}: {plural(len(rows), 'discrepancy', 'discrepancies')}",
        apply_label=f"{MEND_WORDS[mend]} ({noun})",
        counts=counts,
        examples=tuple(_example(ctx, row, mend) for row in done[:_EXAMPLES]),
        examples_total=len(done),
        warnings=tuple(warnings),
        nothing_to_do=not done,
    )
    outcome = [mend, [row.id for row in done], [_lasting(patches[key]) for key in sorted(patches)]]
    return _Plan(sealed(shown, outcome), tuple(done), patches)


def _lasting(patch: Mapping[str, Any]) -> dict[str, Any]:
    """A patch without its moment, which is another one when it is applied."""
    return {name: value for name, value in patch.items() if name != "stage_at"}


_DOES = {
    Mend.TAKE_WORD: "devices changed to what the source says",
    Mend.TAKE_IN: "devices that become awaited, or are joined to known ones",
    Mend.SAME: "devices that get the source's number beside their own",
    Mend.RETIRE: "devices retired",
    Mend.SEND: "devices about which the source is told",
}


def _example(ctx: Context, row: GapRow, mend: Mend) -> Example:
    row = _veiled(ctx, row)
    if mend is Mend.TAKE_WORD:
        return Example(row.label, row.field or "", row.ours, row.theirs, "", row.device_id)
    if mend is Mend.SAME:
        near = row.near_name or row.near_serial or f"device no. {row.near_id}"
        return Example(near, "serial", row.near_serial, row.their_serial, "", row.near_id)
    if mend is Mend.RETIRE:
        return Example(row.label, "stage", row.stage, Stage.RETIRED, "", row.device_id)
    return Example(row.label, core.TITLES[row.kind], None, None, "", row.device_id)


Patches = tuple[dict[int, dict[str, Any]], dict[int, str]]


def _words_taken(ctx: Context, connection: Connection, rows: Sequence[GapRow]) -> Patches:
    """The source's word for each field; a person whom nobody knows cannot be taken."""
    names = {(row.theirs or "").lower() for row in rows if row.field == "person"}
    people: dict[str, int] = {}
    for person in store_people.called(connection, sorted(names)) if names else ():
        for name in (person.user_name, person.mail):
            if name and person.left_at is None:
                people.setdefault(name.lower(), person.id)
    patches: dict[int, dict[str, Any]] = {}
    left: dict[int, str] = {}
    for row in rows:
        assert row.device_id is not None
        if row.field == "person":
            person_id = people.get((row.theirs or "").lower())
            if person_id is None:
                left[row.id] = "nobody here goes by the name that the source says."
                continue
            patches.setdefault(row.device_id, {})["person_id"] = person_id
        else:
            patch = patches.setdefault(row.device_id, {})
            patch[row.field or ""] = row.theirs
            if row.field == "name":
                patch["name_basis"] = "declared"
    return patches, left


def _same_taken(ctx: Context, connection: Connection, rows: Sequence[GapRow]) -> Patches:
    patches: dict[int, dict[str, Any]] = {}
    left: dict[int, str] = {}
    for row in rows:
        if row.near_id is None or row.their_serial is None or row.near_id in patches:
            left[row.id] = "no device resembles it, or two lines resemble the same one."
            continue
        number = {
            "kind": "serial",
            "value": row.their_serial,
            "maker": (row.near_maker or "").lower(),
            "given": row.their_serial,
        }
        patches[row.near_id] = {"identifiers": [number]}
    return patches, left


def _retired(ctx: Context, connection: Connection, rows: Sequence[GapRow]) -> Patches:
    patches: dict[int, dict[str, Any]] = {}
    left: dict[int, str] = {}
    for row in rows:
        may = row.stage is not None and Stage.RETIRED in TRANSITIONS[Stage(row.stage)]
        if row.device_id is None or not may:
            left[row.id] = "it is retired already."
            continue
        patches[row.device_id] = {"stage": Stage.RETIRED, "stage_at": ctx.now.isoformat()}
    return patches, left


def _taken_in(ctx: Context, connection: Connection, rows: Sequence[GapRow]) -> Patches:
    return {}, {}


def _sent(ctx: Context, connection: Connection, rows: Sequence[GapRow]) -> Patches:
    kinds = {one.id: one.document.kind for one in SOURCES.shelf.every(connection)}
    why = "its source cannot be told from here; carry it out by hand and say so."
    return {}, {row.id: why for row in rows if kinds.get(row.source_id) is not SourceKind.REGISTRY}


_PATCHES: dict[Mend, Callable[[Context, Connection, Sequence[GapRow]], Patches]] = {
    Mend.TAKE_WORD: _words_taken,
    Mend.SAME: _same_taken,
    Mend.RETIRE: _retired,
    Mend.TAKE_IN: _taken_in,
    Mend.SEND: _sent,
}


def mend(ctx: Context, chosen: Chosen, what: Mend, digest: str, reason: str | None) -> Preview:
    """Mend as previewed; what it closes is closed at once, and opened again by the next comparison
    where it is not so.
    """
    if what is Mend.SEND:
        return _send(ctx, chosen, digest, reason)
    with ctx.changing() as connection:
        store.hold_gaps(connection, chosen)
        plan = _plan(ctx, connection, chosen, what)
        require_digest(plan.preview, digest)
        if what is Mend.TAKE_IN:
            _take_in(ctx, connection, plan.rows)
        elif plan.patches:
            _patch(ctx, connection, plan, what, reason)
        store.close(connection, [row.id for row in plan.rows], ctx.now)
    return plan.preview


def _patch(
    ctx: Context, connection: Connection, plan: _Plan, what: Mend, reason: str | None
) -> None:
    people_ids = [p["person_id"] for p in plan.patches.values() if p.get("person_id")]
    store_people.lock_several(connection, people_ids)
    entry = ctx.record(
        connection,
        "level.mend",
        "discrepancy",
        f"{MEND_WORDS[what]}: {plural(len(plan.patches), 'device')}",
        reason=reason,
        after={"mend": what, "devices": len(plan.patches)},
    )
    devices.patch_each(connection, entry, plan.patches)
    if what is Mend.RETIRE:
        arrivals.end_credentials(connection, list(plan.patches), ctx.now, entry)
    if people_ids:
        quotas.require_room(connection, gate.in_force(connection, ctx.today), entry)


def _take_in(ctx: Context, connection: Connection, rows: Sequence[GapRow]) -> None:
    for source_id in sorted({row.source_id for row in rows}):
        kept = or_not_found(SOURCES.shelf.one(connection, source_id), "source", source_id)
        keys = [row.roster_key for row in rows if row.source_id == source_id and row.roster_key]
        lines = store_sources.lines(connection, source_id, keys)
        told = {name: [getattr(line, name) for line in lines] for name in DEVICE_COLUMNS}
        told["supplier"] = [line.extra.get("reseller") for line in lines]
        frame = pl.DataFrame(told, schema=dict.fromkeys(told, pl.String))
        news.take_lines(ctx, connection, kept, frame, f"Taken from {kept.document.name}")


def _send(ctx: Context, chosen: Chosen, digest: str, reason: str | None) -> Preview:
    """Tell the sources, then note what they did: what is told cannot be rolled back, so it comes
    first and is noted whatever comes after.
    """
    with ctx.reading() as connection:
        plan = _plan(ctx, connection, chosen, Mend.SEND)
        require_digest(plan.preview, digest)
        by_source: dict[int, list[GapRow]] = {}
        for row in plan.rows:
            by_source.setdefault(row.source_id, []).append(row)
        kept = {
            source_id: or_not_found(SOURCES.shelf.one(connection, source_id), "source", source_id)
            for source_id in by_source
        }
    for source_id, rows in by_source.items():
        done = registry.tell_gaps(ctx, kept[source_id], rows, reason)
        with ctx.bookkeeping() as connection:
            values = {"state": GapState.DONE, "done_at": ctx.now, "done_by": ctx.actor.name}
            store.decide(connection, done, values)
    return plan.preview
