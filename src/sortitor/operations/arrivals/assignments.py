"""Giving the devices that wait to their people by a list that was taken out and filled in."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import polars as pl

from sortitor.core.assignments import Judged, Row, RowVerdict, judged, rows_of
from sortitor.core.gate import Gate, Holding
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.vocabulary import Stage
from sortitor.operations import gate, quotas
from sortitor.operations.context import Context, require_digest
from sortitor.operations.files import read_list
from sortitor.store import arrivals as store
from sortitor.store import devices as store_devices
from sortitor.store import gate as store_gate
from sortitor.store import people
from sortitor.store.devices import QuotaRow
from sortitor.store.engine import Connection
from sortitor.store.people import CalledRow

_EXAMPLES = 200
_COLUMNS = ("Device", "Name", "Serial", "Model", "Site", "Says", "Person")


def waiting_list(ctx: Context) -> pl.DataFrame:
    """The devices that wait for a person, with a column to fill in."""
    with ctx.reading() as connection:
        lines = [
            (
                str(row.device_id),
                row.device_name,
                ctx.veil.stated(row.stated, row.ownership).get("serial"),
                row.model,
                row.site,
                row.stated.get("person"),
                None,
            )
            for row in store.waiting_devices(connection)
        ]
    return pl.DataFrame(lines, schema=dict.fromkeys(_COLUMNS, pl.String), orient="row")


@dataclass(frozen=True, slots=True)
class _Plan:
    """What a list would do: its preview and the rows that give a device."""

    preview: Preview
    given: list[Judged]


def preview_list(ctx: Context, content: bytes) -> Preview:
    """What a list that was filled in would give to whom, row by row."""
    rows = _read(ctx, content)
    with ctx.reading() as connection:
        return _plan(ctx, connection, rows, lock=False).preview


def apply_list(ctx: Context, content: bytes, digest: str, reason: str | None) -> Preview:
    """Give the devices as previewed, all in one change; rows with a fault are left out."""
    rows = _read(ctx, content)
    with ctx.changing() as connection:
        plan = _plan(ctx, connection, rows, lock=True)
        require_digest(plan.preview, digest)
        if plan.given:
            entry = ctx.record(
                connection,
                "device.assign_list",
                "device",
                f"{plural(len(plan.given), 'device')} given by a list",
                reason=reason,
            )
            patch = {
                "stage": Stage.ACTIVE,
                "stage_at": ctx.now.isoformat(),
                "by_hand": ["person_id"],
            }
            store_devices.patch_frame(connection, entry, _people_of(plan), patch)
        return plan.preview


def _read(ctx: Context, content: bytes) -> list[Row]:
    manifest = read_list(content, ctx.limits.files, ctx.check_time)
    numbers = manifest.numbers.to_list()
    return rows_of(manifest.headers, zip(numbers, manifest.cells.rows(), strict=True))


def _people_of(plan: _Plan) -> pl.DataFrame:
    given = [(one.device_id, one.person_id) for one in plan.given]
    schema = {"device_id": pl.Int64, "person_id": pl.Int64}
    return pl.DataFrame(given, schema=schema, orient="row")


def _plan(ctx: Context, connection: Connection, rows: Sequence[Row], lock: bool) -> _Plan:
    # The people's rows first, then the devices': the order of every arrival.
    named = people.called(connection, [row.person for row in rows if row.person], lock)
    by_name = _by_name(named)
    numbers = [row.number for row in rows if row.number is not None]
    waits = store_devices.waiting(connection, numbers, lock)
    found = _within_quotas(ctx, connection, judged(rows, waits, by_name))
    given = [one for one in found if one.verdict is RowVerdict.GIVE]
    faults = [one for one in found if one.verdict is RowVerdict.FAULT]
    blank = len(found) - len(given) - len(faults)
    tone = "bad" if faults else "plain"
    people_by_id = {one.id: one.name for one in named}
    examples = [*faults, *given][:_EXAMPLES]
    devices = store_devices.quota_rows(connection, _devices_of(examples))
    shown = Preview(
        title="Give waiting devices to their people",
        apply_label=f"Give {plural(len(given), 'device')}",
        counts=(
            Count("given", "devices given", len(given), "good" if given else "plain"),
            Count("blank", "wait on: nobody is named", blank),
            Count("faults", "rows with a fault, left out", len(faults), tone),
        ),
        examples=tuple(_example(one, devices, people_by_id) for one in examples),
        examples_total=len(faults) + len(given),
        nothing_to_do=not given,
    )
    outcome = [[one.device_id, one.person_id, one.why] for one in [*given, *faults]]
    return _Plan(sealed(shown, outcome), given)


def _by_name(named: Sequence[CalledRow]) -> dict[str, tuple[int, bool]]:
    found: dict[str, tuple[int, bool]] = {}
    for one in named:
        for name in (one.user_name, one.mail):
            # Who is here goes before who has left.
            if name and (name.lower() not in found or one.left_at is None):
                found[name.lower()] = (one.id, one.left_at is not None)
    return found


def _within_quotas(ctx: Context, connection: Connection, found: Sequence[Judged]) -> list[Judged]:
    """The rows again; whoever would pass the quota by the rows before gets no more."""
    rules: Gate = gate.in_force(connection, ctx.today)
    given = Counter(one.person_id for one in found if one.verdict is RowVerdict.GIVE)
    holdings: dict[int, Holding] = people.holdings(connection, [i for i in given if i])
    # Whoever stays below every quota needs no closer look.
    lowest = rules.lowest_quota
    near = [
        number
        for number, count in given.items()
        if number and holdings.get(number, Holding()).total + count > lowest
    ]
    if not near:
        return list(found)
    named = {one.id: one for one in people.several(connection, near)}
    devices = store_devices.quota_rows(
        connection, _devices_of(one for one in found if one.person_id in named)
    )
    known: Mapping[int, Mapping[str, Any]] = {}
    if rules.asks_for_devices:
        known = store_gate.known_of_several(connection, list(devices), ctx.now)
    judged_anew = []
    for one in found:
        if one.verdict is RowVerdict.GIVE and one.person_id in named:
            assert one.device_id is not None
            device, person = devices[one.device_id], named[one.person_id]
            holding = holdings.get(person.id, Holding())
            against = quotas.reasons_against(rules, device, person, holding, known.get(device.id))
            if against:
                why = f"{against[0].explanation} {against[0].remedy}"
                one = one._replace(verdict=RowVerdict.FAULT, why=why)
            elif device.person_id != person.id:
                holdings[person.id] = holding.plus(device.platform, device.ownership)
        judged_anew.append(one)
    return judged_anew


def _devices_of(found: Iterable[Judged]) -> list[int]:
    return [one.device_id for one in found if one.device_id is not None]


def _example(one: Judged, devices: Mapping[int, QuotaRow], names: Mapping[int, str]) -> Example:
    device = devices.get(one.device_id or 0)
    fault = one.verdict is RowVerdict.FAULT
    return Example(
        subject=device.label if device else f"device no. {one.row.device}",
        field=f"row {one.row.row}",
        before=device.person_name if device else None,
        after=None if fault else names.get(one.person_id or 0),
        note=one.why,
        device_id=one.device_id,
    )
