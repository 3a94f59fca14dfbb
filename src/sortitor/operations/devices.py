"""Devices: reading them, declaring whose they are, giving them to a person, naming and holding
them.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

import polars as pl
from sqlalchemy import Connection

from sortitor.core import naming as core_naming
from sortitor.core.errors import BadInput, Conflict, NotFound
from sortitor.core.filters import ATTRIBUTES
from sortitor.core.gate import quota_for
from sortitor.core.lifecycle import check_transition
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Basis, Ownership, Stage
from sortitor.operations import gate
from sortitor.operations.context import Context, must, must_match
from sortitor.operations.selections import meant, sees_identifiers
from sortitor.store import devices as store
from sortitor.store import journal, people, sweeps
from sortitor.store.engine import Line


@dataclass(frozen=True, slots=True)
class Whole:
    """A device with all that is known of it."""

    device: Line
    identifiers: Sequence[Line]
    holds: Sequence[Line]
    cohorts: Sequence[Line]
    timeline: Sequence[dict[str, Any]]


def page(
    ctx: Context,
    selection: Selection,
    sort: str,
    descending: bool,
    after: Sequence[Any] | None,
    limit: int,
) -> Sequence[Line]:
    """Devices of a selection by key."""
    with ctx.reading(one_moment=True) as connection:
        return store.page(
            connection, meant(connection, selection), ctx.now, sort, descending, after, limit
        )


def count(ctx: Context, selection: Selection) -> int:
    """How many devices a selection holds."""
    with ctx.reading() as connection:
        return store.count(connection, meant(connection, selection), ctx.now)


def table(ctx: Context, selection: Selection, names: Sequence[str]) -> pl.DataFrame:
    """A selection with the attributes asked for as text columns; identifiers of personal devices
    are for those who work with them.
    """
    if unknown := [name for name in names if name not in ATTRIBUTES]:
        raise BadInput(
            "unknown_attribute",
            f"{unknown[0]!r} is not an attribute.",
            f"Choose from {', '.join(ATTRIBUTES)}.",
        )
    with ctx.reading() as connection:
        return store.table(
            connection, meant(connection, selection), ctx.now, names, not sees_identifiers(ctx)
        )


def facets(ctx: Context) -> dict[str, dict[str, int]]:
    """Devices by stage, platform, ownership and site."""
    with ctx.reading() as connection:
        return store.facet_counts(connection, ctx.now)


def one(ctx: Context, device_id: int) -> Whole:
    """One device with identifiers, holds, cohorts and timeline."""
    with ctx.reading() as connection:
        device = must(store.one(connection, device_id), "device", device_id)
        timeline = _with_names(connection, journal.timeline(connection, device_id))
        return Whole(
            device,
            store.identifiers_of(connection, device_id),
            store.active_holds(connection, device_id),
            store.cohorts_of(connection, device_id, ctx.now),
            timeline,
        )


def _with_names(connection: Connection, timeline: Sequence[Line]) -> list[dict[str, Any]]:
    """The timeline with people by name instead of by number."""
    lines = [dict(line._mapping) for line in timeline]
    sides = [
        side
        for line in lines
        for side in (line["before"], line["after"])
        if side and "person_id" in side
    ]
    names = people.names(connection, {side["person_id"] for side in sides if side["person_id"]})
    for side in sides:
        side["person"] = names.get(side.pop("person_id"))
    return lines


def preview_declare(ctx: Context, selection: Selection, ownership: Ownership) -> Preview:
    """Whose the selected devices would become."""
    with ctx.reading() as connection:
        return _plan_declare(ctx, connection, selection, ownership)[0]


def _plan_declare(
    ctx: Context, connection: Connection, selection: Selection, ownership: Ownership
) -> tuple[Preview, pl.DataFrame]:
    facts = store.selected_facts(connection, meant(connection, selection), ctx.now)
    # A declaration by a person is the strongest basis there is: it always wins.
    moved = facts.filter(
        (pl.col("ownership") != ownership.value) | (pl.col("ownership_basis") != Basis.MANUAL.value)
    )
    changed = moved.filter(pl.col("ownership") != ownership.value)
    turned = (
        changed.filter(pl.col("ownership") == "personal").height
        if ownership is Ownership.CORPORATE
        else 0
    )
    warnings = (
        (
            (
                f"{plural(turned, 'personal device')} would become corporate, which changes what"
                " may be seen of them."
            ),
        )
        if turned
        else ()
    )
    counts = [
        Count("changed", f"become {ownership}", changed.height, "good"),
        Count("confirmed", f"are {ownership} already, now by hand", moved.height - changed.height),
        Count("same", "unchanged", facts.height - moved.height),
    ]
    counts += [
        Count(f"from_{was}", f"of them {was} before", number)
        for was, number in changed["ownership"].value_counts(sort=True).iter_rows()
    ]
    examples = tuple(
        Example(
            name or f"device {device_id}",
            "ownership",
            f"{was} ({basis})",
            f"{ownership} (manual)",
            device_id=device_id,
        )
        for device_id, name, was, basis in (
            moved.select("device_id", "name", "ownership", "ownership_basis").head(50).iter_rows()
        )
    )
    label = f"Declare {plural(moved.height, 'device')} {ownership}"
    return (
        sealed(
            Preview(
                f"Declare as {ownership}", label, tuple(counts), examples, moved.height, warnings
            ),
            moved.rows(),
        ),
        moved,
    )


def declare(
    ctx: Context, selection: Selection, ownership: Ownership, digest: str, reason: str | None
) -> Preview:
    """Declare the selected devices as previewed."""
    with ctx.changing() as connection:
        shown, moved = _plan_declare(ctx, connection, selection, ownership)
        must_match(shown, digest)
        entry = ctx.record(
            connection,
            "device.declare",
            "devices",
            f"{plural(moved.height, 'device')} declared {ownership}",
            reason=reason,
            after={"ownership": ownership, "devices": moved.height},
        )
        patch = json.dumps({"ownership": ownership, "ownership_basis": Basis.MANUAL})
        if moved.height:
            store.apply_patches(connection, entry, moved.select("device_id", patch=pl.lit(patch)))
        return shown


def _holder(ctx: Context, connection: Connection, name: str) -> tuple[Line, int, int]:
    person = must(people.by_name(connection, name), "person", name)
    holding = people.lock(connection, person.id)
    quota, _ = quota_for(frozenset(person.groups), gate.policies(connection)[1])
    return person, holding, quota


def preview_assign(ctx: Context, device_id: int, person_name: str | None) -> Preview:
    """What giving the device to a person (or, with None, bringing it into use without one) would
    change.
    """
    with ctx.reading() as connection:
        return _plan_assign(ctx, connection, device_id, person_name)[0]


def _plan_assign(
    ctx: Context, connection: Connection, device_id: int, person_name: str | None
) -> tuple[Preview, Line, Line | None]:
    person, holding, quota = _holder(ctx, connection, person_name) if person_name else (None, 0, 0)
    device = must(store.one(connection, device_id, lock=True), "device", device_id)
    if device.stage == Stage.RETIRED and device.enrolled_at is None:
        raise Conflict(
            "never_enrolled",
            f"Device {device_id} is retired and never arrived.",
            "Let it knock at the gate.",
        )
    label = device.name or f"device {device_id}"
    wakes = device.stage in (Stage.PARKED, Stage.RETIRED)
    if wakes:
        check_transition(label, Stage(device.stage), Stage.ACTIVE)
    lines = [
        Example(
            label,
            "person",
            device.person_name,
            person.name if person else None,
            device_id=device_id,
        )
    ]
    if wakes:
        lines.append(Example(label, "stage", device.stage, "active", device_id=device_id))
    if person is None:
        return (
            sealed(
                Preview(
                    f"Bring {label} into use without a person",
                    "Bring it into use",
                    (),
                    tuple(lines),
                    len(lines),
                )
            ),
            device,
            None,
        )
    others = holding - (device.person_id == person.id)
    warnings = (
        (f"{person.name} has {plural(others, 'device')} already; the quota is {quota}.",)
        if others >= quota
        else ()
    )
    counts = (
        Count("holding", f"devices {person.name} has now", others),
        Count("quota", "quota", quota, "warn" if warnings else "plain"),
    )
    shown = sealed(
        Preview(
            f"Give {label} to {person.name}",
            f"Give it to {person.name}",
            counts,
            tuple(lines),
            len(lines),
            warnings,
        )
    )
    return shown, device, person


def assign(
    ctx: Context, device_id: int, person_name: str | None, digest: str, reason: str | None
) -> Preview:
    """Give the device to a person; a parked device becomes active by it."""
    with ctx.changing() as connection:
        shown, device, person = _plan_assign(ctx, connection, device_id, person_name)
        must_match(shown, digest)
        whom = f"given to {person.name}" if person else "brought into use without a person"
        patch: dict[str, Any] = {
            "person_id": person.id if person else None,
            "manual": sorted({*device.manual, "person_id"}),
        }
        if device.stage in (Stage.PARKED, Stage.RETIRED):
            patch |= {"stage": Stage.ACTIVE, "stage_at": ctx.now.isoformat()}
        entry = ctx.record(
            connection,
            "device.assign",
            "device",
            f"{device.name or f'Device {device_id}'} {whom}",
            subject_id=device_id,
            reason=reason,
        )
        store.patch_one(connection, entry, device_id, patch)
        return shown


def set_name(ctx: Context, device_id: int, name: str, reason: str | None) -> None:
    """Name a device by hand; templates leave it alone from then on."""
    with ctx.changing() as connection:
        device = must(store.one(connection, device_id, lock=True), "device", device_id)
        core_naming.check_name(name, device.platform)
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
            f"{device.name or f'Device {device_id}'} named {name}",
            subject_id=device_id,
            reason=reason,
        )
        store.patch_one(connection, entry, device_id, {"name": name, "name_basis": Basis.MANUAL})


def set_flag(ctx: Context, device_id: int, flag: str | None, reason: str | None) -> None:
    """Report a device missing or stolen, or (None) clear the report."""
    with ctx.changing() as connection:
        device = must(store.one(connection, device_id, lock=True), "device", device_id)
        what = f"reported {flag}" if flag else "no longer reported"
        entry = ctx.record(
            connection,
            "device.report",
            "device",
            f"{device.name or f'Device {device_id}'} {what}",
            subject_id=device_id,
            reason=reason,
        )
        store.patch_one(connection, entry, device_id, {"flag": flag})


def hold(ctx: Context, device_id: int, reason: str, until_on: date) -> int:
    """Keep a device out of every sweep up to and including a day."""
    if until_on < ctx.now.date():
        raise BadInput(
            "hold_past", f"The hold would have ended on {until_on}.", "Choose today or a later day."
        )
    with ctx.changing() as connection:
        device = must(store.one(connection, device_id, lock=True), "device", device_id)
        if device.stage == Stage.RETIRED:
            raise Conflict("wrong_stage", "A retired device cannot be held.", "Take it back first.")
        hold_id = sweeps.add_hold(
            connection,
            {
                "device_id": device_id,
                "reason": reason,
                "until_on": until_on,
                "created_by": ctx.actor.name,
                "created_at": ctx.now,
            },
        )
        _note(
            ctx,
            connection,
            "hold.add",
            device,
            f"held until {until_on}",
            reason,
            {"hold": hold_id, "until_on": str(until_on), "reason": reason},
        )
        return hold_id


def end_hold(ctx: Context, hold_id: int) -> None:
    """End a hold now."""
    with ctx.changing() as connection:
        ended = sweeps.end_hold(connection, hold_id, ctx.now)
        if ended is None:
            raise NotFound("hold", hold_id)
        device = must(store.one(connection, ended.device_id), "device", ended.device_id)
        _note(ctx, connection, "hold.end", device, "no longer held", None, {"hold": hold_id})


def _note(
    ctx: Context,
    connection: Connection,
    operation: str,
    device: Line,
    what: str,
    reason: str | None,
    after: dict[str, Any],
) -> None:
    """A journal entry that shows in the device's timeline without changing a field of it."""
    entry = ctx.record(
        connection,
        operation,
        "device",
        f"{device.name or f'Device {device.id}'} {what}",
        subject_id=device.id,
        reason=reason,
        after=after,
    )
    journal.touch(connection, entry, device.id, after)
