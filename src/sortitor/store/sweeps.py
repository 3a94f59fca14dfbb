"""Sweeps: whom a rule watches, runs, and holds."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from sqlalchemy import Connection, Select, func, select, update

from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Ownership, Stage
from sortitor.store import devices as store_devices
from sortitor.store.filters import idle_case
from sortitor.store.rows import number, read_all, read_one
from sortitor.store.tables import devices, holds, people, sweeps


@dataclass(frozen=True, slots=True)
class DueRow:
    """A device past a rule's window."""

    id: int
    name: str | None
    site: str | None
    platform: str | None
    stage: Stage
    idle: int
    ownership: Ownership
    person_name: str | None
    serial: str | None


@dataclass(frozen=True, slots=True)
class RunRow:
    """One run of a rule; `state` is applied, reverted or braked."""

    id: int
    rule_id: int | None
    rule_name: str
    at: datetime
    by: str
    state: str
    retired: int
    watched: int
    entry_id: int | None


@dataclass(frozen=True, slots=True)
class HoldRow:
    """A reason not to sweep a device, up to and including a day."""

    id: int
    device_id: int
    reason: str
    until_on: date
    created_by: str
    created_at: datetime
    ended_at: datetime | None


def _on_hold(today: date) -> Select[tuple[int]]:
    return select(holds.c.device_id).where(holds.c.ended_at.is_(None), holds.c.until_on >= today)


def idle_counts(
    connection: Connection, watched: Selection, now: datetime
) -> list[tuple[int, int, int]]:
    """`(idle days, devices, of them on hold)` over everything a rule watches."""
    idle = idle_case(now).label("idle")
    on_hold = func.count().filter(devices.c.id.in_(_on_hold(now.date()))).label("on_hold")
    query = (
        select(idle, func.count(), on_hold)
        .where(store_devices.matching(watched, now))
        .group_by(idle)
        .order_by(idle)
    )
    return [(row[0], row[1], row[2]) for row in connection.execute(query)]


def due(connection: Connection, watched: Selection, window: int, now: datetime) -> list[DueRow]:
    """Devices past a window of so many days that nobody holds, longest idle first."""
    idle = idle_case(now).label("idle")
    query = (
        select(
            devices.c.id,
            devices.c.name,
            devices.c.site,
            devices.c.platform,
            devices.c.stage,
            devices.c.ownership,
            idle,
            people.c.name.label("person_name"),
            store_devices.an_identifier("serial"),
        )
        .outerjoin(people, people.c.id == devices.c.person_id)
        .where(
            store_devices.matching(watched, now),
            idle >= window,
            devices.c.id.not_in(_on_hold(now.date())),
        )
    )
    return read_all(connection, query.order_by(idle.desc(), devices.c.id), DueRow)


def add_run(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new run's id."""
    return number(connection, sweeps.insert().values(**values).returning(sweeps.c.id))


def change_run(connection: Connection, run_id: int, values: Mapping[str, Any]) -> None:
    """Set a run's columns."""
    connection.execute(update(sweeps).where(sweeps.c.id == run_id).values(**values))


def run(connection: Connection, run_id: int) -> RunRow | None:
    """One run."""
    return read_one(connection, select(sweeps).where(sweeps.c.id == run_id), RunRow)


def runs(connection: Connection, before: int | None, limit: int) -> list[RunRow]:
    """Runs, newest first."""
    query = select(sweeps).order_by(sweeps.c.id.desc()).limit(limit)
    if before is not None:
        query = query.where(sweeps.c.id < before)
    return read_all(connection, query, RunRow)


def add_hold(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new hold's id."""
    return number(connection, holds.insert().values(**values).returning(holds.c.id))


def end_hold(connection: Connection, hold_id: int, at: datetime) -> HoldRow | None:
    """The hold that was ended, or None if there is no such living hold."""
    living = (holds.c.id == hold_id, holds.c.ended_at.is_(None))
    ended = update(holds).where(*living).values(ended_at=at).returning(holds)
    return read_one(connection, ended, HoldRow)


def holds_on(connection: Connection, device_id: int) -> list[HoldRow]:
    """The device's holds that nobody has ended, past ones too."""
    of_device = (holds.c.device_id == device_id, holds.c.ended_at.is_(None))
    return read_all(connection, select(holds).where(*of_device).order_by(holds.c.until_on), HoldRow)


def ran_on(connection: Connection, rule_id: int, day: date) -> bool:
    """Whether the schedule has dealt with the rule on this day (UTC)."""
    query = select(sweeps.c.id).where(
        sweeps.c.rule_id == rule_id,
        sweeps.c.by == "schedule",
        func.date(func.timezone("UTC", sweeps.c.at)) == day,
    )
    return connection.execute(query.limit(1)).one_or_none() is not None
