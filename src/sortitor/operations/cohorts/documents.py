"""Cohorts as documents: whom a change would bring in or out, and keeping the members right."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import partial
from typing import Any

from sortitor.core.cohorts import Cohort, speaks_of
from sortitor.core.errors import Conflict
from sortitor.core.filters import parse
from sortitor.core.previews import Count, Example, plural
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Giving
from sortitor.operations import kept_numbers
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.documents import (
    DocumentKind,
    Effect,
    Key,
    Wanted,
    refuse_other_kind,
)
from sortitor.operations.kept_numbers import Counting
from sortitor.operations.licences import seats
from sortitor.store import cohorts as store
from sortitor.store import devices as store_devices
from sortitor.store import holds, kits, tables
from sortitor.store.cohorts import CohortRow
from sortitor.store.documents import Kept, Shelf
from sortitor.store.engine import Connection
from sortitor.store.filters import Condition, compiled
from sortitor.store.journal import EntryRow
from sortitor.store.settling import hold_still, mark_anew

EXAMPLES = 10
_MOST_GROUPS = 6


@dataclass(frozen=True, slots=True)
class CountedCohort:
    """A cohort with the number of its devices now."""

    row: CohortRow
    devices: int


@dataclass(frozen=True, slots=True)
class Use:
    """What speaks of a cohort."""

    kind: str
    id: int
    name: str

    def __str__(self) -> str:
        return f"{self.kind} “{self.name}”"


class Cohorts(DocumentKind[Cohort]):
    """Cohorts as documents."""

    heavy = True

    def hold(self, connection: Connection) -> None:
        """Whoever changes a cohort waits for this lock before anything else."""
        hold_still(connection)

    def beside(self, ctx: Context, wanted: Wanted[Cohort]) -> dict[str, Any]:
        """Whether time moves it, and who made it."""
        assert wanted.proposed is not None
        moving = {"moving": wanted.proposed.is_moving}
        if wanted.former is not None:
            return moving
        return {**moving, "created_by": ctx.actor.name, "created_at": ctx.now}

    def check(self, ctx: Context, connection: Connection, wanted: Wanted[Cohort]) -> None:
        """A cohort stays by filter or by list, and keeps its name while something speaks of it."""
        former = wanted.before
        if former is None:
            return
        if wanted.proposed is None:
            _refuse_used(connection, former.name, "removed")
            _refuse_held(ctx, connection, wanted, "removed")
            return
        if (wanted.proposed.filter is None) != (former.filter is None):
            kind = "a list" if former.filter is None else "by filter"
            raise refuse_other_kind(f"Cohort “{former.name}”", kind)
        if wanted.proposed.name.lower() != former.name.lower():
            _refuse_used(connection, former.name, "renamed")
        if wanted.proposed.is_moving and not former.is_moving:
            _refuse_held(ctx, connection, wanted, "moved by time")
            _refuse_given(connection, former.name)

    def effect(self, ctx: Context, connection: Connection, wanted: Wanted[Cohort]) -> Effect:
        """How many devices it would hold, which enter and which leave."""
        proposed = wanted.proposed
        if proposed is None or proposed.filter is None:
            return Effect()
        # What a filter says and whom it has as members are the same; read by the filter, the fleet
        # is gone through once.
        new = compiled(ctx.veil.parse(proposed.filter), ctx.now)
        former = None
        if wanted.before is not None and wanted.before.filter is not None:
            former = compiled(parse(wanted.before.filter), ctx.now)
        tally = store.tally(connection, new, former)
        entered_and_left = tally.enter + tally.leave
        return Effect(
            counts=_counts(tally, is_new=former is None),
            examples=_examples(ctx, connection, new, former, tally),
            examples_total=tally.fit if former is None else entered_and_left,
            warnings=_warnings(connection, wanted, tally),
            label=_label(tally, is_new=former is None),
            facts=[tally.fit, tally.enter, tally.leave],
        )

    def written(
        self, ctx: Context, connection: Connection, number: int, wanted: Wanted[Cohort]
    ) -> None:
        """The members follow the filter at once."""
        mark_anew(connection)
        proposed = wanted.proposed
        former_filter = wanted.before and wanted.before.filter
        if proposed is None:
            return
        if proposed.filter is not None and proposed.filter != former_filter:
            condition = None if proposed.is_moving else compiled(parse(proposed.filter), ctx.now)
            store.recompute(connection, number, condition)
            kits.gather_of_cohort(connection, number)
        if proposed.filter != former_filter or wanted.before is None:
            seats.keep_those_of(ctx, connection, proposed.name)
        write_counts_of(ctx, connection, [or_not_found(store.one(connection, number), "cohort", 0)])

    def as_journaled(self, connection: Connection, kept: Kept[Cohort]) -> dict[str, Any]:
        """The cohort as the journal keeps it; a list with its devices."""
        is_list = kept.document.filter is None
        devices = store.listed(connection, kept.id) if is_list else None
        return {**kept.document.as_json(), "devices": devices}

    def from_journal(self, value: Any) -> Cohort:
        """The cohort of a journal entry's side."""
        return Cohort.model_validate({key: value[key] for key in value if key != "devices"})

    def is_stale(self, connection: Connection, entry: EntryRow, lock: bool) -> bool:
        """A list that was changed since is another one, too."""
        if super().is_stale(connection, entry, lock):
            return True
        if entry.after is None or entry.after["devices"] is None:
            return False
        assert entry.subject_id is not None
        devices: list[int] = entry.after["devices"]
        return store.listed(connection, entry.subject_id) != devices

    def restored(self, connection: Connection, number: int, entry: EntryRow) -> None:
        """The devices of a list come back."""
        if entry.before and entry.before["devices"]:
            store.put_in(connection, number, entry.before["devices"])


COHORTS = Cohorts("cohort", "cohort", Shelf(Cohort, tables.cohorts))


# ---- reading


def every(ctx: Context) -> list[CountedCohort]:
    """Cohorts by name with their numbers."""
    with ctx.reading() as connection:
        rows = store.every(connection)
        lists = store.members(connection, [row.id for row in rows if row.filter is None])
    sizes = kept_numbers.known(ctx, [_sizes(ctx, rows)])["cohorts"]
    return [
        CountedCohort(row, lists.get(row.id, 0) if row.filter is None else sizes[str(row.id)])
        for row in rows
    ]


def keep_up(ctx: Context) -> None:
    """Count anew how many devices the cohorts of a large fleet have; by schedule."""
    with ctx.reading() as connection:
        rows = store.every(connection)
    kept_numbers.keep_up(ctx, [_sizes(ctx, rows)])


def _sizes(ctx: Context, rows: Sequence[CohortRow]) -> Counting:
    """How many devices the cohorts with filters have."""
    filtered = [row for row in rows if row.filter is not None]
    about = " ".join([f"{ctx.today}", *(f"{row.id}:{row.revision}" for row in filtered)])
    return Counting("cohorts", partial(_count_sizes, filtered), about)


def _count_sizes(rows: Sequence[CohortRow], ctx: Context) -> dict[str, int]:
    with ctx.reading() as connection:
        return {str(one.row.id): one.devices for one in counted(connection, rows, ctx.now)}


def one(ctx: Context, key: Key) -> CountedCohort:
    """One cohort with its number."""
    with ctx.reading() as connection:
        return counted(connection, [find(connection, key)], ctx.now)[0]


def find(connection: Connection, key: Key, lock: bool = False) -> CohortRow:
    """One cohort by number or name, with what stands beside the document."""
    kept = COHORTS.find(connection, key, lock)
    return or_not_found(store.one(connection, kept.id), "cohort", key)


def counted(
    connection: Connection, rows: Sequence[CohortRow], now: datetime
) -> list[CountedCohort]:
    """Cohorts with their numbers; those that time moves are counted by their filters, all in one
    pass.
    """
    selections = [
        Selection(filter=parse(row.filter)) for row in rows if row.moving and row.filter is not None
    ]
    numbers = iter(store_devices.counts(connection, selections, now))
    kept = store.members(connection, [row.id for row in rows if not row.moving])
    return [
        CountedCohort(row, next(numbers) if row.moving else kept.get(row.id, 0)) for row in rows
    ]


def write_counts_of(ctx: Context, connection: Connection, rows: Sequence[CohortRow]) -> None:
    """Keep how many devices there are today."""
    found = counted(connection, rows, ctx.now)
    store.write_counts(connection, ctx.now.date(), {one.row.id: one.devices for one in found})


def uses(ctx: Context, key: Key) -> list[Use]:
    """What speaks of a cohort and would miss it."""
    with ctx.reading() as connection:
        return uses_of(connection, COHORTS.find(connection, key).document.name)


def uses_of(connection: Connection, name: str) -> list[Use]:
    """The same of a cohort by its name, in a transaction."""
    speaking = [
        Use(row.kind, row.id, row.name)
        for row in store.users(connection)
        if speaks_of(parse(row.filter), name)
    ]
    given = [Use(_GIVEN[row.kind], row.id, row.name) for row in kits.given_by(connection, name)]
    return [*speaking, *given]


#: What is given to a cohort, as it is called.
_GIVEN = {
    Giving.ITEM: "item",
    Giving.KIT: "kit",
    Giving.SHEET: "setup sheet",
    Giving.CHECKLIST: "checklist",
}


# ---- the words of a preview


def _counts(tally: store.Tally, is_new: bool) -> tuple[Count, ...]:
    counts = [Count("fit", "devices in it", tally.fit, "good" if tally.fit else "warn")]
    if not is_new:
        counts.append(Count("enter", "enter", tally.enter, "good" if tally.enter else "plain"))
        counts.append(Count("leave", "leave", tally.leave, "warn" if tally.leave else "plain"))
    for field in ("platform", "site", "stage"):
        spread = [(value, number) for name, value, number in tally.spread if name == field]
        for value, number in spread[:_MOST_GROUPS]:
            counts.append(Count(f"{field}:{value}", value or f"no {field}", number))
    return tuple(counts)


def _warnings(
    connection: Connection, wanted: Wanted[Cohort], tally: store.Tally
) -> tuple[str, ...]:
    warnings = []
    if not tally.fit:
        warnings.append("No device fits now; those that come to fit enter by themselves.")
    if wanted.former is not None and (used := uses_of(connection, wanted.former.document.name)):
        warnings.append(f"Used by {', '.join(map(str, used))}.")
    return tuple(warnings)


def _label(tally: store.Tally, is_new: bool) -> str:
    if is_new:
        return "Save the cohort"
    return f"Save: {plural(tally.enter, 'device')} in, {plural(tally.leave, 'device')} out"


def _examples(
    ctx: Context,
    connection: Connection,
    new: Condition,
    former: Condition | None,
    tally: store.Tally,
) -> tuple[Example, ...]:
    if former is None:
        return device_examples(ctx, connection, new, None, "in") if tally.fit else ()
    leave = device_examples(ctx, connection, former & ~new, "in", "out") if tally.leave else ()
    enter = device_examples(ctx, connection, new & ~former, "out", "in") if tally.enter else ()
    return (*leave, *enter)[:EXAMPLES]


def device_examples(
    ctx: Context,
    connection: Connection,
    condition: Condition,
    before: str | None,
    after: str | None,
) -> tuple[Example, ...]:
    """Some devices that fit a condition, going in or out."""
    return tuple(
        Example(
            subject=ctx.veil.label(row.id, row.name, row.serial, row.ownership),
            field="cohort",
            before=before,
            after=after,
            note=", ".join(filter(None, (row.platform, row.model, row.site))),
            device_id=row.id,
        )
        for row in store_devices.some(connection, condition, EXAMPLES)
    )


def _refuse_used(connection: Connection, name: str, what: str) -> None:
    if used := uses_of(connection, name):
        verb = "speaks" if len(used) == 1 else "speak"
        raise Conflict(
            "cohort_in_use",
            f"Cohort “{name}” cannot be {what}: {', '.join(map(str, used))} {verb} of it.",
            "Change those first.",
        )


def _refuse_given(connection: Connection, name: str) -> None:
    """What devices get is worked out when they change, not as time passes."""
    if found := kits.given_by(connection, name):
        given = ", ".join(f"{_GIVEN[one.kind]} “{one.name}”" for one in found)
        raise Conflict(
            "cohort_in_use",
            f"Cohort “{name}” cannot be moved by time: it is given {given}.",
            "Give those to another cohort first.",
        )


def _refuse_held(ctx: Context, connection: Connection, wanted: Wanted[Cohort], what: str) -> None:
    """A hold that somebody put on a cohort does not let go of its devices unsaid."""
    assert wanted.former is not None
    if found := holds.on_cohort(connection, wanted.former.id, ctx.today):
        raise Conflict(
            "cohort_held",
            f"Cohort “{wanted.former.document.name}” cannot be {what}: hold {found[0].id} keeps its"
            f" devices out of sweeps until {found[0].until_on}.",
            "End the hold first.",
        )
