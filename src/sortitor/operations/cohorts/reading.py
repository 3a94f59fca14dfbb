"""Cohorts explained, compared and followed over the days."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta

from sortitor.core.filters import ATTRIBUTES, Clause, matches, parse
from sortitor.core.selection import Selection
from sortitor.operations.cohorts.documents import counted, find, write_counts_of
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.documents import Key
from sortitor.store import cohorts as store
from sortitor.store import devices as store_devices
from sortitor.store.cohorts import CohortRow
from sortitor.store.engine import Connection
from sortitor.store.filters import facts_of_one

_HISTORY_DAYS = 400


def explain(ctx: Context, key: Key, device_id: int) -> tuple[bool, list[Clause]]:
    """Whether a device is in a cohort, and every comparison of the filter with the device's
    value.
    """
    with ctx.reading() as connection:
        row = find(connection, key)
        device = or_not_found(store_devices.one(connection, device_id), "device", device_id)
        if row.filter is None:
            return _on_the_list(ctx, connection, row, device_id)
        known = facts_of_one(connection, device_id, ctx.now)
        inside, clauses = matches(parse(row.filter), known)
        if ctx.veil.hides(device.ownership):
            clauses = [_hidden(clause) for clause in clauses]
        return inside, clauses


def _on_the_list(
    ctx: Context, connection: Connection, row: CohortRow, device_id: int
) -> tuple[bool, list[Clause]]:
    one_device = Selection(ids=(device_id,), cohort_id=row.id)
    inside = store_devices.count(connection, one_device, ctx.now) == 1
    return inside, [Clause("on the list", "yes" if inside else "no", inside)]


def _hidden(clause: Clause) -> Clause:
    of_identifiers = ATTRIBUTES[clause.text.split()[0]].of == "identifiers"
    return replace(clause, actual="hidden") if of_identifiers else clause


def overlap(ctx: Context, one: Key, other: Key) -> tuple[int, int, int]:
    """Devices `(only in the one, in both, only in the other)`."""
    with ctx.reading() as connection:
        members = [_devices_of(ctx, find(connection, key)) for key in (one, other)]
        return store.overlap(connection, *members)


def _devices_of(ctx: Context, row: CohortRow) -> store.Members:
    if row.moving and row.filter is not None:
        return store_devices.chosen(Selection(filter=parse(row.filter)), ctx.now)
    return store.devices_of(row.id)


def history(ctx: Context, key: Key) -> list[tuple[date, int]]:
    """How many devices there were on the days of the past year, today's number last."""
    with ctx.reading() as connection:
        [now] = counted(connection, [find(connection, key)], ctx.now)
        today = ctx.now.date()
        known = store.history(connection, now.row.id, today - timedelta(days=_HISTORY_DAYS))
        return [*(line for line in known if line[0] != today), (today, now.devices)]


def write_counts(ctx: Context) -> None:
    """Keep today's number of every cohort; by schedule."""
    with ctx.changing() as connection:
        write_counts_of(ctx, connection, store.every(connection))
