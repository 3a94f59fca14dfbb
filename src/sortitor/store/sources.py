"""Sources: their standing, what opens them, and their runs."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import Connection, Select, delete, func, insert, or_, select, true, update
from sqlalchemy.dialects.postgresql import insert as upsert

from sortitor.core.vocabulary import Ownership, RunState, SecretKind, SourceKind
from sortitor.store.rows import number, read_all, read_one
from sortitor.store.tables import (
    devices,
    people,
    roster_devices,
    source_groups,
    source_people,
    source_runs,
    source_secrets,
    sources,
)

AT_WORK = (RunState.WAITING, RunState.RUNNING)


@dataclass(frozen=True, slots=True)
class StandingRow:
    """What is known of a source's runs."""

    id: int
    cursor: str | None
    etag: str | None
    good_at: datetime | None
    whole_at: datetime | None
    last_run_id: int | None
    last_state: RunState | None
    last_at: datetime | None
    last_problem: dict[str, Any] | None
    at_work: int | None


@dataclass(frozen=True, slots=True)
class HeldRow:
    """How much a source knows; `unknown`: of its devices, those that are none of the fleet."""

    id: int
    devices: int
    unknown: int
    people: int
    groups: int


def _count(table: Any, *conditions: Any) -> Any:
    found = select(func.count()).select_from(table)
    return found.where(table.c.source_id == sources.c.id, *conditions).scalar_subquery()


_LAST = (
    select(
        source_runs.c.id,
        source_runs.c.state,
        func.coalesce(source_runs.c.ended_at, source_runs.c.asked_at).label("at"),
        source_runs.c.problem,
    )
    .where(
        source_runs.c.source_id == sources.c.id,
        source_runs.c.state.in_((RunState.DONE, RunState.FAILED, RunState.BRAKED)),
    )
    .order_by(source_runs.c.id.desc())
    .limit(1)
    .lateral()
)
_STANDING = (
    select(
        sources.c.id,
        sources.c.cursor,
        sources.c.etag,
        sources.c.good_at,
        sources.c.whole_at,
        _LAST.c.id.label("last_run_id"),
        _LAST.c.state.label("last_state"),
        _LAST.c.at.label("last_at"),
        _LAST.c.problem.label("last_problem"),
        select(source_runs.c.id)
        .where(source_runs.c.source_id == sources.c.id, source_runs.c.state.in_(AT_WORK))
        .scalar_subquery()
        .label("at_work"),
    )
    .select_from(sources)
    .outerjoin(_LAST, true())
)
_HELD = select(
    sources.c.id,
    _count(roster_devices).label("devices"),
    _count(roster_devices, roster_devices.c.device_id.is_(None)).label("unknown"),
    _count(source_people, source_people.c.gone_at.is_(None)).label("people"),
    _count(source_groups).label("groups"),
)


def standings(connection: Connection) -> dict[int, StandingRow]:
    """Source → its standing."""
    return {row.id: row for row in read_all(connection, _STANDING, StandingRow)}


def standing(connection: Connection, source_id: int) -> StandingRow | None:
    """One source's standing."""
    return read_one(connection, _STANDING.where(sources.c.id == source_id), StandingRow)


def held(connection: Connection) -> dict[int, HeldRow]:
    """Source → how much it knows; counted, which takes a while where it is a lot."""
    return {row.id: row for row in read_all(connection, _HELD, HeldRow)}


def held_by(connection: Connection, source_id: int) -> HeldRow | None:
    """How much one source knows."""
    return read_one(connection, _HELD.where(sources.c.id == source_id), HeldRow)


def lock(connection: Connection, source_id: int) -> bool:
    """Hold a source until the transaction ends; False where it is no longer there."""
    query = select(sources.c.id).where(sources.c.id == source_id).with_for_update()
    return connection.execute(query).one_or_none() is not None


def note_read(connection: Connection, source_id: int, values: Mapping[str, Any]) -> None:
    """Note that a source was read to its end, and where it goes on."""
    connection.execute(update(sources).where(sources.c.id == source_id).values(**values))


def note_push(connection: Connection, now: datetime) -> None:
    """Note that an identity provider pushed something, to the minute: the row is not held by every
    push.
    """
    noted = or_(sources.c.good_at.is_(None), sources.c.good_at < now - timedelta(minutes=1))
    pushes = sources.c.kind == SourceKind.PUSH
    connection.execute(update(sources).where(pushes, noted).values(good_at=now))


def pushed(connection: Connection) -> int:
    """How many people an identity provider has pushed."""
    query = select(func.count()).select_from(people).where(people.c.pushed.is_not(None))
    return int(connection.execute(query).scalar_one())


# ---- what opens them


@dataclass(frozen=True, slots=True)
class SecretRow:
    """What a source is opened with, encrypted, and what may be shown of it."""

    id: int
    source_id: int
    kind: SecretKind
    sealed: bytes
    about: dict[str, Any]
    ends_at: datetime | None
    made_at: datetime
    made_by: str
    waiting: bool


def secrets(connection: Connection, source_id: int | None = None) -> list[SecretRow]:
    """What a source, or all of them, is opened with."""
    query = select(source_secrets).order_by(source_secrets.c.source_id, source_secrets.c.id)
    if source_id is not None:
        query = query.where(source_secrets.c.source_id == source_id)
    return read_all(connection, query, SecretRow)


def put_secret(connection: Connection, values: Mapping[str, Any]) -> int:
    """Keep a secret in the place of the one that is there; gives its number."""
    kept = upsert(source_secrets).values(**values)
    places = ("source_id", "kind", "waiting")
    new = {name: kept.excluded[name] for name in values if name not in places}
    return number(
        connection,
        kept.on_conflict_do_update(
            index_elements=[source_secrets.c[name] for name in places], set_=new
        ).returning(source_secrets.c.id),
    )


def drop_secrets(
    connection: Connection, source_id: int, kinds: Collection[SecretKind], waiting: bool
) -> int:
    """Forget secrets; gives how many there were."""
    gone = delete(source_secrets).where(
        source_secrets.c.source_id == source_id,
        source_secrets.c.kind.in_(kinds),
        source_secrets.c.waiting == waiting,
    )
    return len(connection.execute(gone.returning(source_secrets.c.id)).all())


def reseal(connection: Connection, secret_id: int, sealed: bytes) -> None:
    """Keep a secret under another key."""
    connection.execute(
        update(source_secrets).where(source_secrets.c.id == secret_id).values(sealed=sealed)
    )


# ---- runs


@dataclass(frozen=True, slots=True)
class RunRow:
    """One run of a source: what it was asked, what became of it, and what it changed."""

    id: int
    source_id: int
    source_name: str
    whole: bool
    unbraked: bool
    by: str
    asked_at: datetime
    ended_at: datetime | None
    state: RunState
    counts: dict[str, int]
    remarks: list[dict[str, Any]]
    problem: dict[str, Any] | None
    entry_id: int | None
    lot_id: int | None
    job_id: int | None


def begin_run(connection: Connection, values: Mapping[str, Any]) -> int | None:
    """A new run's number; None where one is under way."""
    made = (
        upsert(source_runs)
        .values(**values)
        .on_conflict_do_nothing(
            index_elements=[source_runs.c.source_id], index_where=source_runs.c.state.in_(AT_WORK)
        )
    )
    return connection.execute(made.returning(source_runs.c.id)).scalar_one_or_none()


def add_run(connection: Connection, values: Mapping[str, Any]) -> int:
    """A run that is over already, as of a file handed over."""
    return number(connection, insert(source_runs).values(**values).returning(source_runs.c.id))


def run(connection: Connection, run_id: int, hold: bool = False) -> RunRow | None:
    """One run."""
    query = select(source_runs).where(source_runs.c.id == run_id)
    return read_one(connection, query.with_for_update() if hold else query, RunRow)


def change_run(connection: Connection, run_id: int, values: Mapping[str, Any]) -> None:
    """Set a run's columns."""
    connection.execute(update(source_runs).where(source_runs.c.id == run_id).values(**values))


def runs(
    connection: Connection, source_id: int | None, before: int | None, limit: int
) -> Sequence[RunRow]:
    """Runs, newest first."""
    query = select(source_runs).order_by(source_runs.c.id.desc()).limit(limit)
    if source_id is not None:
        query = query.where(source_runs.c.source_id == source_id)
    if before is not None:
        query = query.where(source_runs.c.id < before)
    return read_all(connection, query, RunRow)


# ---- what they said


def _lines() -> Select[Any]:
    return select(
        roster_devices,
        devices.c.name.label("device_name"),
        devices.c.stage,
        devices.c.ownership,
    ).outerjoin(devices, devices.c.id == roster_devices.c.device_id)


@dataclass(frozen=True, slots=True)
class RosterRow:
    """One line of a roster, with the device of the fleet that it is."""

    key: str
    serial: str | None
    imei: str | None
    imei2: str | None
    mac: str | None
    uuid: str | None
    maker: str | None
    model: str | None
    platform: str | None
    order_name: str | None
    person: str | None
    site: str | None
    name: str | None
    extra: dict[str, Any]
    device_id: int | None
    device_name: str | None
    stage: str | None
    ownership: str | None


def roster(
    connection: Connection,
    source_id: int,
    query: str | None,
    unknown_only: bool,
    after: str | None,
    limit: int,
    without_personal: bool,
) -> Sequence[RosterRow]:
    """Lines of a source's roster by key; `query` finds what begins with it."""
    lines = _lines().where(roster_devices.c.source_id == source_id)
    if query:
        text = query.strip()
        begins = [
            column.startswith(text.upper() if column is not roster_devices.c.key else text)
            for column in (
                roster_devices.c.key,
                roster_devices.c.serial,
                roster_devices.c.imei,
                roster_devices.c.order_name,
            )
        ]
        lines = lines.where(or_(*begins))
    if without_personal:
        lines = lines.where(devices.c.ownership.is_distinct_from(Ownership.PERSONAL))
    if unknown_only:
        lines = lines.where(roster_devices.c.device_id.is_(None))
    if after is not None:
        lines = lines.where(roster_devices.c.key > after)
    return read_all(connection, lines.order_by(roster_devices.c.key).limit(limit), RosterRow)


def lines(connection: Connection, source_id: int, keys: Collection[str]) -> list[RosterRow]:
    """Some lines of a roster."""
    wanted = _lines().where(
        roster_devices.c.source_id == source_id, roster_devices.c.key.in_(list(keys))
    )
    return read_all(connection, wanted.order_by(roster_devices.c.key), RosterRow)
