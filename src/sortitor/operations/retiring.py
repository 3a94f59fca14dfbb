"""Retiring devices and bringing them back by hand: one, marked ones, or a list of identifiers."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from sortitor.core.errors import BadInput, Conflict
from sortitor.core.gate import Gate
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Returning, Stage
from sortitor.operations import gate, quotas
from sortitor.operations.context import Context, require_digest
from sortitor.operations.selections import resolve_selection
from sortitor.store import arrivals, devices, people
from sortitor.store.devices import TurnRow
from sortitor.store.engine import Connection

_EXAMPLES = 50
_RETURNS = {
    Returning.READMIT: "is let in again",
    Returning.PARK: "waits for a coordinator",
    Returning.REFUSE: "is refused",
}


@dataclass(frozen=True, slots=True)
class _Plan:
    """What would be done, and to which devices."""

    preview: Preview
    rows: Sequence[TurnRow]


def _selected(
    ctx: Context, connection: Connection, selection: Selection, lock: bool = False
) -> list[TurnRow]:
    if selection == Selection():
        raise BadInput(
            "no_devices", "No devices are named.", "Name them: all at once is never meant."
        )
    chosen = resolve_selection(connection, selection)
    return devices.turn_rows(connection, chosen, ctx.now, lock)


def preview_retire(ctx: Context, selection: Selection) -> Preview:
    """Which of the selected devices would be retired, and what that leaves."""
    with ctx.reading() as connection:
        return _plan_retire(ctx, connection, selection).preview


def _plan_retire(
    ctx: Context, connection: Connection, selection: Selection, lock: bool = False
) -> _Plan:
    found = _selected(ctx, connection, selection, lock)
    rows = [row for row in found if row.stage is not Stage.RETIRED]
    held = sum(row.held for row in rows)
    counts = [
        Count("retired", "devices to retire", len(rows), "warn" if rows else "plain"),
        Count("already", "retired already", len(found) - len(rows)),
        Count("people", "people who have them", len({r.person_id for r in rows} - {None})),
        Count("held", "of them on hold", held, "warn" if held else "plain"),
        *_by_stage(rows),
    ]
    shown = Preview(
        title=f"Retire {plural(len(rows), 'device')} by hand",
        apply_label=f"Retire {plural(len(rows), 'device')}",
        counts=tuple(counts),
        examples=tuple(_example(ctx, row, Stage.RETIRED) for row in rows[:_EXAMPLES]),
        examples_total=len(rows),
        warnings=(_what_stays(gate.in_force(connection, ctx.today)),) if rows else (),
        nothing_to_do=not rows,
    )
    return _Plan(sealed(shown, [[row.id, row.stage] for row in rows]), rows)


def _what_stays(rules: Gate) -> str:
    """What retiring leaves, and what the gate does with a device that comes back."""
    returning = rules.policies[-1].returning or Returning.PARK
    return (
        "Their credentials end and their names become free. The records stay: one that arrives"
        f" again {_RETURNS[returning]}, unless a policy says otherwise."
    )


def _by_stage(rows: Sequence[TurnRow]) -> list[Count]:
    found = Counter(row.stage for row in rows)
    return [
        Count(f"stage:{stage}", f"{stage} now", found[stage]) for stage in Stage if found[stage]
    ]


def _example(ctx: Context, row: TurnRow, after: Stage, note: str = "") -> Example:
    subject = ctx.veil.label(row.id, row.name, row.serial, row.ownership)
    words = ", ".join(part for part in (row.person_name, row.site, note) if part)
    return Example(subject, "stage", row.stage, after, words, row.id)


def retire(ctx: Context, selection: Selection, digest: str, reason: str | None) -> Preview:
    """Retire as previewed, all in one change."""
    with ctx.changing() as connection:
        plan = _plan_retire(ctx, connection, selection, lock=True)
        require_digest(plan.preview, digest)
        _require_some(plan)
        entry = ctx.record(
            connection,
            "device.retire",
            "devices",
            f"{plural(len(plan.rows), 'device')} retired by hand",
            reason=reason,
            after={"retired": len(plan.rows)},
        )
        moment = ctx.now.isoformat()
        _patch(connection, entry, plan.rows, lambda row: Stage.RETIRED, moment)
        arrivals.end_credentials(connection, [row.id for row in plan.rows], ctx.now, entry)
        return plan.preview


def preview_bring_back(ctx: Context, selection: Selection) -> Preview:
    """Which of the selected devices would come back, and as what."""
    with ctx.reading() as connection:
        return _plan_bring_back(ctx, connection, selection).preview


def _after(row: TurnRow) -> Stage:
    """In use, or awaited where it never arrived."""
    return Stage.ACTIVE if row.enrolled_at is not None else Stage.AWAITED


def _plan_bring_back(
    ctx: Context, connection: Connection, selection: Selection, lock: bool = False
) -> _Plan:
    found = _selected(ctx, connection, selection, lock)
    rows = [row for row in found if row.stage is Stage.RETIRED]
    nameless = sum(row.name_taken for row in rows)
    awaited = sum(_after(row) is Stage.AWAITED for row in rows)
    counts = (
        Count("back", "devices in use again", len(rows) - awaited, "good"),
        Count("awaited", "awaited again: they never arrived", awaited),
        Count("other", "not retired, left as they are", len(found) - len(rows)),
        Count(
            "nameless",
            "lose their name, which another one has",
            nameless,
            "warn" if nameless else "plain",
        ),
    )
    words = "Their credentials have ended: each has to arrive once more before it checks in."
    shown = Preview(
        title=f"Bring {plural(len(rows), 'device')} back by hand",
        apply_label=f"Bring {plural(len(rows), 'device')} back",
        counts=counts,
        examples=tuple(
            _example(ctx, row, _after(row), "loses its name" if row.name_taken else "")
            for row in rows[:_EXAMPLES]
        ),
        examples_total=len(rows),
        warnings=(words,) if rows else (),
        nothing_to_do=not rows,
    )
    return _Plan(sealed(shown, [[row.id, row.name_taken] for row in rows]), rows)


def bring_back(ctx: Context, selection: Selection, digest: str, reason: str | None) -> Preview:
    """Bring back as previewed; nobody gets more than the quota allows."""
    with ctx.changing() as connection:
        concerned = {row.person_id for row in _selected(ctx, connection, selection)}
        # The people's rows before the devices': the order of every arrival.
        people.lock_several(connection, [one for one in concerned if one is not None])
        plan = _plan_bring_back(ctx, connection, selection, lock=True)
        require_digest(plan.preview, digest)
        _require_some(plan)
        entry = ctx.record(
            connection,
            "device.bring_back",
            "devices",
            f"{plural(len(plan.rows), 'device')} brought back by hand",
            reason=reason,
            after={"brought_back": len(plan.rows)},
        )
        _patch(connection, entry, plan.rows, _after, ctx.now.isoformat())
        quotas.require_room(connection, gate.in_force(connection, ctx.today), entry)
        return plan.preview


def _require_some(plan: _Plan) -> None:
    if not plan.rows:
        raise Conflict("nothing_to_do", "None of these devices changes.", "Choose others.")


def _patch(
    connection: Connection,
    entry_id: int,
    rows: Sequence[TurnRow],
    after: Callable[[TurnRow], Stage],
    moment: str,
) -> None:
    patches = {}
    for row in rows:
        patch: dict[str, str | None] = {"stage": after(row), "stage_at": moment}
        if row.name_taken and after(row) is not Stage.RETIRED:
            patch |= {"name": None, "name_basis": None}
        patches[row.id] = patch
    devices.patch_each(connection, entry_id, patches)
