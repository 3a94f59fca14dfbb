"""Taking a change back: one way for every kind of change."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sqlalchemy import Connection

from sortitor.core.errors import Conflict
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.vocabulary import LotStatus
from sortitor.operations import cohorts, orders
from sortitor.operations.context import Context, must, must_match
from sortitor.store import cohorts as store_cohorts
from sortitor.store import journal, licences, lots, rulebooks, sweeps
from sortitor.store import orders as store_orders
from sortitor.store.engine import Line

#: What an entry says of itself when it cannot be taken back by itself.
_FINAL = {
    "account.add": "Disable the account instead.",
    "account.edit": "Change the account again.",
    "token.add": "Revoke the token instead.",
    "token.revoke": "Make a new token.",
    "pass.add": "Revoke the pass instead.",
    "pass.revoke": "Make a new pass.",
    "lot.edit": "Edit the lot again, or discard it.",
    "people.import": "Import the former file again.",
    "person.left": "Note that the person is back.",
    "person.back": "Note that the person has left.",
    **dict.fromkeys(
        ("user.add", "user.edit", "user.remove", "group.add", "group.edit", "group.remove"),
        "Let the identity provider push the former state again.",
    ),
    "group.groups": "Set the former groups again.",
    "lot.check": "Discard the lot instead.",
    "lot.discard": "Import the file again.",
    "sweep.brake": "Nothing was done that could be taken back.",
    "hold.add": "End the hold instead.",
    "hold.end": "Hold the device again.",
    "device.knock": "Retire or reassign the device instead.",
    "device.wake": "The device did this by itself.",
}


def _entry(connection: Connection, entry_id: int) -> Line:
    entry = must(journal.one(connection, entry_id), "journal entry", entry_id)
    if entry.reverted_by is not None:
        raise Conflict(
            "already_reverted",
            f"Entry {entry_id} was reverted by entry {entry.reverted_by}.",
            "Read the journal.",
        )
    if entry.reverts is not None:
        raise Conflict(
            "is_a_revert", f"Entry {entry_id} is a revert itself.", "Make the change again."
        )
    if entry.operation in _FINAL:
        raise Conflict(
            "cannot_be_reverted", f"“{entry.summary}” cannot be reverted.", _FINAL[entry.operation]
        )
    return entry


def preview(ctx: Context, entry_id: int) -> Preview:
    """What reverting the entry would do, and what it would leave and why."""
    with ctx.reading() as connection:
        return _plan(connection, _entry(connection, entry_id), lock=False)


def _plan(connection: Connection, entry: Line, lock: bool) -> Preview:
    if entry.operation in _DOCUMENTS:
        now = _DOCUMENTS[entry.operation][0](connection, entry)
        moved = now != entry.after
        counts: tuple[Count, ...] = (
            Count("restored", "set back", 0 if moved else 1, "good"),
            Count("left", "left as it is", int(moved), "warn" if moved else "plain"),
        )
        warnings = (
            ("It was changed again since; reverting would undo that too, so it is left as it is.",)
            if moved
            else ()
        )
        return sealed(
            Preview(f"Revert: {entry.summary}", "Revert the change", counts, (), 0, warnings),
            [entry.id, now],
        )
    plan = journal.plan_undoing(connection, entry.id, lock)
    acts = [f"remove {plural(plan.removed, 'device')}"] * bool(plan.removed) + [
        f"set {plural(plan.restored, 'device')} back"
    ] * bool(plan.restored)
    counts = (
        Count("removed", "devices removed", plan.removed, "warn" if plan.removed else "plain"),
        Count("restored", "devices set back", plan.restored, "good"),
        Count("left", "devices left as they are", plan.left, "warn" if plan.left else "plain"),
    )
    warnings = (
        (
            (
                f"{plural(plan.left, 'device')} changed since and stay as they are; they are listed"
                " first."
            ),
        )
        if plan.left
        else ()
    )
    examples = tuple(_example(line) for line in plan.examples)
    return sealed(
        Preview(
            f"Revert: {entry.summary}",
            (" and ".join(acts) or "close the entry").capitalize(),
            counts,
            examples,
            plan.examples_total,
            warnings,
        ),
        [entry.id, plan.digest],
    )


def _example(line: tuple[int, str | None, str, Any, Any, str]) -> Example:
    device_id, name, action, after, patch, remark = line
    if action != "restore":
        return Example(
            name or f"device {device_id}",
            "device",
            "present" if action == "remove" else None,
            "removed" if action == "remove" else None,
            remark,
            device_id,
        )
    fields = [field for field in patch if not field.endswith(("_at", "_basis"))]
    before = ", ".join(str((after or {}).get(field)) for field in fields)
    return Example(
        name or f"device {device_id}",
        ", ".join(fields),
        before,
        ", ".join(str(patch[field]) for field in fields),
        remark,
        device_id,
    )


def revert(ctx: Context, entry_id: int, digest: str, reason: str | None) -> int:
    """Take the entry back as previewed; gives the id of the reverting entry."""
    with ctx.changing() as connection:
        entry = _entry(connection, entry_id)
        if entry.operation == "lot.apply":
            lots.one(connection, entry.subject_id, lock=True)
            lots.serialise_appliers(connection)
        if entry.subject == "cohort":
            store_cohorts.hold_still(connection)
        plan = _plan(connection, entry, lock=True)
        must_match(plan, digest)
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
        if entry.operation in _DOCUMENTS:
            if not any(count.key == "left" and count.count for count in plan.counts):
                _DOCUMENTS[entry.operation][1](ctx, connection, entry)
        else:
            journal.undo(connection, entry_id, revert_id)
        if entry.operation == "lot.apply":
            lots.change(
                connection, entry.subject_id, {"status": LotStatus.REVERTED, "reverted_at": ctx.now}
            )
        if entry.operation == "sweep.apply":
            sweeps.change_run(connection, entry.after["run"], {"state": "reverted"})
        return revert_id


def _read_book(connection: Connection, entry: Line) -> Any:
    book = rulebooks.read(connection, entry.subject, lock=True)
    return book[1] if book else None


def _write_book(ctx: Context, connection: Connection, entry: Line) -> None:
    rulebooks.write(connection, entry.subject, entry.before)


POOL_FIELDS = ("name", "seats", "filter", "awaited_too")
RULE_FIELDS = ("name", "idle_window_days", "filter", "daily", "brake_percent")


def _read_pool(connection: Connection, entry: Line) -> Any:
    row = licences.one(connection, entry.subject_id, lock=True)
    return {name: row._mapping[name] for name in POOL_FIELDS} if row else None


def _write_pool(ctx: Context, connection: Connection, entry: Line) -> None:
    if entry.before is None:
        licences.remove(connection, entry.subject_id)
    elif entry.after is None:
        licences.add(connection, {**entry.before, "id": entry.subject_id})
    else:
        licences.change(connection, entry.subject_id, entry.before)


def _read_rule(connection: Connection, entry: Line) -> Any:
    row = sweeps.rule(connection, entry.subject_id, lock=True)
    return {name: row._mapping[name] for name in RULE_FIELDS} if row else None


def _write_rule(ctx: Context, connection: Connection, entry: Line) -> None:
    if entry.before is None:
        sweeps.remove_rule(connection, entry.subject_id)
    elif entry.after is None:
        sweeps.add_rule(connection, {**entry.before, "id": entry.subject_id})
    else:
        sweeps.change_rule(connection, entry.subject_id, entry.before)


def _read_order(connection: Connection, entry: Line) -> Any:
    return orders.document(connection, entry.subject_id)


def _write_order(ctx: Context, connection: Connection, entry: Line) -> None:
    if entry.before is None:
        store_orders.remove(connection, entry.subject_id)
        return
    head = {name: value for name, value in entry.before.items() if name != "lines"}
    if entry.after is None:
        store_orders.add(connection, {**head, "id": entry.subject_id}, entry.before["lines"])
    else:
        store_orders.change(connection, entry.subject_id, head, entry.before["lines"])


def _read_cohort(connection: Connection, entry: Line) -> Any:
    return cohorts.document(connection, entry.subject_id)


#: Changes of one document: how to read it as the entry keeps it, and how to put the former one
#: back.
_DOCUMENTS: dict[
    str, tuple[Callable[[Connection, Line], Any], Callable[[Context, Connection, Line], None]]
] = {
    "gate.apply": (_read_book, _write_book),
    "naming.apply": (_read_book, _write_book),
    **dict.fromkeys(("pool.add", "pool.edit", "pool.remove"), (_read_pool, _write_pool)),
    **dict.fromkeys(("rule.add", "rule.edit", "rule.remove"), (_read_rule, _write_rule)),
    **dict.fromkeys(("order.add", "order.edit", "order.remove"), (_read_order, _write_order)),
    **dict.fromkeys(
        ("cohort.add", "cohort.edit", "cohort.remove"), (_read_cohort, cohorts.restore)
    ),
    "cohort.list": (cohorts.read_list, cohorts.restore_list),
}
