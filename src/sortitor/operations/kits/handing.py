"""Giving a setup sheet to chosen devices, and clearing it from them. Such devices are a list that
the sheet is given to, so that what they get is decided as for every other device.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from sortitor.core.cohorts import Cohort
from sortitor.core.errors import Conflict
from sortitor.core.filters import lower
from sortitor.core.kits.documents import Given
from sortitor.core.kits.resolve import Facts
from sortitor.core.kits.sheets import SetupSheet
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Giving
from sortitor.operations.cohorts import lists
from sortitor.operations.cohorts.documents import COHORTS, device_examples
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.documents import Key, Wanted
from sortitor.operations.kits import effects
from sortitor.operations.kits.documents import SHEETS
from sortitor.operations.kits.library import NEW, Library, library
from sortitor.operations.selections import resolve_selection
from sortitor.store import cohorts as store_cohorts
from sortitor.store import delivery, devices, kits
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection
from sortitor.store.journal import EntryRow
from sortitor.store.settling import hold_still, mark_anew

_EXAMPLES, _LONGEST = 10, 100


@dataclass(frozen=True, slots=True)
class Handing:
    """A sheet for chosen devices; `clear`: not by hand any more."""

    sheet: Key
    selection: Selection
    clear: bool = False


@dataclass(frozen=True, slots=True)
class _Plan:
    preview: Preview
    sheet: Kept[SetupSheet]
    #: The list of the devices that it was given to by hand; None: there is none yet.
    list_id: int | None
    changed: list[int]


def preview(ctx: Context, handing: Handing) -> Preview:
    """Which devices would get the sheet, or get it no longer."""
    with ctx.reading() as connection:
        return _plan(ctx, connection, handing).preview


def apply(ctx: Context, handing: Handing, digest: str, reason: str | None) -> Preview:
    """Give or clear as previewed."""
    with ctx.changing() as connection:
        hold_still(connection)
        plan = _plan(ctx, connection, handing)
        require_digest(plan.preview, digest)
        list_id = plan.list_id or _make_list(ctx, connection, plan.sheet.document)
        act = store_cohorts.take_out if handing.clear else store_cohorts.put_in
        act(connection, list_id, plan.changed)
        if plan.list_id is None:
            _give(ctx, connection, plan.sheet, with_list(plan.sheet.document))
        else:
            lists.settle_list(ctx, connection, list_id, plan.changed)
        ctx.record(
            connection,
            "sheet.hand",
            "setup sheet",
            f"Setup sheet “{plan.sheet.document.name}” "
            + ("cleared from " if handing.clear else "given to ")
            + plural(len(plan.changed), "device"),
            subject_id=plan.sheet.id,
            reason=reason,
            after={
                "list": list_id,
                "taken_out" if handing.clear else "put_in": plan.changed,
                "made": plan.list_id is None,
            },
        )
        return plan.preview


def list_name(sheet: SetupSheet) -> str:
    """What the list of a sheet's chosen devices is called."""
    return f"Chosen for {sheet.name}"[:_LONGEST]


def with_list(sheet: SetupSheet) -> SetupSheet:
    """A sheet that is given to its list as well."""
    if _given(sheet):
        return sheet
    return sheet.model_copy(update={"given": (*sheet.given, Given(cohort=list_name(sheet)))})


def _given(sheet: SetupSheet) -> bool:
    return lower(list_name(sheet)) in (lower(one.cohort) for one in sheet.given if one.cohort)


def _plan(ctx: Context, connection: Connection, handing: Handing) -> _Plan:
    sheet = SHEETS.find(connection, handing.sheet, lock=False)
    found = library(connection)
    name = list_name(sheet.document)
    known = found.cohorts.get(lower(name))
    list_id = known[0] if known and _given(sheet.document) else None
    if known and list_id is None:
        words = f"There is a cohort “{name}” already, which the sheet is not given to."
        raise Conflict("list_taken", words, "Give the sheet to that cohort, or rename it.")
    chosen = delivery.chosen(connection, resolve_selection(connection, handing.selection), ctx.now)
    inside = set(store_cohorts.listed(connection, list_id)) if list_id else set()
    changed = [one for one in chosen if (one in inside) is handing.clear]
    unknown = devices.unknown_identifiers(connection, handing.selection.identifiers)
    turned = _turned(connection, found, sheet, list_id or NEW, changed, handing.clear)
    shown = Preview(
        title=f"{'Clear' if handing.clear else 'Give'} setup sheet “{sheet.document.name}”",
        apply_label=f"{'Clear from' if handing.clear else 'Give to'}"
        f" {plural(len(changed), 'device')}",
        counts=(*turned, *_others(len(chosen) - len(changed), len(unknown), handing.clear)),
        examples=_examples(ctx, connection, changed, handing.clear),
        examples_total=len(changed),
        warnings=lists.unknown_warnings(unknown),
        nothing_to_do=not changed,
    )
    facts = [sheet.id, sheet.revision, handing.clear, changed, unknown]
    return _Plan(sealed(shown, facts), sheet, list_id, changed)


def _turned(
    connection: Connection,
    found: Library,
    sheet: Kept[SetupSheet],
    list_id: int,
    changed: Sequence[int],
    clear: bool,
) -> tuple[Count, ...]:
    """For how many devices this sheet becomes theirs, or is so no longer, and how many go by
    another one.
    """
    document = with_list(sheet.document)
    name = lower(list_name(document))
    cohorts = {**found.cohorts, name: (list_id, False)}
    after = found.named(cohorts).changed(Giving.SHEET, sheet.id, document)
    moved = elsewhere = already = 0
    for group in kits.groups_of(connection, changed):
        now = found.facts(group.facts)
        given = now.cohorts - {list_id} if clear else now.cohorts | {list_id}
        then = Facts(given, now.conditions)
        had, has = found.chosen(now, Giving.SHEET), after.chosen(then, Giving.SHEET)
        mine = (had if clear else has) == sheet.id
        moved += group.devices if mine and had != has else 0
        already += group.devices if mine and had == has else 0
        elsewhere += 0 if mine else group.devices
    if clear:
        return (Count("lose", "devices have this sheet no longer", moved, "warn"),)
    return (
        Count("gain", "devices get this sheet", moved, "good"),
        Count("already", "have it already, through a cohort", already),
        Count("beaten", "go by another sheet, whose position wins", elsewhere, "warn"),
    )


def _others(same: int, unknown: int, clear: bool) -> tuple[Count, ...]:
    words = "were not given it by hand" if clear else "were given it by hand before"
    return (
        Count("same", words, same),
        Count("unknown", "identifiers not known", unknown, "warn" if unknown else "plain"),
    )


def _examples(
    ctx: Context, connection: Connection, changed: Sequence[int], clear: bool
) -> tuple[Example, ...]:
    if not changed:
        return ()
    first = devices.matching(Selection(ids=tuple(changed[:_EXAMPLES])), ctx.now)
    before, after = ("by hand", None) if clear else (None, "by hand")
    shown = device_examples(ctx, connection, first, before, after)
    return tuple(replace(one, field="setup sheet") for one in shown)


def _make_list(ctx: Context, connection: Connection, sheet: SetupSheet) -> int:
    made = Cohort(name=list_name(sheet), note=f"Given setup sheet “{sheet.name}” by hand"[:200])
    beside = COHORTS.beside(ctx, Wanted(None, made))
    number = COHORTS.shelf.add(connection, made, **beside)
    mark_anew(connection)
    return number


def _give(
    ctx: Context, connection: Connection, former: Kept[SetupSheet], document: SetupSheet
) -> None:
    """Write the sheet with others that it is given to."""
    SHEETS.shelf.change(connection, former.id, document)
    effects.write(connection, Giving.SHEET, former.id, former)


# ---- taking back


def is_gone(connection: Connection, entry: EntryRow, lock: bool) -> bool:
    """Whether the list or the sheet that an entry speaks of is there no more."""
    assert entry.subject_id is not None
    sheet = SHEETS.shelf.one(connection, entry.subject_id, lock)
    there = store_cohorts.one(connection, entry.after["list"], lock)
    return sheet is None or there is None


def restore(ctx: Context, connection: Connection, entry: EntryRow) -> None:
    """Take an entry back; a list that came with it goes, where no device was put in since."""
    assert entry.subject_id is not None
    list_id = entry.after["list"]
    came, went = entry.after.get("put_in", []), entry.after.get("taken_out", [])
    store_cohorts.take_out(connection, list_id, came)
    store_cohorts.put_in(connection, list_id, went)
    lists.settle_list(ctx, connection, list_id, [*came, *went])
    former = SHEETS.find(connection, entry.subject_id, lock=True)
    if not entry.after["made"] or store_cohorts.listed(connection, list_id):
        return
    made = or_not_found(store_cohorts.one(connection, list_id), "cohort", list_id)
    name = lower(made.name)
    others = tuple(one for one in former.document.given if lower(one.cohort or "") != name)
    if len(others) == len(former.document.given):
        return
    _give(ctx, connection, former, former.document.model_copy(update={"given": others}))
    if not lists.is_used(ctx, connection, list_id):
        COHORTS.shelf.remove(connection, list_id)
        mark_anew(connection)
