"""Holds: what is kept out of sweeps, and until when."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Connection,
    Select,
    and_,
    delete,
    func,
    literal,
    or_,
    select,
    true,
    update,
)
from sqlalchemy.dialects.postgresql import insert

from sortitor.core.vocabulary import HoldKind, Ownership
from sortitor.store import devices as store_devices
from sortitor.store.rows import among, number, read_all, read_one
from sortitor.store.tables import (
    cohort_members,
    cohorts,
    devices,
    hold_devices,
    holds,
    people,
)


@dataclass(frozen=True, slots=True)
class HoldRow:
    """A hold; `devices` counts those that are in it now, and `device_id`, `name`, `serial` and
    `ownership` are of the first where the hold names devices.
    """

    id: int
    person_id: int | None
    person: str | None
    cohort_id: int | None
    cohort: str | None
    device_id: int | None
    name: str | None
    serial: str | None
    ownership: Ownership | None
    devices: int
    reason: str
    owner: str
    from_on: date
    until_on: date
    created_by: str
    created_at: datetime
    ended_at: datetime | None

    @property
    def kind(self) -> HoldKind:
        """What it keeps."""
        if self.person_id is not None:
            return HoldKind.PERSON
        return HoldKind.DEVICES if self.cohort_id is None else HoldKind.COHORT


def _read() -> Select[Any]:
    named = (
        select(func.min(hold_devices.c.device_id).label("first"), func.count().label("number"))
        .where(hold_devices.c.hold_id == holds.c.id)
        .lateral("named")
    )
    theirs = devices.alias("theirs")
    of_person = select(func.count()).where(theirs.c.person_id == holds.c.person_id)
    of_cohort = select(func.count()).where(cohort_members.c.cohort_id == holds.c.cohort_id)
    counted = (
        named.c.number
        + func.coalesce(of_person.where(holds.c.person_id.is_not(None)).scalar_subquery(), 0)
        + func.coalesce(of_cohort.where(holds.c.cohort_id.is_not(None)).scalar_subquery(), 0)
    )
    return select(
        holds,
        people.c.name.label("person"),
        cohorts.c.name.label("cohort"),
        devices.c.id.label("device_id"),
        devices.c.name,
        devices.c.ownership,
        store_devices.an_identifier("serial"),
        counted.label("devices"),
    ).select_from(
        holds.join(named, true())
        .outerjoin(people, people.c.id == holds.c.person_id)
        .outerjoin(cohorts, cohorts.c.id == holds.c.cohort_id)
        .outerjoin(devices, devices.c.id == named.c.first)
    )


def _living(today: date) -> ColumnElement[bool]:
    return and_(holds.c.ended_at.is_(None), holds.c.until_on >= today)


def page(
    connection: Connection, before: int | None, limit: int, today: date, over: bool
) -> list[HoldRow]:
    """Holds, newest first; those that are `over` only when asked."""
    query = _read().order_by(holds.c.id.desc()).limit(limit)
    if before is not None:
        query = query.where(holds.c.id < before)
    return read_all(connection, query if over else query.where(_living(today)), HoldRow)


def one(connection: Connection, hold_id: int, lock: bool = False) -> HoldRow | None:
    """One hold; `lock` holds its row until the end of the transaction."""
    if lock:
        connection.execute(select(holds.c.id).where(holds.c.id == hold_id).with_for_update())
    return read_one(connection, _read().where(holds.c.id == hold_id), HoldRow)


def on_device(connection: Connection, device_id: int, today: date) -> list[HoldRow]:
    """The living holds on a device, its person or one of its cohorts, the longest last."""
    itself = select(hold_devices.c.hold_id).where(hold_devices.c.device_id == device_id)
    person = select(devices.c.person_id).where(devices.c.id == device_id)
    inside = select(cohort_members.c.cohort_id).where(cohort_members.c.device_id == device_id)
    query = _read().where(
        _living(today),
        or_(
            holds.c.id.in_(itself),
            holds.c.person_id == person.scalar_subquery(),
            holds.c.cohort_id.in_(inside),
        ),
    )
    return read_all(connection, query.order_by(holds.c.until_on), HoldRow)


def on_person(connection: Connection, person_id: int, today: date) -> list[HoldRow]:
    """The living holds on all that a person has, the longest last."""
    query = _read().where(_living(today), holds.c.person_id == person_id)
    return read_all(connection, query.order_by(holds.c.until_on), HoldRow)


def on_cohort(connection: Connection, cohort_id: int, today: date) -> list[HoldRow]:
    """The living holds on the members of a cohort."""
    query = _read().where(_living(today), holds.c.cohort_id == cohort_id)
    return read_all(connection, query.order_by(holds.c.until_on), HoldRow)


def ending(connection: Connection, first: date, last: date) -> list[HoldRow]:
    """The living holds whose last day is one of these, first things first."""
    ends = (holds.c.ended_at.is_(None), holds.c.until_on.between(first, last))
    return read_all(connection, _read().where(*ends).order_by(holds.c.until_on), HoldRow)


def add(connection: Connection, values: Mapping[str, Any], device_ids: Sequence[int]) -> int:
    """A new hold's id."""
    hold_id = number(connection, holds.insert().values(**values).returning(holds.c.id))
    name_devices(connection, hold_id, device_ids)
    return hold_id


def name_devices(connection: Connection, hold_id: int, device_ids: Iterable[int]) -> None:
    """Let a hold name these devices too; those that are gone are passed over."""
    lines = select(literal(hold_id, BigInteger), devices.c.id).where(
        among(devices.c.id, device_ids)
    )
    named = insert(hold_devices).from_select(["hold_id", "device_id"], lines)
    connection.execute(named.on_conflict_do_nothing())


def named(connection: Connection, hold_id: int) -> list[int]:
    """The devices that a hold names."""
    query = select(hold_devices.c.device_id).where(hold_devices.c.hold_id == hold_id)
    return list(connection.execute(query.order_by(hold_devices.c.device_id)).scalars())


def release(connection: Connection, hold_id: int, device_id: int) -> bool:
    """Let a hold no longer name a device; False where it did not."""
    named = (hold_devices.c.hold_id == hold_id, hold_devices.c.device_id == device_id)
    return connection.execute(delete(hold_devices).where(*named)).rowcount > 0


def end(connection: Connection, hold_id: int, at: datetime | None) -> None:
    """End a hold now, or let it live again where `at` is None."""
    connection.execute(update(holds).where(holds.c.id == hold_id).values(ended_at=at))
