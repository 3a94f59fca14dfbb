"""What devices told of their items, and asking them to look again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Connection,
    and_,
    any_,
    case,
    delete,
    func,
    insert,
    literal,
    select,
    update,
)
from sqlalchemy.dialects import postgresql

from sortitor.core.selection import Selection
from sortitor.core.vocabulary import ItemState, Stage
from sortitor.store.arrivals import by_credential
from sortitor.store.devices import ids as ids_of
from sortitor.store.devices import matching
from sortitor.store.kits import NO_FACTS
from sortitor.store.notices import PUSHES
from sortitor.store.rows import among, read_all
from sortitor.store.tables import (
    device_kits,
    devices,
    item_reports,
    items,
    kit_outcomes,
    kit_pushes,
)


@dataclass(frozen=True, slots=True)
class AgentRow:
    """The device that shows a credential."""

    id: int
    stage: Stage
    facts: list[int]
    asked: int


def device_of(connection: Connection, secret_hash: bytes) -> AgentRow | None:
    """The device of a good credential, with what decides over it."""
    none = func.coalesce(device_kits.c.facts, postgresql.array([], type_=BigInteger))
    query = (
        select(
            devices.c.id,
            devices.c.stage,
            none.label("facts"),
            func.coalesce(device_kits.c.asked, 0).label("asked"),
        )
        .outerjoin(device_kits, device_kits.c.device_id == devices.c.id)
        .where(devices.c.id.in_(by_credential(secret_hash)), devices.c.flag.is_(None))
    )
    found = read_all(connection, query, AgentRow)
    return found[0] if found else None


# ---- reports


@dataclass(frozen=True, slots=True)
class ReportRow:
    """What a device told of one item, the latest."""

    item_id: int
    revision: str
    state: ItemState
    code: str | None
    words: str | None
    at: datetime
    has_log: bool


def reports_of(connection: Connection, device_id: int) -> list[ReportRow]:
    """What a device told of each item."""
    r = item_reports.c
    columns = (r.item_id, r.revision, r.state, r.code, r.words, r.at)
    query = select(*columns, r.log.is_not(None).label("has_log")).where(r.device_id == device_id)
    return read_all(connection, query.order_by(r.item_id), ReportRow)


def log_of(connection: Connection, device_id: int, item_id: int) -> str | None:
    """What a device sent along when an item failed."""
    r = item_reports.c
    query = select(r.log).where(r.device_id == device_id, r.item_id == item_id)
    return connection.execute(query).scalar_one_or_none()


def write_reports(
    connection: Connection, device_id: int, told: Sequence[dict[str, Any]], now: datetime
) -> None:
    """Keep what a device tells of items that there are. The time of work begins when it is first
    told of it, and of another content anew.
    """
    known = set(connection.execute(select(items.c.id)).scalars())
    lines = [
        {
            **one,
            "device_id": device_id,
            "at": now,
            "begun_at": now if one["state"] == ItemState.WORKING else None,
        }
        for one in told
        if one["item_id"] in known
    ]
    if not lines:
        return
    put = postgresql.insert(item_reports).values(lines)
    new, old = put.excluded, item_reports.c
    same = and_(old.revision == new.revision, old.state == ItemState.WORKING)
    begun = case((same, func.coalesce(old.begun_at, new.begun_at)), else_=new.begun_at)
    changed = {name: new[name] for name in ("revision", "state", "code", "words", "log", "at")}
    connection.execute(
        put.on_conflict_do_update(
            index_elements=["device_id", "item_id"], set_={**changed, "begun_at": begun}
        )
    )


@dataclass(frozen=True, slots=True)
class StateRow:
    """How many of the devices that get an item are how far with it, by what they told."""

    state: ItemState
    code: str | None
    devices: int
    words: str | None


def states(connection: Connection, item_id: int) -> list[StateRow]:
    """Of the devices that get an item: how far they are; failures by their code."""
    state = func.coalesce(item_reports.c.state, ItemState.WAITING)
    failed = case((state == ItemState.FAILED, item_reports.c.code))
    gets = kit_outcomes.c.required + kit_outcomes.c.offered
    getting = select(kit_outcomes.c.key).where(literal(item_id) == any_(gets))
    query = (
        select(
            state.label("state"),
            failed.label("code"),
            func.count().label("devices"),
            func.min(case((state == ItemState.FAILED, item_reports.c.words))).label("words"),
        )
        .select_from(devices)
        .outerjoin(device_kits, device_kits.c.device_id == devices.c.id)
        .outerjoin(item_reports, _current(item_id))
        .where(
            devices.c.stage != Stage.RETIRED,
            func.coalesce(device_kits.c.key, NO_FACTS).in_(getting),
        )
        .group_by("state", "code")
        .order_by(func.count().desc(), "state", "code")
    )
    return read_all(connection, query, StateRow)


def _current(item_id: int) -> ColumnElement[bool]:
    """What was told of the item as it is now."""
    content = select(items.c.content).where(items.c.id == item_id).scalar_subquery()
    return and_(
        item_reports.c.device_id == devices.c.id,
        item_reports.c.item_id == item_id,
        item_reports.c.revision == content,
    )


@dataclass(frozen=True, slots=True)
class TimesRow:
    """How long an item takes where it was told: half of the devices, and all but a twentieth, need
    no more seconds.
    """

    item_id: int
    devices: int
    median_seconds: float
    p95_seconds: float


def times(connection: Connection) -> list[TimesRow]:
    """How long each item usually takes, of what the fleet told."""
    took = func.extract("epoch", item_reports.c.at - item_reports.c.begun_at)

    def percentile(share: float) -> ColumnElement[Any]:
        return func.percentile_cont(share).within_group(took)

    query = (
        select(
            item_reports.c.item_id,
            func.count().label("devices"),
            percentile(0.5).label("median_seconds"),
            percentile(0.95).label("p95_seconds"),
        )
        .where(item_reports.c.state == ItemState.DONE, item_reports.c.begun_at.is_not(None))
        .group_by(item_reports.c.item_id)
        .order_by(item_reports.c.item_id)
    )
    return read_all(connection, query, TimesRow)


# ---- asking again


def failed(connection: Connection, item_id: int, of: Selection, now: datetime) -> list[int]:
    """The devices of a selection on which an item failed, as it is now."""
    query = (
        select(devices.c.id)
        .select_from(devices)
        .join(item_reports, _current(item_id))
        .where(matching(of, now), item_reports.c.state == ItemState.FAILED)
        .order_by(devices.c.id)
    )
    return list(connection.execute(query).scalars())


def forget_failures(connection: Connection, item_id: int, ids: Sequence[int]) -> None:
    """Let an item wait again on some devices."""
    which = and_(among(item_reports.c.device_id, ids), item_reports.c.item_id == item_id)
    values = {"state": ItemState.WAITING, "code": None, "words": None, "begun_at": None}
    connection.execute(update(item_reports).where(which).values(values))


def ask_again(connection: Connection, ids: Sequence[int]) -> None:
    """Let some devices see another revision, so that they fetch what they get once more."""
    lines = select(devices.c.id, postgresql.array([], type_=BigInteger), literal(1)).where(
        among(devices.c.id, ids)
    )
    put = postgresql.insert(device_kits).from_select(
        ["device_id", "facts", "asked"], lines.order_by(devices.c.id)
    )
    connection.execute(
        put.on_conflict_do_update(
            index_elements=["device_id"], set_={"asked": device_kits.c.asked + 1}
        )
    )


def push(connection: Connection, ids: Sequence[int], by: str, now: datetime) -> int:
    """Wake some devices, whichever process they wait in, once the transaction is committed."""
    line = {"at": now, "by": by, "devices": list(ids)}
    number: int = connection.execute(
        insert(kit_pushes).values(line).returning(kit_pushes.c.id)
    ).scalar_one()
    connection.execute(select(func.pg_notify(PUSHES, str(number))))
    return number


def chosen(connection: Connection, of: Selection, now: datetime) -> list[int]:
    """The devices of a selection that are not retired."""
    found = ids_of(connection, of, now)
    retired = select(devices.c.id).where(devices.c.stage == Stage.RETIRED)
    query = retired.where(among(devices.c.id, found))
    gone = set(connection.execute(query).scalars())
    return [one for one in found if one not in gone]


def forget_pushes(connection: Connection, before: datetime) -> None:
    """Forget pushes that were made before a moment."""
    connection.execute(delete(kit_pushes).where(kit_pushes.c.at < before))
