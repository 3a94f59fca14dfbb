"""Cohorts: sets of devices by filter or by list, previewed, explained, compared, and taken back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

from sqlalchemy import ColumnElement, Connection, false

from sortitor.core import cohorts as core
from sortitor.core.errors import BadInput, Conflict, Stale
from sortitor.core.filters import (
    ATTRIBUTES,
    Clause,
    Comparison,
    Filter,
    Not,
    as_tree,
    holds_for,
    matches,
    moving,
    parse,
)
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Ownership
from sortitor.operations.context import Context, must, must_match
from sortitor.operations.selections import asked_by, meant, sees_identifiers, written_out
from sortitor.store import cohorts as store
from sortitor.store import devices as store_devices
from sortitor.store.engine import Line
from sortitor.store.filters import compiled, facts

_EXAMPLES = 10
_HISTORY_DAYS = 400
#: Attributes whose values can be chosen from.
SUGGESTED = frozenset(store_devices.CHOICES)
FIELDS = ("name", "filter", "note")


@dataclass(frozen=True, slots=True)
class Cohort:
    """What is stated of a cohort; without a filter it is a list."""

    name: str
    filter: str | None
    note: str | None = None


@dataclass(frozen=True, slots=True)
class Counted:
    """A cohort with the number of its devices now."""

    cohort: Line
    devices: int


@dataclass(frozen=True, slots=True)
class Use:
    """What speaks of a cohort."""

    kind: str
    id: int
    name: str


# ---- reading
# ------------------------------------------------------------------------------------------------


def every(ctx: Context) -> list[Counted]:
    """Cohorts by name with their numbers."""
    with ctx.reading() as connection:
        return _counted(ctx, connection, store.every(connection))


def one(ctx: Context, cohort_id: int) -> Counted:
    """One cohort with its number."""
    with ctx.reading() as connection:
        return _one(ctx, connection, cohort_id)


def _counted(ctx: Context, connection: Connection, rows: Sequence[Line]) -> list[Counted]:
    """Those that time moves are counted by their filters, all in one pass."""
    numbers = iter(
        store_devices.counts(
            connection, [Selection(filter=parse(row.filter)) for row in rows if row.moving], ctx.now
        )
    )
    return [Counted(row, next(numbers) if row.moving else row.devices) for row in rows]


def _one(ctx: Context, connection: Connection, cohort_id: int) -> Counted:
    return _counted(ctx, connection, [must(store.one(connection, cohort_id), "cohort", cohort_id)])[
        0
    ]


def _condition(ctx: Context, row: Line) -> ColumnElement[bool]:
    """Being in a cohort, as a condition on devices."""
    return compiled(parse(row.filter), ctx.now) if row.moving else store.member_of(row.id)


def explain(ctx: Context, cohort_id: int, device_id: int) -> tuple[bool, list[Clause]]:
    """Whether a device is in a cohort, and every comparison of the filter with the device's
    value.
    """
    with ctx.reading() as connection:
        row = must(store.one(connection, cohort_id), "cohort", cohort_id)
        device = must(store_devices.one(connection, device_id), "device", device_id)
        if row.filter is None:
            inside = (
                store_devices.count(
                    connection, Selection(ids=(device_id,), cohort_id=cohort_id), ctx.now
                )
                == 1
            )
            return inside, [Clause("on the list", "yes" if inside else "no", inside)]
        inside, clauses = matches(
            parse(row.filter), facts(connection, [device_id], ctx.now, {})[device_id]
        )
        hidden = device.ownership == Ownership.PERSONAL and not sees_identifiers(ctx)
        return inside, [
            (
                replace(one, actual="hidden")
                if hidden and ATTRIBUTES[one.text.split()[0]].of == "identifiers"
                else one
            )
            for one in clauses
        ]


def overlap(ctx: Context, one_id: int, other_id: int) -> tuple[int, int, int]:
    """Devices `(only in the one, in both, only in the other)`."""
    with ctx.reading() as connection:
        rows = [
            must(store.one(connection, cohort_id), "cohort", cohort_id)
            for cohort_id in (one_id, other_id)
        ]
        return store.overlap(connection, *(_condition(ctx, row) for row in rows))


def history(ctx: Context, cohort_id: int) -> list[tuple[date, int]]:
    """How many devices there were on the days of the past year, today's number last."""
    with ctx.reading() as connection:
        number, today = _one(ctx, connection, cohort_id).devices, ctx.now.date()
        known = [
            line
            for line in store.history(connection, cohort_id, today - timedelta(days=_HISTORY_DAYS))
            if line[0] != today
        ]
        return [*known, (today, number)]


def uses(ctx: Context, cohort_id: int) -> list[Use]:
    """What speaks of a cohort and would miss it."""
    with ctx.reading() as connection:
        return _uses(connection, must(store.one(connection, cohort_id), "cohort", cohort_id).name)


def _uses(connection: Connection, name: str) -> list[Use]:
    return [
        Use(row.kind, row.id, row.name)
        for row in store.users(connection)
        if _speaks_of(parse(row.filter), name)
    ]


def _speaks_of(found: Filter, name: str) -> bool:
    if isinstance(found, Comparison):
        meant_name = Comparison("cohorts", "eq", found.value) if found.operator == "ne" else found
        return found.attribute == "cohorts" and holds_for(meant_name, [name])
    return any(
        _speaks_of(part, name)
        for part in ((found.part,) if isinstance(found, Not) else found.parts)
    )


# ---- changing
# -----------------------------------------------------------------------------------------------


def preview(ctx: Context, filter_text: str, cohort_id: int | None) -> Preview:
    """How many devices a filter holds, which enter and leave by it, by platform and site, with
    examples.
    """
    with ctx.reading() as connection:
        return _plan(ctx, connection, filter_text, cohort_id)


def _plan(ctx: Context, connection: Connection, filter_text: str, cohort_id: int | None) -> Preview:
    core.check_filter(filter_text)
    new = compiled(asked_by(ctx, filter_text), ctx.now)
    row = (
        must(store.one(connection, cohort_id), "cohort", cohort_id)
        if cohort_id is not None
        else None
    )
    # What a filter says and whom it has as members are the same; read by the filter, the fleet is
    # gone through once.
    former = None if row is None else compiled(parse(_by_filter(row).filter), ctx.now)
    tally = store.tally(connection, new, false() if former is None else former)
    counts = [Count("fit", "devices in it", tally.fit, "good" if tally.fit else "warn")]
    if row is not None:
        counts += [
            Count("enter", "enter", tally.enter, "good" if tally.enter else "plain"),
            Count("leave", "leave", tally.leave, "warn" if tally.leave else "plain"),
        ]
    for field in ("platform", "site", "stage"):
        counts += [
            Count(f"{field}:{value}", value or f"no {field}", number)
            for name, value, number in tally.spread
            if name == field
        ][:6]
    warnings = (
        [] if tally.fit else ["No device fits now; those that come to fit enter by themselves."]
    )
    if row is not None and (used := _uses(connection, row.name)):
        warnings.append(f"Used by {', '.join(f'{use.kind} “{use.name}”' for use in used)}.")
    label = (
        "Save the cohort"
        if row is None
        else f"Save: {plural(tally.enter, 'device')} in, {plural(tally.leave, 'device')} out"
    )
    title = "A new cohort" if row is None else f"Change cohort “{row.name}”"
    return sealed(
        Preview(
            title,
            label,
            tuple(counts),
            _examples(ctx, connection, new, former, tally),
            tally.enter + tally.leave if row is not None else tally.fit,
            tuple(warnings),
        )
    )


def _by_filter(row: Line) -> Line:
    """The cohort, or Conflict where it is a list."""
    if row.filter is None:
        raise _stays(row, "a list")
    return row


def _stays(row: Line, what: str) -> Conflict:
    return Conflict(
        "other_kind", f"Cohort “{row.name}” is {what}; it stays what it is.", "Add another cohort."
    )


def _examples(
    ctx: Context,
    connection: Connection,
    new: ColumnElement[bool],
    former: ColumnElement[bool] | None,
    tally: store.Tally,
) -> tuple[Example, ...]:
    def lines(
        condition: ColumnElement[bool], before: str | None, after: str | None
    ) -> list[Example]:
        return [
            Example(
                row.name or (row.serial if sees_identifiers(ctx) else None) or f"device {row.id}",
                "cohort",
                before,
                after,
                ", ".join(filter(None, (row.platform, row.model, row.site))),
                row.id,
            )
            for row in store_devices.some(connection, condition, _EXAMPLES)
        ]

    if former is None:
        return tuple(lines(new, None, "in") if tally.fit else [])
    return tuple(
        (
            (lines(former & ~new, "in", "out") if tally.leave else [])
            + (lines(new & ~former, "out", "in") if tally.enter else [])
        )[:_EXAMPLES]
    )


def _values(cohort: Cohort) -> dict[str, Any]:
    found = core.check_filter(cohort.filter) if cohort.filter else None
    return {
        "name": cohort.name,
        "filter": cohort.filter or None,
        "note": cohort.note,
        "moving": found is not None and moving(found),
    }


def _fill(ctx: Context, connection: Connection, cohort_id: int, values: dict[str, Any]) -> None:
    """Bring the members of a cohort by filter to what its filter says."""
    if values["filter"] is not None:
        store.recompute(
            connection,
            cohort_id,
            None if values["moving"] else compiled(parse(values["filter"]), ctx.now),
        )
    _write_counts(ctx, connection, [_one(ctx, connection, cohort_id)])


def _write_counts(ctx: Context, connection: Connection, found: Sequence[Counted]) -> None:
    store.write_counts(connection, ctx.now.date(), {one.cohort.id: one.devices for one in found})


def add(ctx: Context, cohort: Cohort, digest: str | None, reason: str | None) -> Counted:
    """A new cohort; `digest` is that of its preview, where one was looked at."""
    values = _values(cohort)
    with ctx.changing() as connection:
        store.hold_still(connection)
        if digest is not None and cohort.filter:
            must_match(_plan(ctx, connection, cohort.filter, None), digest)
        cohort_id = store.add(
            connection, {**values, "created_by": ctx.actor.name, "created_at": ctx.now}
        )
        _fill(ctx, connection, cohort_id, values)
        ctx.record(
            connection,
            "cohort.add",
            "cohort",
            f"Cohort “{cohort.name}” added",
            subject_id=cohort_id,
            reason=reason,
            after=document(connection, cohort_id),
        )
        return _one(ctx, connection, cohort_id)


def edit(
    ctx: Context,
    cohort_id: int,
    cohort: Cohort,
    revision: int | None,
    digest: str | None,
    reason: str | None,
) -> Counted:
    """Change a cohort; `revision` (If-Match) must be the one that was read."""
    values = _values(cohort)
    with ctx.changing() as connection:
        store.hold_still(connection)
        row = must(store.one(connection, cohort_id, lock=True), "cohort", cohort_id)
        if revision is not None and revision != row.revision:
            raise Stale("the cohort")
        if values["filter"] is not None:
            _by_filter(row)
        elif row.filter is not None:
            raise _stays(row, "by filter")
        if cohort.name.lower() != row.name.lower():
            _refuse_used(connection, row.name, "renamed")
        if digest is not None and cohort.filter:
            must_match(_plan(ctx, connection, cohort.filter, cohort_id), digest)
        before = document(connection, cohort_id)
        store.change(connection, cohort_id, values)
        if values["filter"] != row.filter:
            _fill(ctx, connection, cohort_id, values)
        ctx.record(
            connection,
            "cohort.edit",
            "cohort",
            f"Cohort “{cohort.name}” changed",
            subject_id=cohort_id,
            reason=reason,
            before=before,
            after=document(connection, cohort_id),
        )
        return _one(ctx, connection, cohort_id)


def _refuse_used(connection: Connection, name: str, what: str) -> None:
    if used := _uses(connection, name):
        detail = (
            f"Cohort “{name}” cannot be {what}:"
            f" {', '.join(f'{use.kind} “{use.name}”' for use in used)}"
            f" {'speaks' if len(used) == 1 else 'speak'} of it."
        )
        raise Conflict("cohort_in_use", detail, "Change those first.")


def remove(ctx: Context, cohort_id: int, reason: str | None = None) -> None:
    """Remove a cohort that nothing speaks of; a revert brings it back."""
    with ctx.changing() as connection:
        store.hold_still(connection)
        row = must(store.one(connection, cohort_id, lock=True), "cohort", cohort_id)
        _refuse_used(connection, row.name, "removed")
        before = document(connection, cohort_id)
        store.remove(connection, cohort_id)
        ctx.record(
            connection,
            "cohort.remove",
            "cohort",
            f"Cohort “{row.name}” removed",
            subject_id=cohort_id,
            reason=reason,
            before=before,
        )


def document(connection: Connection, cohort_id: int) -> dict[str, Any] | None:
    """The cohort as the journal keeps it; a list with its devices."""
    row = store.one(connection, cohort_id, lock=True)
    if row is None:
        return None
    return {
        **{name: row._mapping[name] for name in FIELDS},
        "devices": store.listed(connection, cohort_id) if row.filter is None else None,
    }


def restore(ctx: Context, connection: Connection, entry: Line) -> None:
    """Set a cohort back to what it was before an entry."""
    cohort_id, before = entry.subject_id, entry.before
    if before is None:
        _refuse_used(connection, entry.after["name"], "removed")
        store.remove(connection, cohort_id)
        return
    values = _values(Cohort(before["name"], before["filter"], before["note"]))
    if entry.after is None:
        store.add(
            connection,
            {**values, "id": cohort_id, "created_by": ctx.actor.name, "created_at": ctx.now},
        )
    else:
        store.change(connection, cohort_id, values)
    if before["devices"]:
        store.put_in(connection, cohort_id, before["devices"])
    _fill(ctx, connection, cohort_id, values)


# ---- lists
# --------------------------------------------------------------------------------------------------


def preview_list(ctx: Context, cohort_id: int, selection: Selection, put_in: bool) -> Preview:
    """Which devices would come to a list, or go from it."""
    with ctx.reading() as connection:
        return _plan_list(ctx, connection, cohort_id, selection, put_in)[0]


def _plan_list(
    ctx: Context, connection: Connection, cohort_id: int, selection: Selection, put_in: bool
) -> tuple[Preview, list[int], Line]:
    row = must(store.one(connection, cohort_id, lock=True), "cohort", cohort_id)
    if row.filter is not None:
        raise Conflict(
            "by_filter",
            f"Cohort “{row.name}” is by filter; devices enter and leave it by themselves.",
            "Change its filter, or add a list.",
        )
    chosen = store_devices.ids(connection, meant(connection, selection), ctx.now)
    inside = set(store.listed(connection, cohort_id))
    moved = [device_id for device_id in chosen if (device_id in inside) is not put_in]
    missing = store_devices.unknown_identifiers(connection, selection.identifiers)
    warnings = (
        (
            (
                f"{plural(len(missing), 'identifier')} not known:"
                f" {', '.join(missing[:5])}{' …' if len(missing) > 5 else ''}."
            ),
        )
        if missing
        else ()
    )
    verb, label = (
        ("put in", f"Put {plural(len(moved), 'device')} in")
        if put_in
        else ("taken out", f"Take {plural(len(moved), 'device')} out")
    )
    counts = (
        Count("moved", f"devices {verb}", len(moved), "good" if put_in else "warn"),
        Count("same", "are so already", len(chosen) - len(moved)),
        Count("unknown", "identifiers not known", len(missing), "warn" if missing else "plain"),
    )
    states = ("out", "in") if put_in else ("in", "out")
    examples = (
        tuple(
            Example(
                device.name or device.serial or f"device {device.id}",
                "cohort",
                *states,
                ", ".join(filter(None, (device.platform, device.model, device.site))),
                device.id,
            )
            for device in store_devices.some(
                connection,
                store_devices.matching(Selection(ids=tuple(moved[:_EXAMPLES])), ctx.now),
                _EXAMPLES,
            )
        )
        if moved
        else ()
    )
    return (
        sealed(
            Preview(f"List “{row.name}”", label, counts, examples, len(moved), warnings),
            [cohort_id, put_in, moved, missing],
        ),
        moved,
        row,
    )


def change_list(
    ctx: Context,
    cohort_id: int,
    selection: Selection,
    put_in: bool,
    digest: str,
    reason: str | None,
) -> Preview:
    """Put devices in a list, or take them out, as previewed."""
    with ctx.changing() as connection:
        shown, moved, row = _plan_list(ctx, connection, cohort_id, selection, put_in)
        must_match(shown, digest)
        (store.put_in if put_in else store.take_out)(connection, cohort_id, moved)
        _write_counts(ctx, connection, [_one(ctx, connection, cohort_id)])
        what = f"{plural(len(moved), 'device')} {'put in' if put_in else 'taken out'}"
        ctx.record(
            connection,
            "cohort.list",
            "cohort",
            f"List “{row.name}”: {what}",
            subject_id=cohort_id,
            reason=reason,
            after={"put_in" if put_in else "taken_out": moved},
        )
        return shown


def read_list(connection: Connection, entry: Line) -> Any:
    """What a change of a list did, while the list is there."""
    return entry.after if store.one(connection, entry.subject_id, lock=True) is not None else None


def restore_list(ctx: Context, connection: Connection, entry: Line) -> None:
    """Take a change of a list back."""
    store.take_out(connection, entry.subject_id, entry.after.get("put_in", []))
    store.put_in(connection, entry.subject_id, entry.after.get("taken_out", []))
    _write_counts(ctx, connection, [_one(ctx, connection, entry.subject_id)])


# ---- filters and schedule
# -----------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Checked:
    """A filter that can be read: its tree, and how many devices fit it now."""

    tree: dict[str, Any]
    devices: int
    moving: bool


def check_filter(ctx: Context, filter_text: str) -> Checked:
    """Read a filter and count its devices. Raises BadInput with column, caret and nearest name."""
    found = parse(filter_text)
    with ctx.reading() as connection:
        fitting = Selection(filter=written_out(connection, asked_by(ctx, filter_text)))
        return Checked(
            as_tree(found), store_devices.count(connection, fitting, ctx.now), moving(found)
        )


def values_of(ctx: Context, attribute: str, beginning: str) -> list[str]:
    """Values that devices have now for an attribute of few words, for completion."""
    if attribute not in SUGGESTED:
        raise BadInput("no_values", f"{attribute!r} has no values to choose from.", "Write one.")
    with ctx.reading() as connection:
        return store_devices.values_of(connection, attribute, beginning, 20)


def write_counts(ctx: Context) -> None:
    """Keep today's number of every cohort; by schedule."""
    with ctx.changing() as connection:
        _write_counts(ctx, connection, _counted(ctx, connection, store.every(connection)))
