"""Taking a change back: one way for every kind of change."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from sortitor.core import journal as core
from sortitor.core.documents import Difference, differences
from sortitor.core.previews import Preview, sealed
from sortitor.core.vocabulary import LotStatus
from sortitor.operations import discarded, holds, leaving, quotas
from sortitor.operations import levels as gaps
from sortitor.operations.cohorts import lists
from sortitor.operations.cohorts.documents import COHORTS
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.documents import DocumentKind
from sortitor.operations.ends import REMINDERS
from sortitor.operations.gate import GATE, in_force
from sortitor.operations.kits import handing
from sortitor.operations.kits.documents import (
    CHECKLISTS,
    ITEMS,
    KITS,
    OWN_SETTINGS,
    SHEETS,
)
from sortitor.operations.licences import POOLS, vouchers
from sortitor.operations.naming import NAMING
from sortitor.operations.orders import ORDERS
from sortitor.operations.sources.documents import SOURCES
from sortitor.operations.sweeps.rules import RULES
from sortitor.operations.terms import TERMS
from sortitor.operations.welcome import WELCOME
from sortitor.store import journal, levels, lots, people, source_people, sweeps
from sortitor.store.engine import Connection
from sortitor.store.journal import EntryRow
from sortitor.store.settling import hold_still

_KINDS: dict[str, DocumentKind[Any]] = {
    f"{kind.operation}.{act}": kind
    for kind in (
        *(POOLS, RULES, ORDERS, COHORTS, GATE, NAMING, TERMS, WELCOME, REMINDERS, SOURCES),
        *(ITEMS, KITS, SHEETS, CHECKLISTS, OWN_SETTINGS),
    )
    # "apply" is what the gate's and the naming's changes were called before.
    for act in ("add", "edit", "remove", "apply")
}

#: Devices that came to a list, or went from it; a lot that was put aside.
_LISTS = {"cohort.list": lists, "sheet.hand": handing, "lot.discard": discarded}
_HOLDS = ("hold.add", "hold.end")


def changes_of(entry: EntryRow) -> tuple[Difference, ...]:
    """What an entry changed in a document, in words; other entries have none."""
    kind = _KINDS.get(entry.operation.removesuffix(".revert"))
    if kind is None:
        return ()
    before, after = (
        {} if side is None else kind.told(kind.from_journal(side))
        for side in (entry.before, entry.after)
    )
    return differences(before, after)


def _entry(connection: Connection, entry_id: int) -> EntryRow:
    entry = or_not_found(journal.one(connection, entry_id), "journal entry", entry_id)
    core.check_revertible(
        entry_id=entry_id,
        operation=entry.operation,
        summary=entry.summary,
        reverts=entry.reverts,
        reverted_by=entry.reverted_by,
    )
    return entry


def preview(ctx: Context, entry_id: int) -> Preview:
    """What reverting the entry would do, and what it would leave and why."""
    with ctx.working_out() as connection:
        return _plan(ctx, connection, _entry(connection, entry_id), lock=False)


def _plan(ctx: Context, connection: Connection, entry: EntryRow, lock: bool) -> Preview:
    if entry.operation in _KINDS:
        stale = _KINDS[entry.operation].is_stale(connection, entry, lock)
        return sealed(core.document_revert(entry.summary, stale), [entry.id, stale])
    if entry.operation in _LISTS:
        gone = _LISTS[entry.operation].is_gone(connection, entry, lock)
        return sealed(core.document_revert(entry.summary, gone), [entry.id, gone])
    if entry.operation == "source.run":
        undoing = source_people.plan_undoing(connection, entry.id)
        return sealed(core.people_revert(entry.summary, undoing), [entry.id, asdict(undoing)])
    if entry.operation == "level.decide":
        undone = gaps.plan_undoing(connection, entry.before, entry.after)
        shown = core.decisions_revert(entry.summary, len(undone.lines), undone.left)
        return sealed(shown, [entry.id, undone.lines, undone.left])
    if entry.operation == "grant.add":
        return vouchers.plan_undoing(ctx, connection, entry, lock)
    if entry.operation in _HOLDS:
        return holds.plan_undoing(ctx, connection, entry, lock)
    plan = journal.plan_undoing(connection, entry.id, lock)
    examples = tuple(
        core.revert_example(
            device_id=row.device_id,
            label=row.name or f"device no. {row.device_id}",
            action=row.action,
            after=ctx.veil.effect(row.after, row.ownership),
            patch=ctx.veil.effect(row.patch, row.ownership) or {},
            remark=row.remark,
        )
        for row in plan.examples
    )
    shown = core.devices_revert(
        summary=entry.summary,
        removed=plan.removed,
        restored=plan.restored,
        left=plan.left,
        examples=examples,
        examples_total=plan.examples_total,
    )
    if entry.operation == "person.leave":
        shown = leaving.undoing(shown, entry)
    return sealed(shown, [entry.id, plan.digest])


def revert(ctx: Context, entry_id: int, digest: str, reason: str | None) -> int:
    """Take the entry back as previewed; gives the id of the reverting entry."""
    with ctx.changing() as connection:
        entry = _entry(connection, entry_id)
        _lock_first(connection, entry)
        plan = _plan(ctx, connection, entry, lock=True)
        require_digest(plan, digest)
        revert_id = ctx.record(
            connection,
            entry.operation + ".revert",
            entry.subject,
            f"Reverted: {entry.summary}",
            subject_id=entry.subject_id,
            reason=reason,
            before=entry.after,
            after=entry.before,
            reverts=entry_id,
        )
        left = any(count.key == "left" and count.count for count in plan.counts)
        if entry.operation in _KINDS:
            if not left:
                _KINDS[entry.operation].restore(ctx, connection, entry)
        elif entry.operation in _LISTS:
            if not left:
                _LISTS[entry.operation].restore(ctx, connection, entry)
        elif entry.operation == "source.run":
            source_people.undo(connection, entry_id, revert_id, ctx.now)
        elif entry.operation == "level.decide":
            undone = gaps.plan_undoing(connection, entry.before, entry.after)
            levels.restore(connection, undone.lines)
        elif entry.operation == "grant.add":
            vouchers.undo(ctx, connection, entry)
        elif entry.operation in _HOLDS:
            if not left:
                holds.undo(ctx, connection, entry)
        else:
            if entry.operation == "person.leave":
                # Many devices lean on a person: nobody else may be at them.
                hold_still(connection)
                leaving.undo(ctx, connection, entry)
            journal.undo(connection, entry_id, revert_id)
            quotas.require_room(connection, in_force(connection, ctx.today), revert_id)
        _note_on_its_subject(ctx, connection, entry)
        return revert_id


def _lock_first(connection: Connection, entry: EntryRow) -> None:
    """The locks that come before a document's or a device's own."""
    if entry.operation == "lot.apply" and entry.subject_id is not None:
        lots.one(connection, entry.subject_id, lock=True)
        lots.serialise_appliers(connection)
    if entry.subject in (
        "cohort",
        "item",
        "kit",
        "setup sheet",
        "checklist",
        "setting of your own",
    ):
        hold_still(connection)
    if entry.operation == "source.run":
        source_people.hold(connection)
    if entry.operation not in {*_KINDS, *_HOLDS, "grant.add"}:
        # The people's rows before the devices': the order of every arrival.
        concerned = journal.people_concerned(connection, entry.id)
        if entry.operation == "person.leave" and entry.subject_id is not None:
            concerned.append(entry.subject_id)
        people.lock_several(connection, concerned)


def _note_on_its_subject(ctx: Context, connection: Connection, entry: EntryRow) -> None:
    """A lot and a sweep know that they were reverted."""
    if entry.operation == "lot.apply" and entry.subject_id is not None:
        values = {"status": LotStatus.REVERTED, "reverted_at": ctx.now}
        lots.change(connection, entry.subject_id, values)
    if entry.operation == "sweep.apply":
        sweeps.change_run(connection, entry.after["run"], {"state": "reverted"})
