"""Devices: reading them, declaring whose they are, giving them to a person, and naming them."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import polars as pl

from sortitor.core.errors import BadInput, Busy, Conflict, OutOfTime
from sortitor.core.filters import ATTRIBUTES
from sortitor.core.gate import Holding, Reason
from sortitor.core.journal import device_changes
from sortitor.core.licences.pools import Pool
from sortitor.core.lifecycle import COUNTED, WAKEABLE, check_transition
from sortitor.core.naming.templates import check_name
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Basis, Ownership, Stage
from sortitor.operations import erasing, gate, kept_numbers, licences, quotas
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.kept_numbers import Counting
from sortitor.operations.people import name_people
from sortitor.operations.selections import resolve_selection
from sortitor.operations.sweeps.standing import Standing, standing
from sortitor.store import devices as store
from sortitor.store import holds as store_holds
from sortitor.store import journal, people
from sortitor.store.devices import DeviceRow as DeviceRow
from sortitor.store.devices import IdentifierRow, InCohortRow
from sortitor.store.devices import LineRow as LineRow
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection
from sortitor.store.holds import HoldRow
from sortitor.store.people import PersonRow

_EXAMPLES = 50


@dataclass(frozen=True, slots=True)
class DeviceDetail:
    """A device with all that is known of it."""

    device: DeviceRow
    identifiers: list[IdentifierRow]
    holds: list[HoldRow]
    cohorts: list[InCohortRow]
    pools: list[Kept[Pool]]
    sweep: Standing | None
    timeline: list[dict[str, Any]]


def page(
    ctx: Context,
    selection: Selection,
    sort: str,
    descending: bool,
    after: Sequence[Any] | None,
    limit: int,
) -> list[LineRow]:
    """Devices of a selection by key."""
    with ctx.reading(one_moment=True) as connection:
        return store.page(
            connection,
            selection=resolve_selection(connection, selection),
            now=ctx.now,
            sort=sort,
            descending=descending,
            after=after,
            limit=limit,
        )


def count(ctx: Context, selection: Selection) -> int:
    """How many devices a selection holds."""
    with ctx.reading() as connection:
        return store.count(connection, resolve_selection(connection, selection), ctx.now)


def columns_of(
    ctx: Context, ids: Sequence[int], names: Sequence[str]
) -> dict[int, dict[str, str | None]]:
    """Attributes of a page's devices as text: device → attribute → value; nothing for no names."""
    if not names or not ids:
        return {}
    wanted = _known(["id", *names])
    return {
        int(row["id"]): {name: row[name] for name in names}
        for part in _read(ctx, Selection(ids=tuple(ids)), wanted)
        if isinstance(part, pl.DataFrame)
        for row in part.iter_rows(named=True)
    }


#: How long an export waits for others, and how long it may take: nobody holds its place for ever.
_PATIENCE_SECONDS, _MOST_SECONDS = 10, 900


@dataclass(frozen=True, slots=True)
class DeviceTable:
    """How many devices there are, and they as text columns, in parts of one moment; whoever begins
    reads to the end, or closes it.
    """

    devices: int
    parts: Iterator[pl.DataFrame]


def table(ctx: Context, selection: Selection, names: Sequence[str]) -> DeviceTable:
    """A selection with the attributes asked for as text columns; identifiers of personal devices
    are for those who work with them.
    """
    told = _told(ctx, selection, _known(names))
    number = next(told)
    assert isinstance(number, int)
    return DeviceTable(number, (part for part in told if isinstance(part, pl.DataFrame)))


def _known(names: Sequence[str]) -> list[str]:
    """The columns asked for, each once. Raises BadInput for one that is no attribute."""
    for name in names:
        if name not in ATTRIBUTES:
            known = f"Choose from {', '.join(ATTRIBUTES)}."
            raise BadInput("unknown_attribute", f"{name!r} is not an attribute.", known)
    return list(dict.fromkeys(names))


#: A table that somebody reads slowly keeps its connection to the database: so many at once.
_AT_ONCE = threading.BoundedSemaphore(4)


def _told(ctx: Context, selection: Selection, names: Sequence[str]) -> Iterator[int | pl.DataFrame]:
    if not _AT_ONCE.acquire(timeout=_PATIENCE_SECONDS):
        raise Busy("Other exports are on their way")
    until = time.monotonic() + _MOST_SECONDS
    try:
        for part in _read(ctx.aside(), selection, names):
            if time.monotonic() > until:
                raise OutOfTime
            yield part
    finally:
        _AT_ONCE.release()


def _read(ctx: Context, selection: Selection, names: Sequence[str]) -> Iterator[int | pl.DataFrame]:
    with ctx.reading(one_moment=True) as connection:
        chosen = resolve_selection(connection, selection)
        ids = store.numbers_of(connection, chosen, ctx.now)
        yield len(ids)
        yield from store.table(connection, ids, ctx.now, names, masked=not ctx.veil.lifted)


def facets(ctx: Context) -> dict[str, dict[str, int]]:
    """Devices by stage, platform, ownership and site."""
    found: dict[str, dict[str, int]] = kept_numbers.known(ctx, [FACETS])["facets"]
    return found


def _count_facets(ctx: Context) -> dict[str, dict[str, int]]:
    with ctx.reading() as connection:
        return store.facet_counts(connection)


FACETS = Counting("facets", _count_facets)


def one(ctx: Context, device_id: int) -> DeviceDetail:
    """One device with identifiers, holds, cohorts and timeline."""
    with ctx.reading() as connection:
        device = store.one(connection, device_id)
        if device is None:
            erasing.refuse_erased(connection, device_id)
        device = or_not_found(device, "device", device_id)
        return DeviceDetail(
            device=device,
            identifiers=store.identifiers_of(connection, device_id),
            holds=store_holds.on_device(connection, device_id, ctx.today),
            cohorts=store.cohorts_of(connection, device_id, ctx.now),
            pools=licences.taken_by(ctx, connection, device_id),
            sweep=standing(ctx, connection, device),
            timeline=_timeline(ctx, connection, device),
        )


def _timeline(ctx: Context, connection: Connection, device: DeviceRow) -> list[dict[str, Any]]:
    """What happened to a device, with people by name instead of by number."""
    lines = []
    for row in journal.timeline(connection, device.id):
        sides = {
            side: ctx.veil.effect(getattr(row, side), device.ownership)
            for side in ("before", "after")
        }
        lines.append({**asdict(row), **sides})
    name_people(connection, [line[side] for line in lines for side in ("before", "after")])
    for line in lines:
        line["changes"] = device_changes(line["before"], line["after"])
    return lines


def preview_declare(ctx: Context, selection: Selection, ownership: Ownership) -> Preview:
    """Whose the selected devices would become."""
    with ctx.reading() as connection:
        return _plan_declare(ctx, connection, selection, ownership)[0]


def _plan_declare(
    ctx: Context, connection: Connection, selection: Selection, ownership: Ownership
) -> tuple[Preview, pl.DataFrame]:
    facts = store.selected_facts(connection, resolve_selection(connection, selection), ctx.now)
    # A declaration by a person is the strongest basis there is: it always wins.
    differs = pl.col("ownership") != ownership.value
    stated = facts.filter(differs | (pl.col("ownership_basis") != Basis.MANUAL.value))
    changed = stated.filter(differs)
    shown = Preview(
        title=f"Declare as {ownership}",
        apply_label=f"Declare {plural(stated.height, 'device')} {ownership}",
        counts=_declare_counts(ownership, facts.height, stated.height, changed),
        examples=_declare_examples(ownership, stated),
        examples_total=stated.height,
        warnings=_declare_warnings(ownership, changed),
    )
    return sealed(shown, stated.rows()), stated


def _declare_counts(
    ownership: Ownership, looked_at: int, stated: int, changed: pl.DataFrame
) -> tuple[Count, ...]:
    counts = [
        Count("changed", f"become {ownership}", changed.height, "good"),
        Count("confirmed", f"are {ownership} already, now by hand", stated - changed.height),
        Count("same", "unchanged", looked_at - stated),
    ]
    for was, number in changed["ownership"].value_counts(sort=True).iter_rows():
        counts.append(Count(f"from_{was}", f"of them {was} before", number))
    return tuple(counts)


def _declare_warnings(ownership: Ownership, changed: pl.DataFrame) -> tuple[str, ...]:
    if ownership is not Ownership.CORPORATE:
        return ()
    turned = changed.filter(pl.col("ownership") == Ownership.PERSONAL.value).height
    if not turned:
        return ()
    return (
        f"{plural(turned, 'personal device')} would become corporate, which changes what may be"
        " seen of them.",
    )


def _declare_examples(ownership: Ownership, stated: pl.DataFrame) -> tuple[Example, ...]:
    lines = stated.select("device_id", "name", "ownership", "ownership_basis").head(_EXAMPLES)
    return tuple(
        Example(
            subject=name or f"device no. {device_id}",
            field="ownership",
            before=f"{was} ({basis})",
            after=f"{ownership} (manual)",
            device_id=device_id,
        )
        for device_id, name, was, basis in lines.iter_rows()
    )


def declare(
    ctx: Context, selection: Selection, ownership: Ownership, digest: str, reason: str | None
) -> Preview:
    """Declare the selected devices as previewed."""
    with ctx.changing() as connection:
        shown, stated = _plan_declare(ctx, connection, selection, ownership)
        require_digest(shown, digest)
        entry = ctx.record(
            connection,
            "device.declare",
            "devices",
            f"{plural(stated.height, 'device')} declared {ownership}",
            reason=reason,
            after={"ownership": ownership, "devices": stated.height},
        )
        patch = {"ownership": ownership, "ownership_basis": Basis.MANUAL}
        if stated.height:
            store.patch_frame(connection, entry, stated.select("device_id"), patch)
        return shown


@dataclass(frozen=True, slots=True)
class _Assignment:
    """What giving a device to a person would change."""

    preview: Preview
    device: DeviceRow
    person: PersonRow | None
    #: Why it cannot be done: the quota holds whichever way a person gets a device.
    against: tuple[Reason, ...] = ()


def preview_assign(ctx: Context, device_id: int, person_name: str | None) -> Preview:
    """What giving the device to a person (or, with None, bringing it into use without one) would
    change.
    """
    with ctx.reading() as connection:
        person = _person(connection, person_name)
        holding = people.holding(connection, person.id) if person else Holding()
        device = or_not_found(store.one(connection, device_id), "device", device_id)
        return _plan_assign(ctx, connection, device, person, holding).preview


def assign(
    ctx: Context, device_id: int, person_name: str | None, digest: str, reason: str | None
) -> Preview:
    """Give the device to a person; a parked device becomes active by it."""
    with ctx.changing() as connection:
        person = _person(connection, person_name)
        # The person's row first, then the device's: the order of every arrival.
        holding = people.lock(connection, person.id) if person else Holding()
        device = or_not_found(store.one(connection, device_id, lock=True), "device", device_id)
        plan = _plan_assign(ctx, connection, device, person, holding)
        require_digest(plan.preview, digest)
        for reason_against in plan.against:
            raise Conflict(reason_against.code, reason_against.explanation, reason_against.remedy)
        whom = f"given to {person.name}" if person else "brought into use without a person"
        entry = ctx.record(
            connection,
            "device.assign",
            "device",
            f"{_called(device)} {whom}",
            subject_id=device_id,
            reason=reason,
        )
        patch: dict[str, Any] = {
            "person_id": person.id if person else None,
            "by_hand": ["person_id"],
        }
        if device.stage in WAKEABLE:
            patch |= {"stage": Stage.ACTIVE, "stage_at": ctx.now.isoformat()}
        store.patch_one(connection, entry, device_id, patch)
        return plan.preview


def _person(connection: Connection, name: str | None) -> PersonRow | None:
    if not name:
        return None
    return or_not_found(people.by_name(connection, name), "person", name)


def _plan_assign(
    ctx: Context,
    connection: Connection,
    device: DeviceRow,
    person: PersonRow | None,
    holding: Holding,
) -> _Assignment:
    if device.stage is Stage.RETIRED and device.enrolled_at is None:
        raise Conflict(
            "never_enrolled",
            f"{_called(device)} is retired and never arrived.",
            "Let it knock at the gate.",
        )
    if device.stage in WAKEABLE:
        check_transition(device.label, device.stage, Stage.ACTIVE)
    examples = _assign_examples(device, person)
    if person is None:
        shown = Preview(
            title=f"Bring {device.label} into use without a person",
            apply_label="Bring it into use",
            counts=(),
            examples=examples,
            examples_total=len(examples),
        )
        return _Assignment(sealed(shown), device, None)
    against: tuple[Reason, ...] = ()
    if device.stage in (*COUNTED, *WAKEABLE):
        against = quotas.reasons_against(
            gate.in_force(connection, ctx.today),
            device,
            person,
            holding,
            gate.declared_facts(ctx, connection, device),
        )
    others = quotas.holding_beside(device, person.id, holding).total
    tone = "warn" if against else "plain"
    shown = Preview(
        title=f"Give {device.label} to {person.name}",
        apply_label=f"Give it to {person.name}",
        counts=(Count("holding", f"devices {person.name} has now", others, tone),),
        examples=examples,
        examples_total=len(examples),
        warnings=tuple(f"Cannot be done: {one.explanation} {one.remedy}" for one in against),
    )
    return _Assignment(sealed(shown), device, person, against)


def _assign_examples(device: DeviceRow, person: PersonRow | None) -> tuple[Example, ...]:
    lines = [
        Example(
            subject=device.label,
            field="person",
            before=device.person_name,
            after=person.name if person else None,
            device_id=device.id,
        )
    ]
    if device.stage in WAKEABLE:
        lines.append(
            Example(
                subject=device.label,
                field="stage",
                before=device.stage,
                after=Stage.ACTIVE,
                device_id=device.id,
            )
        )
    return tuple(lines)


def _called(device: DeviceRow) -> str:
    """The device at the beginning of a sentence."""
    return device.name or device.label[:1].upper() + device.label[1:]


def set_name(ctx: Context, device_id: int, name: str, reason: str | None) -> None:
    """Name a device by hand; templates leave it alone from then on."""
    with ctx.changing() as connection:
        device = or_not_found(store.one(connection, device_id, lock=True), "device", device_id)
        check_name(name, device.platform)
        if device.stage == Stage.RETIRED:
            raise Conflict(
                "wrong_stage",
                "A retired device has no name of its own.",
                "Take the device back first.",
            )
        entry = ctx.record(
            connection,
            "device.name",
            "device",
            f"{_called(device)} named {name}",
            subject_id=device_id,
            reason=reason,
        )
        store.patch_one(connection, entry, device_id, {"name": name, "name_basis": Basis.MANUAL})
