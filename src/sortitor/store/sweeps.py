"""Sweep rules, runs and holds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, datetime
from typing import Any

from sqlalchemy import Connection, func, select, update

from sortitor.core.selection import Selection
from sortitor.store import devices as store_devices
from sortitor.store.engine import Line
from sortitor.store.filters import idle_case
from sortitor.store.tables import devices, holds, people, sweep_rules, sweeps


def rules(connection: Connection, daily_only: bool = False) -> Sequence[Line]:
    """Rules by name."""
    query = select(sweep_rules).order_by(func.lower(sweep_rules.c.name))
    return connection.execute(query.where(sweep_rules.c.daily) if daily_only else query).all()


def rule(connection: Connection, rule_id: int, lock: bool = False) -> Line | None:
    """One rule."""
    query = select(sweep_rules).where(sweep_rules.c.id == rule_id)
    return connection.execute(query.with_for_update() if lock else query).one_or_none()


def add_rule(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new rule's id."""
    return connection.execute(
        sweep_rules.insert().values(**values).returning(sweep_rules.c.id)
    ).scalar_one()


def change_rule(connection: Connection, rule_id: int, values: Mapping[str, Any]) -> None:
    """Set a rule's columns and count its revision up."""
    connection.execute(
        update(sweep_rules)
        .where(sweep_rules.c.id == rule_id)
        .values(**values, revision=sweep_rules.c.revision + 1)
    )


def remove_rule(connection: Connection, rule_id: int) -> None:
    """Forget a rule; its runs stay."""
    connection.execute(sweep_rules.delete().where(sweep_rules.c.id == rule_id))


def _held(today: date) -> Any:
    return select(holds.c.device_id).where(holds.c.ended_at.is_(None), holds.c.until_on >= today)


def idle_counts(
    connection: Connection, watched: Selection, now: datetime
) -> list[tuple[int, int, int]]:
    """`(idle days, devices, of them held)` over everything a rule watches."""
    idle = idle_case(now).label("idle")
    held = func.count().filter(devices.c.id.in_(_held(now.date()))).label("held")
    query = (
        select(idle, func.count(), held)
        .where(store_devices.matching(watched, now))
        .group_by(idle)
        .order_by(idle)
    )
    return [(row[0], row[1], row[2]) for row in connection.execute(query)]


def due(connection: Connection, watched: Selection, window: int, now: datetime) -> Sequence[Line]:
    """Devices past a window of so many days that nobody holds, longest idle first: `id, name,
    model, site, platform, stage, idle, person_name, serial`.
    """
    idle = idle_case(now).label("idle")
    query = (
        select(
            devices.c.id,
            devices.c.name,
            devices.c.maker,
            devices.c.model,
            devices.c.site,
            devices.c.platform,
            devices.c.stage,
            idle,
            people.c.name.label("person_name"),
            store_devices.an_identifier("serial"),
        )
        .outerjoin(people, people.c.id == devices.c.person_id)
        .where(
            store_devices.matching(watched, now),
            idle >= window,
            devices.c.id.not_in(_held(now.date())),
        )
    )
    return connection.execute(query.order_by(idle.desc(), devices.c.id)).all()


def add_run(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new run's id."""
    return connection.execute(sweeps.insert().values(**values).returning(sweeps.c.id)).scalar_one()


def change_run(connection: Connection, run_id: int, values: Mapping[str, Any]) -> None:
    """Set a run's columns."""
    connection.execute(update(sweeps).where(sweeps.c.id == run_id).values(**values))


def run(connection: Connection, run_id: int, lock: bool = False) -> Line | None:
    """One run."""
    query = select(sweeps).where(sweeps.c.id == run_id)
    return connection.execute(query.with_for_update() if lock else query).one_or_none()


def runs(connection: Connection, before: int | None, limit: int) -> Sequence[Line]:
    """Runs, newest first."""
    query = select(sweeps).order_by(sweeps.c.id.desc()).limit(limit)
    return connection.execute(query if before is None else query.where(sweeps.c.id < before)).all()


def add_hold(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new hold's id."""
    return connection.execute(holds.insert().values(**values).returning(holds.c.id)).scalar_one()


def end_hold(connection: Connection, hold_id: int, at: datetime) -> Line | None:
    """The hold that was ended, or None if there is no such living hold."""
    return connection.execute(
        update(holds)
        .where(holds.c.id == hold_id, holds.c.ended_at.is_(None))
        .values(ended_at=at)
        .returning(holds)
    ).one_or_none()


def ran_on(connection: Connection, rule_id: int, day: date) -> bool:
    """Whether the schedule has dealt with the rule on this day (UTC)."""
    query = select(sweeps.c.id).where(
        sweeps.c.rule_id == rule_id,
        sweeps.c.by == "schedule",
        func.date(func.timezone("UTC", sweeps.c.at)) == day,
    )
    return connection.execute(query.limit(1)).one_or_none() is not None
