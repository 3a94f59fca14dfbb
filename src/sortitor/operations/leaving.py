"""Somebody leaves: what becomes of their devices, passes and holds, in one change."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Parting, Stage
from sortitor.operations import gate, handover
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.people import find
from sortitor.store import arrivals, devices, holds, mails, people
from sortitor.store.arrivals import EndedRow
from sortitor.store.devices import TurnRow
from sortitor.store.engine import Connection
from sortitor.store.holds import HoldRow
from sortitor.store.journal import EntryRow
from sortitor.store.people import PersonRow
from sortitor.store.settling import hold_still

_EXAMPLES = 100
#: A device, what becomes of it, and to whom it goes.
_Decided = tuple[TurnRow, Parting, PersonRow | None]


@dataclass(frozen=True, slots=True)
class Decision:
    """What becomes of some devices of somebody who leaves. person: who gets them, where they are
    given.
    """

    ids: tuple[int, ...]
    act: Parting
    person: str | None = None


@dataclass(frozen=True, slots=True)
class Departure:
    """What is decided when somebody leaves; a device that no decision names stays with them."""

    decisions: tuple[Decision, ...]
    passes: bool = True
    holds: bool = True


@dataclass(frozen=True, slots=True)
class _Plan:
    preview: Preview
    person: PersonRow
    decided: Sequence[_Decided]
    passes: Sequence[EndedRow]
    holds: Sequence[HoldRow]


def preview(ctx: Context, key: int | str, departure: Departure) -> Preview:
    """What somebody's leaving would do to their devices, passes and holds."""
    with ctx.reading() as connection:
        return _plan(ctx, connection, key, departure, lock=False).preview


def leave(
    ctx: Context, key: int | str, departure: Departure, digest: str, reason: str | None
) -> Preview:
    """Let somebody leave as previewed; taken back as one change."""
    with ctx.changing() as connection:
        plan = _plan(ctx, connection, key, departure, lock=True)
        require_digest(plan.preview, digest)
        person = plan.person
        told = f", {plural(len(plan.decided), 'device')} settled" if plan.decided else ""
        entry = ctx.record(
            connection,
            "person.leave",
            "person",
            f"{person.name} has left{told}",
            subject_id=person.id,
            reason=reason,
            after={
                "left": person.left_at is None,
                "passes": [one.id for one in plan.passes],
                "holds": [one.id for one in plan.holds],
            },
        )
        passes = [one.id for one in plan.passes]
        arrivals.end_passes(connection, passes, ctx.now)
        mails.drop_of_passes(connection, passes)
        for hold in plan.holds:
            holds.end(connection, hold.id, ctx.now)
        # Many devices lean on a person: before any of them is settled, nobody else may be at it.
        hold_still(connection)
        if person.left_at is None:
            people.leave(connection, [person.id], ctx.now, by_hand=True)
        patches = {row.id: _patch(ctx, row, act, whom) for row, act, whom in plan.decided}
        if patches:
            devices.patch_each(connection, entry, patches)
        retired = [row.id for row, act, _ in plan.decided if act is Parting.RETIRE]
        arrivals.end_credentials(connection, retired, ctx.now, entry)
        return plan.preview


def _patch(ctx: Context, row: TurnRow, act: Parting, whom: PersonRow | None) -> dict[str, Any]:
    if act is Parting.RETIRE:
        return {"stage": Stage.RETIRED, "stage_at": ctx.now.isoformat()}
    if act is Parting.MISSING:
        return {"flag": "missing"}
    return handover.handed(ctx, row, whom.id if whom else None)


def _plan(
    ctx: Context, connection: Connection, key: int | str, departure: Departure, lock: bool
) -> _Plan:
    person = find(connection, key)
    receivers = _receivers(connection, person, departure)
    # People's rows before devices': the order of every arrival.
    if lock:
        people.lock_several(connection, [person.id, *(one.id for one in receivers.values())])
        # Whoever came first may have let them leave already.
        person = find(connection, key)
    theirs = devices.turn_rows(connection, Selection(person_id=person.id), ctx.now, lock)
    rows = {row.id: row for row in theirs if row.stage is not Stage.RETIRED}
    _require_theirs(person, rows, departure)
    wanted = [
        (rows[number], one.act, receivers[one.person] if one.person else None)
        for one in departure.decisions
        for number in one.ids
    ]
    refused = _without_room(ctx, connection, wanted)
    decided = [one for one in wanted if one[0].id not in refused]
    passes = arrivals.passes_for(connection, person.id, ctx.now) if departure.passes else []
    held = holds.on_person(connection, person.id, ctx.today) if departure.holds else []
    settled = {row.id for row, _, _ in decided}
    staying = [row for row in rows.values() if row.id not in settled]
    examples = [
        *(_stays(ctx, row, refused.get(row.id, "nothing was decided")) for row in staying),
        *(_example(ctx, *one) for one in decided),
        *(Example(f"pass “{one.label}”", "pass", "valid", "revoked") for one in passes),
        *(Example("all devices of theirs", "hold", f"until {one.until_on}", None) for one in held),
    ]
    shown = Preview(
        title=f"{person.name} leaves",
        apply_label="Close what is left" if person.left_at else f"{person.name} has left",
        counts=tuple(_counts(decided, staying, len(passes), len(held))),
        examples=tuple(examples[:_EXAMPLES]),
        examples_total=len(examples),
        warnings=tuple(_warnings(ctx, connection, person, staying)),
        nothing_to_do=person.left_at is not None and not decided and not passes and not held,
    )
    facts = [[row.id, row.stage, act, whom and whom.id] for row, act, whom in decided]
    outcome = [person.id, person.left_at is None, facts, sorted(refused)]
    ended = [[one.id for one in passes], [one.id for one in held]]
    return _Plan(sealed(shown, [*outcome, *ended]), person, decided, passes, held)


def _without_room(
    ctx: Context, connection: Connection, wanted: Sequence[_Decided]
) -> dict[int, str]:
    """Device → why who is to get it may not have it."""
    refused: dict[int, str] = {}
    receivers = {whom.id: whom for _, _, whom in wanted if whom is not None}
    for number, whom in receivers.items():
        rows = [row for row, _, one in wanted if one is not None and one.id == number]
        holding = people.holding(connection, number)
        refused |= handover.without_room(ctx, connection, rows, whom, holding)
    return refused


def _receivers(
    connection: Connection, person: PersonRow, departure: Departure
) -> dict[str, PersonRow]:
    """Name → who gets devices."""
    found = {}
    for place, one in enumerate(departure.decisions):
        gives, pointer = one.act is Parting.GIVE, f"/devices/{place}/person"
        if gives != bool(one.person):
            detail = (
                "It is not said who gets the devices." if gives else "Nobody gets these devices."
            )
            _refuse(pointer, detail, "Name a person where devices are given, and only there.")
        if not one.person:
            continue
        whom = or_not_found(people.by_name(connection, one.person), "person", one.person)
        if whom.id == person.id:
            _refuse(pointer, f"{person.name} is the one who leaves.", "Name somebody else.")
        found[one.person] = whom
    return found


def _require_theirs(person: PersonRow, rows: Mapping[int, TurnRow], departure: Departure) -> None:
    seen: set[int] = set()
    for place, one in enumerate(departure.decisions):
        for number in one.ids:
            pointer = f"/devices/{place}/ids"
            if number not in rows:
                detail = f"Device no. {number} is not in use by {person.name}."
                _refuse(pointer, detail, "Look again: somebody may have changed it.")
            if number in seen:
                _refuse(
                    pointer, f"Device no. {number} is named twice.", "Decide once for each device."
                )
            seen.add(number)


def _refuse(pointer: str, detail: str, remedy: str) -> None:
    raise BadInput("bad_departure", detail, remedy, (FieldProblem(pointer, "bad", detail),))


def _counts(
    decided: Sequence[_Decided],
    staying: Sequence[TurnRow],
    passes: int,
    held: int,
) -> Iterator[Count]:
    words = {
        Parting.GIVE: "devices given to somebody else",
        Parting.TAKE: "devices taken back: nobody has them",
        Parting.RETIRE: "devices retired",
        Parting.MISSING: "devices reported missing",
    }
    for act, label in words.items():
        number = sum(one == act for _, one, _ in decided)
        if number:
            yield Count(act, label, number, "warn" if act is Parting.RETIRE else "good")
    yield Count("stay", "devices that stay theirs", len(staying), "warn" if staying else "plain")
    if passes:
        yield Count("passes", "passes revoked", passes)
    if held:
        yield Count("holds", "holds ended", held)


def _warnings(
    ctx: Context, connection: Connection, person: PersonRow, staying: Sequence[TurnRow]
) -> Iterator[str]:
    if staying:
        yield (
            f"{plural(len(staying), 'device')} of theirs"
            f" {'stays' if len(staying) == 1 else 'stay'} on the list of what needs a hand."
        )
    name = person.user_name.casefold()
    for policy in gate.in_force(connection, ctx.today).policies:
        if name in {one.casefold() for one in policy.people or ()}:
            yield f"The gate’s policy “{policy.name}” names {person.name}."


def _stays(ctx: Context, row: TurnRow, why: str) -> Example:
    subject = ctx.veil.label(row.id, row.name, row.serial, row.ownership)
    return Example(subject, "person", row.person_name, row.person_name, why, row.id)


def _example(ctx: Context, row: TurnRow, act: Parting, whom: PersonRow | None) -> Example:
    subject = ctx.veil.label(row.id, row.name, row.serial, row.ownership)
    note = ", ".join(part for part in (row.model, row.site) if part)
    if act is Parting.RETIRE:
        return Example(subject, "stage", row.stage, Stage.RETIRED, note, row.id)
    if act is Parting.MISSING:
        return Example(subject, "flag", row.flag, "missing", note, row.id)
    return Example(subject, "person", row.person_name, whom.name if whom else None, note, row.id)


# ---- taking back


def undoing(shown: Preview, entry: EntryRow) -> Preview:
    """The preview of taking a leaving back, with what becomes of all but the devices."""
    warnings = list(shown.warnings)
    counts = list(shown.counts)
    if entry.after["left"]:
        counts.append(Count("back", "person who is here again", 1, "good"))
    if entry.after["holds"]:
        counts.append(Count("holds", "holds that run again", len(entry.after["holds"]), "good"))
    if entry.after["passes"]:
        number = len(entry.after["passes"])
        stay = "stays" if number == 1 else "stay"
        warnings.append(
            f"{plural(number, 'pass', 'passes')} of theirs {stay} revoked. Make a new one where"
            " it is needed."
        )
    return replace(
        shown,
        counts=tuple(counts),
        warnings=tuple(warnings),
        apply_label="Take the leaving back",
        nothing_to_do=False,
    )


def undo(ctx: Context, connection: Connection, entry: EntryRow) -> None:
    """Let the person be here again, and their holds run on that have not run out."""
    if entry.after["left"]:
        people.leave(connection, [entry.subject_id or 0], None)
    for number in entry.after["holds"]:
        row = holds.one(connection, number, lock=True)
        if row is not None and row.until_on >= ctx.today:
            holds.end(connection, number, None)
