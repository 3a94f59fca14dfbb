"""Giving devices to a person, or taking them from whoever has them: marked ones, or a list."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from sortitor.core.errors import BadInput, Conflict
from sortitor.core.gate import Holding
from sortitor.core.lifecycle import COUNTED, WAKEABLE
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Stage
from sortitor.operations import gate, quotas
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.selections import resolve_selection
from sortitor.store import devices, people
from sortitor.store import gate as store_gate
from sortitor.store.devices import TurnRow
from sortitor.store.engine import Connection
from sortitor.store.people import PersonRow

_EXAMPLES = 50


@dataclass(frozen=True, slots=True)
class _Plan:
    """What would be done, to which devices, for whom."""

    preview: Preview
    person: PersonRow | None
    rows: Sequence[TurnRow]


def preview(ctx: Context, selection: Selection, person: str | None) -> Preview:
    """Which of the selected devices a person would get; with None, which would be nobody's."""
    with ctx.reading() as connection:
        return _plan(ctx, connection, selection, person, lock=False).preview


def give(
    ctx: Context, selection: Selection, person: str | None, digest: str, reason: str | None
) -> Preview:
    """Give or take as previewed, all in one change; what was left out stays as it is."""
    with ctx.changing() as connection:
        plan = _plan(ctx, connection, selection, person, lock=True)
        require_digest(plan.preview, digest)
        if not plan.rows:
            raise Conflict("nothing_to_do", "None of these devices changes.", "Choose others.")
        whom = f"given to {plan.person.name}" if plan.person else "taken back, used by nobody now"
        one = plan.rows[0] if len(plan.rows) == 1 else None
        entry = ctx.record(
            connection,
            "device.assign",
            "device" if one else "devices",
            f"{one.label if one else plural(len(plan.rows), 'device')} {whom}",
            subject_id=one.id if one else None,
            reason=reason,
            after={"devices": len(plan.rows)},
        )
        number = plan.person.id if plan.person else None
        patches = {row.id: handed(ctx, row, number) for row in plan.rows}
        devices.patch_each(connection, entry, patches)
        return plan.preview


def handed(ctx: Context, row: TurnRow, person_id: int | None) -> dict[str, Any]:
    """The patch by which a device becomes somebody's, or nobody's; one that waits comes into
    use.
    """
    patch: dict[str, Any] = {"person_id": person_id, "by_hand": ["person_id"]}
    if row.stage is Stage.PARKED:
        patch |= {"stage": Stage.ACTIVE, "stage_at": ctx.now.isoformat()}
    return patch


def without_room(
    ctx: Context,
    connection: Connection,
    rows: Sequence[TurnRow],
    person: PersonRow,
    holding: Holding,
) -> dict[int, str]:
    """Device → why the person may not have it too. The quota is filled in the order of the rows."""
    rules = gate.in_force(connection, ctx.today)
    known = {}
    if rules.asks_for_devices:
        known = store_gate.known_of_several(connection, [row.id for row in rows], ctx.now)
    refused = {}
    for row in rows:
        if row.stage not in (*COUNTED, *WAKEABLE):
            continue
        against = quotas.reasons_against(rules, row, person, holding, known.get(row.id))
        if against:
            refused[row.id] = f"{against[0].explanation} {against[0].remedy}"
        elif row.person_id != person.id:
            holding = holding.plus(row.platform, row.ownership)
    return refused


def _plan(
    ctx: Context, connection: Connection, selection: Selection, name: str | None, lock: bool
) -> _Plan:
    if selection == Selection():
        raise BadInput(
            "no_devices", "No devices are named.", "Name them: all at once is never meant."
        )
    person = or_not_found(people.by_name(connection, name), "person", name) if name else None
    # The person's row first, then the devices': the order of every arrival.
    holding = Holding()
    if person:
        look = people.lock if lock else people.holding
        holding = look(connection, person.id)
    chosen = resolve_selection(connection, selection)
    found = devices.turn_rows(connection, chosen, ctx.now, lock)
    in_use = [row for row in found if row.stage is not Stage.RETIRED]
    rows = [row for row in in_use if _changes(row, person)]
    refused = without_room(ctx, connection, rows, person, holding) if person else {}
    given = [row for row in rows if row.id not in refused]
    examples = [
        *(_example(ctx, row, None, refused[row.id]) for row in rows if row.id in refused),
        *(_example(ctx, row, person, "") for row in given),
    ]
    shown = Preview(
        title=_deed(rows, person),
        apply_label=_deed(given, person),
        counts=tuple(_counts(found, in_use, given, refused, person, holding)),
        examples=tuple(examples[:_EXAMPLES]),
        examples_total=len(examples),
        warnings=(f"{person.name} has left.",) if person and person.left_at else (),
        nothing_to_do=not given,
    )
    facts = [[row.id, row.person_id, row.stage] for row in given]
    return _Plan(sealed(shown, [person and person.id, facts, sorted(refused)]), person, given)


def _changes(row: TurnRow, person: PersonRow | None) -> bool:
    whose = person.id if person else None
    return row.person_id != whose or row.stage is Stage.PARKED


def _deed(rows: Sequence[TurnRow], person: PersonRow | None) -> str:
    what = plural(len(rows), "device")
    return f"Give {what} to {person.name}" if person else f"Take back {what}"


def _counts(
    found: Sequence[TurnRow],
    in_use: Sequence[TurnRow],
    given: Sequence[TurnRow],
    refused: dict[int, str],
    person: PersonRow | None,
    holding: Holding,
) -> Iterable[Count]:
    if person:
        yield Count("given", f"devices that {person.name} gets", len(given), "good")
        yield Count("holding", f"devices that {person.name} has now", holding.total)
        tone = "bad" if refused else "plain"
        yield Count("refused", "left out: the quota is full", len(refused), tone)
    else:
        yield Count("taken", "devices that nobody has afterwards", len(given), "good")
    taken_from = {row.person_id for row in given} - {None}
    yield Count("from", "people who have them now", len(taken_from))
    parked = sum(row.stage is Stage.PARKED for row in given)
    yield Count("parked", "of them waiting: they come into use", parked)
    same = len(in_use) - len(given) - len(refused)
    yield Count("same", "have it so already", same)
    retired = len(found) - len(in_use)
    if retired:
        yield Count("retired", "left out: retired; bring them back first", retired, "warn")


def _example(ctx: Context, row: TurnRow, person: PersonRow | None, why: str) -> Example:
    note = why or ", ".join(part for part in (row.model, row.site) if part)
    after = row.person_name if why else (person.name if person else None)
    subject = ctx.veil.label(row.id, row.name, row.serial, row.ownership)
    return Example(subject, "person", row.person_name, after, note, row.id)
