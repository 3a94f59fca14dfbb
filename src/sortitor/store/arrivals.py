"""Passes, knocks and credentials."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, func, insert, select, update

from sortitor.core.vocabulary import Outcome, Stage
from sortitor.store.cohorts import settle_one
from sortitor.store.engine import Line
from sortitor.store.tables import arrivals, credentials, devices, identifiers, passes, people


def add_pass(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new pass's id."""
    return connection.execute(insert(passes).values(**values).returning(passes.c.id)).scalar_one()


def pass_by_hash(connection: Connection, code_hash: str) -> Line | None:
    """The pass of a code."""
    return connection.execute(select(passes).where(passes.c.code_hash == code_hash)).one_or_none()


def use_pass(connection: Connection, pass_id: int) -> bool:
    """Count one use; False if there is none left."""
    left = passes.c.max_uses.is_(None) | (passes.c.uses < passes.c.max_uses)
    statement = (
        update(passes)
        .where(passes.c.id == pass_id, left, passes.c.revoked_at.is_(None))
        .values(uses=passes.c.uses + 1)
    )
    return connection.execute(statement).rowcount == 1


def revoke_pass(connection: Connection, pass_id: int, at: datetime) -> str | None:
    """The label of the pass that was revoked, or None if there is no such living pass."""
    statement = (
        update(passes)
        .where(passes.c.id == pass_id, passes.c.revoked_at.is_(None))
        .values(revoked_at=at)
    )
    return connection.execute(statement.returning(passes.c.label)).scalar_one_or_none()


def pass_page(connection: Connection, before: int | None, limit: int) -> Sequence[Line]:
    """Passes, newest first, with the person they are for."""
    query = select(
        passes, people.c.name.label("person_name"), people.c.user_name.label("person_user_name")
    ).outerjoin(people, people.c.id == passes.c.person_id)
    if before is not None:
        query = query.where(passes.c.id < before)
    return connection.execute(query.order_by(passes.c.id.desc()).limit(limit)).all()


def add_arrival(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new arrival's id."""
    return connection.execute(
        insert(arrivals).values(**values).returning(arrivals.c.id)
    ).scalar_one()


def page(
    connection: Connection, outcome: str | None, waiting: bool, before: int | None, limit: int
) -> Sequence[Line]:
    """Arrivals, newest first; `waiting` keeps those whose device is parked right now, by its latest
    arrival.
    """
    query = (
        select(
            arrivals,
            devices.c.stage,
            devices.c.stage_at,
            devices.c.name.label("device_name"),
            devices.c.model,
            devices.c.maker,
            devices.c.site,
            passes.c.label.label("pass_label"),
            people.c.name.label("person_name"),
        )
        .outerjoin(devices, devices.c.id == arrivals.c.device_id)
        .outerjoin(passes, passes.c.id == arrivals.c.pass_id)
        .outerjoin(people, people.c.id == arrivals.c.person_id)
    )
    if outcome:
        query = query.where(arrivals.c.outcome == outcome)
    if waiting:
        later = arrivals.alias("later")
        newest = select(func.max(later.c.id)).where(
            later.c.device_id == arrivals.c.device_id, later.c.outcome == Outcome.PARKED
        )
        query = query.where(
            devices.c.stage == Stage.PARKED,
            arrivals.c.outcome == Outcome.PARKED,
            arrivals.c.id == newest.scalar_subquery(),
        )
    if before is not None:
        query = query.where(arrivals.c.id < before)
    return connection.execute(query.order_by(arrivals.c.id.desc()).limit(limit)).all()


def one(connection: Connection, arrival_id: int) -> Line | None:
    """One arrival with its trace."""
    return connection.execute(select(arrivals).where(arrivals.c.id == arrival_id)).one_or_none()


def add_device(
    connection: Connection, values: Mapping[str, Any], keys: Sequence[Mapping[str, Any]]
) -> int:
    """A device that nobody announced, with its identifiers."""
    device_id = connection.execute(
        insert(devices).values(**values).returning(devices.c.id)
    ).scalar_one()
    _write_identifiers(connection, device_id, keys)
    settle_one(connection, device_id, None)
    return device_id


def add_identifiers(
    connection: Connection, device_id: int, keys: Sequence[Mapping[str, Any]]
) -> None:
    """Identifiers that the device itself stated."""
    if keys:
        _write_identifiers(connection, device_id, keys)
        settle_one(connection, device_id, {"identifiers"})


def _write_identifiers(
    connection: Connection, device_id: int, keys: Sequence[Mapping[str, Any]]
) -> None:
    if keys:
        connection.execute(insert(identifiers), [{**key, "device_id": device_id} for key in keys])


def give_credential(
    connection: Connection, device_id: int, secret_hash: bytes, at: datetime
) -> None:
    """Bind a new credential to the device; older ones end."""
    end_credentials(connection, [device_id], at, None)
    connection.execute(
        insert(credentials).values(secret_hash=secret_hash, device_id=device_id, created_at=at)
    )


def end_credentials(
    connection: Connection, device_ids: Sequence[int], at: datetime, entry_id: int | None
) -> None:
    """Revoke the credentials of devices; a revert of the entry brings them back."""
    statement = update(credentials).where(
        credentials.c.device_id.in_(device_ids), credentials.c.revoked_at.is_(None)
    )
    connection.execute(statement.values(revoked_at=at, revoked_by=entry_id))
