"""Sweeps: whom a rule watches, runs, and holds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    Integer,
    Select,
    and_,
    case,
    func,
    literal,
    or_,
    select,
    update,
)
from sqlalchemy.dialects.postgresql import insert

from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Ownership, Stage
from sortitor.store import devices as store_devices
from sortitor.store.filters import idle_case
from sortitor.store.rows import number, read_all, read_one
from sortitor.store.tables import devices, fleet_days, holds, people, sweeps


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
    person_id: int | None
    person_name: str | None
    person_mail: str | None
    serial: str | None
    retire_on: date | None
    #: The place of a rule with a longer window that watches it too, and whose window it is not
    #: past; None: there is none.
    kept_by: int | None

    @property
    def label(self) -> str:
        """What it is called in a mail, into which no number of somebody's own device is put."""
        serial = self.serial if self.ownership is not Ownership.PERSONAL else None
        return self.name or serial or f"device {self.id}"


@dataclass(frozen=True, slots=True)
class RunRow:
    """One run of a rule; `state` is applied, reverted or braked, and `why` says why one stopped."""

    id: int
    rule_id: int | None
    rule_name: str
    at: datetime
    by: str
    state: str
    retired: int
    dormant: int
    watched: int
    entry_id: int | None
    why: str | None


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


def due(
    connection: Connection,
    watched: Selection,
    window: int,
    now: datetime,
    longer: Sequence[tuple[Selection, int]] = (),
) -> list[DueRow]:
    """Devices past a window of so many days that nobody holds, longest idle first; `longer` are
    what the rules with longer windows watch, with these.
    """
    idle = idle_case(now).label("idle")
    kept_by = _kept_by(longer, now)
    query = (
        select(
            devices.c.id,
            devices.c.name,
            devices.c.site,
            devices.c.platform,
            devices.c.stage,
            devices.c.ownership,
            idle,
            devices.c.person_id,
            people.c.name.label("person_name"),
            people.c.mail.label("person_mail"),
            store_devices.an_identifier("serial"),
            devices.c.retire_on,
            kept_by.label("kept_by"),
        )
        .outerjoin(people, people.c.id == devices.c.person_id)
        .where(
            store_devices.matching(watched, now),
            idle >= window,
            devices.c.id.not_in(_on_hold(now.date())),
        )
    )
    return read_all(connection, query.order_by(idle.desc(), devices.c.id), DueRow)


def _kept_by(longer: Sequence[tuple[Selection, int]], now: datetime) -> ColumnElement[Any]:
    """The place of the first rule with a longer window that watches a device, and whose window it
    is not past; null where there is none.
    """
    keeps = [
        (and_(idle_case(now) < days, store_devices.matching(watching, now)), place)
        for place, (watching, days) in enumerate(longer)
    ]
    return case(*keeps) if keeps else literal(None, Integer)


def count_due(
    connection: Connection,
    watched: Selection,
    window: int,
    now: datetime,
    today: date,
    longer: Sequence[tuple[Selection, int]] = (),
) -> int:
    """How many of those there are, without those that have notice until a later day."""
    query = select(func.count()).where(
        store_devices.matching(watched, now),
        idle_case(now) >= window,
        devices.c.id.not_in(_on_hold(now.date())),
        or_(devices.c.retire_on.is_(None), devices.c.retire_on <= today),
        _kept_by(longer, now).is_(None),
    )
    return connection.execute(query).scalar_one()


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


def last_at(connection: Connection, rule_id: int) -> datetime | None:
    """When the schedule dealt with the rule last."""
    of_rule = (sweeps.c.rule_id == rule_id, sweeps.c.by == "schedule")
    found: datetime | None = connection.execute(
        select(func.max(sweeps.c.at)).where(*of_rule)
    ).scalar_one()
    return found


# ---- a silence of the whole fleet


def seen_since(connection: Connection, since: datetime) -> int:
    """How many devices gave a sign of life since then."""
    query = select(func.count()).where(devices.c.last_seen_at >= since)
    return connection.execute(query).scalar_one()


def note_day(connection: Connection, day: date, seen: int) -> None:
    """Keep how many devices were seen up to a moment of a day: the most of its moments."""
    kept = insert(fleet_days).values(day=day, seen=seen)
    most = func.greatest(fleet_days.c.seen, kept.excluded.seen)
    connection.execute(kept.on_conflict_do_update(index_elements=["day"], set_={"seen": most}))


def days_before(connection: Connection, day: date, most: int) -> list[int]:
    """How many were seen on the days before, the latest first."""
    query = select(fleet_days.c.seen).where(fleet_days.c.day < day)
    return list(connection.execute(query.order_by(fleet_days.c.day.desc()).limit(most)).scalars())
