"""Reporting devices missing or stolen, and found again: one, marked ones, or a list."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import polars as pl

from sortitor.core.errors import BadInput, Conflict
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Stage
from sortitor.operations.context import Context, require_digest
from sortitor.operations.selections import resolve_selection
from sortitor.store import devices
from sortitor.store.devices import TurnRow
from sortitor.store.engine import Connection

Flag = Literal["missing", "stolen"]
_EXAMPLES = 50
#: What a report does, and what it does not.
_DOES = (
    "It is refused when it checks in, and when it knocks, whatever pass it shows. Once it is found"
    " again, its credential works as before.",
    "It keeps its stage, its seat and its place in its person's quota. Sweeps take it when it has"
    " been quiet for long; retire it to end all of that at once.",
)


@dataclass(frozen=True, slots=True)
class _Plan:
    """What would be reported."""

    preview: Preview
    rows: Sequence[TurnRow]


def _said(flag: Flag | None) -> str:
    return f"reported {flag}" if flag else "found"


def preview(ctx: Context, selection: Selection, flag: Flag | None) -> Preview:
    """Which of the selected devices would be reported (None: found again), and what that does."""
    with ctx.reading() as connection:
        return _plan(ctx, connection, selection, flag).preview


def _plan(
    ctx: Context,
    connection: Connection,
    selection: Selection,
    flag: Flag | None,
    lock: bool = False,
) -> _Plan:
    if selection == Selection():
        raise BadInput(
            "no_devices", "No devices are named.", "Name them: all at once is never meant."
        )
    chosen = resolve_selection(connection, selection)
    found = devices.turn_rows(connection, chosen, ctx.now, lock)
    rows = [row for row in found if row.flag != flag]
    in_use = sum(row.stage in (Stage.ACTIVE, Stage.DORMANT, Stage.PARKED) for row in rows)
    named = plural(len(rows), "device")
    shown = Preview(
        title=f"Report {named} {flag}" if flag else f"Clear the report of {named}",
        apply_label=f"Report {named} {flag}" if flag else f"{named} found".capitalize(),
        counts=(
            Count("reported", f"devices {_said(flag)}", len(rows), "warn" if flag else "good"),
            Count("in_use", "of them in use", in_use),
            Count("same", "left as they are", len(found) - len(rows)),
        ),
        examples=tuple(_example(ctx, row, flag) for row in rows[:_EXAMPLES]),
        examples_total=len(rows),
        warnings=_DOES if flag and rows else (),
        nothing_to_do=not rows,
    )
    return _Plan(sealed(shown, [flag, [(row.id, row.flag) for row in rows]]), rows)


def _example(ctx: Context, row: TurnRow, flag: Flag | None) -> Example:
    subject = ctx.veil.label(row.id, row.name, row.serial, row.ownership)
    words = ", ".join(part for part in (row.person_name, row.site) if part)
    return Example(subject, "report", row.flag, flag, words, row.id)


def report(
    ctx: Context, selection: Selection, flag: Flag | None, digest: str, reason: str | None
) -> Preview:
    """Report as previewed, all in one change."""
    with ctx.changing() as connection:
        plan = _plan(ctx, connection, selection, flag, lock=True)
        require_digest(plan.preview, digest)
        if not plan.rows:
            raise Conflict("nothing_to_do", "None of these devices changes.", "Choose others.")
        one = plan.rows[0] if len(plan.rows) == 1 else None
        entry = ctx.record(
            connection,
            "device.report",
            "device" if one else "devices",
            f"{one.label if one else plural(len(plan.rows), 'device')} {_said(flag)}",
            subject_id=one.id if one else None,
            reason=reason,
        )
        frame = pl.DataFrame({"device_id": [row.id for row in plan.rows]})
        devices.patch_frame(connection, entry, frame, {"flag": flag})
        return plan.preview
