"""Lists: putting devices in and taking them out, previewed and taken back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sortitor.core.errors import Conflict
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.operations.cohorts.documents import (
    EXAMPLES,
    device_examples,
    find,
    uses_of,
    write_counts_of,
)
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.documents import Key
from sortitor.operations.selections import resolve_selection
from sortitor.store import cohorts as store
from sortitor.store import devices as store_devices
from sortitor.store import holds
from sortitor.store.cohorts import CohortRow
from sortitor.store.engine import Connection
from sortitor.store.journal import EntryRow
from sortitor.store.settling import hold_still, settle


@dataclass(frozen=True, slots=True)
class _Plan:
    """A change of a list: its preview, the devices that come or go, and the list."""

    preview: Preview
    changed: list[int]
    row: CohortRow


def preview(ctx: Context, key: Key, selection: Selection, put_in: bool) -> Preview:
    """Which devices would come to a list, or go from it."""
    with ctx.reading() as connection:
        return _plan(ctx, connection, find(connection, key), selection, put_in).preview


def change(
    ctx: Context, key: Key, selection: Selection, put_in: bool, digest: str, reason: str | None
) -> Preview:
    """Put devices in a list, or take them out, as previewed."""
    with ctx.changing() as connection:
        hold_still(connection)
        row = find(connection, key, lock=True)
        plan = _plan(ctx, connection, row, selection, put_in)
        require_digest(plan.preview, digest)
        act = store.put_in if put_in else store.take_out
        act(connection, row.id, plan.changed)
        settle_list(ctx, connection, row.id, plan.changed)
        what = f"{plural(len(plan.changed), 'device')} {'put in' if put_in else 'taken out'}"
        ctx.record(
            connection,
            "cohort.list",
            "cohort",
            f"List “{row.name}”: {what}",
            subject_id=row.id,
            reason=reason,
            after={"put_in" if put_in else "taken_out": plan.changed},
        )
        return plan.preview


def _plan(
    ctx: Context, connection: Connection, row: CohortRow, selection: Selection, put_in: bool
) -> _Plan:
    if row.filter is not None:
        raise Conflict(
            "by_filter",
            f"Cohort “{row.name}” is by filter; devices enter and leave it by themselves.",
            "Change its filter, or add a list.",
        )
    chosen = store_devices.ids(connection, resolve_selection(connection, selection), ctx.now)
    inside = set(store.listed(connection, row.id))
    changed = [device_id for device_id in chosen if (device_id in inside) is not put_in]
    unknown = store_devices.unknown_identifiers(connection, selection.identifiers)
    count = plural(len(changed), "device")
    shown = Preview(
        title=f"List “{row.name}”",
        apply_label=f"Put {count} in" if put_in else f"Take {count} out",
        counts=_counts(len(changed), len(chosen) - len(changed), len(unknown), put_in),
        examples=_examples(ctx, connection, changed, put_in),
        examples_total=len(changed),
        warnings=unknown_warnings(unknown),
    )
    return _Plan(sealed(shown, [row.id, put_in, changed, unknown]), changed, row)


def _counts(changed: int, same: int, unknown: int, put_in: bool) -> tuple[Count, ...]:
    verb, tone = ("put in", "good") if put_in else ("taken out", "warn")
    return (
        Count("moved", f"devices {verb}", changed, tone),
        Count("same", "are so already", same),
        Count("unknown", "identifiers not known", unknown, "warn" if unknown else "plain"),
    )


def unknown_warnings(unknown: Sequence[str]) -> tuple[str, ...]:
    """What is said of identifiers that no device has."""
    if not unknown:
        return ()
    more = " …" if len(unknown) > 5 else ""
    return (f"{plural(len(unknown), 'identifier')} not known: {', '.join(unknown[:5])}{more}.",)


def _examples(
    ctx: Context, connection: Connection, changed: Sequence[int], put_in: bool
) -> tuple[Example, ...]:
    if not changed:
        return ()
    first = Selection(ids=tuple(changed[:EXAMPLES]))
    before, after = ("out", "in") if put_in else ("in", "out")
    condition = store_devices.matching(first, ctx.now)
    return device_examples(ctx, connection, condition, before, after)


def is_gone(connection: Connection, entry: EntryRow, lock: bool) -> bool:
    """Whether the list that an entry changed is there no more."""
    assert entry.subject_id is not None
    return store.one(connection, entry.subject_id, lock) is None


def restore(ctx: Context, connection: Connection, entry: EntryRow) -> None:
    """Take a change of a list back."""
    assert entry.subject_id is not None
    came, went = entry.after.get("put_in", []), entry.after.get("taken_out", [])
    store.take_out(connection, entry.subject_id, came)
    store.put_in(connection, entry.subject_id, went)
    settle_list(ctx, connection, entry.subject_id, [*came, *went])


def settle_list(ctx: Context, connection: Connection, cohort_id: int, ids: Sequence[int]) -> None:
    """Bring to the moment what leans on devices that came to a list or went from it: pools may
    speak of it, and it may be given something.
    """
    settle(connection, f"SELECT unnest(ARRAY{list(ids)}::bigint[]) AS id", {"cohorts"})
    row = or_not_found(store.one(connection, cohort_id), "cohort", cohort_id)
    write_counts_of(ctx, connection, [row])


def is_used(ctx: Context, connection: Connection, cohort_id: int) -> bool:
    """Whether anything speaks of a list, or a hold is on it."""
    row = or_not_found(store.one(connection, cohort_id), "cohort", cohort_id)
    return bool(uses_of(connection, row.name) or holds.on_cohort(connection, cohort_id, ctx.today))
