"""What a knock reads and writes, in as few round trips as can be: it is what every device does, and
thousands of them at once on the day of the handing out.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import (
    ARRAY,
    Connection,
    Text,
    exists,
    func,
    insert,
    literal,
    select,
    tuple_,
    update,
)
from sqlalchemy.dialects.postgresql import insert as upsert

from sortitor.core.gate import Holding
from sortitor.core.lifecycle import COUNTED
from sortitor.core.vocabulary import Stage
from sortitor.store import arrivals as store
from sortitor.store.arrivals import PassRow
from sortitor.store.devices import DeviceRow
from sortitor.store.people import held_of
from sortitor.store.rows import number, read_one
from sortitor.store.tables import (
    arrivals,
    cohort_members,
    cohorts,
    credentials,
    devices,
    identifiers,
    passes,
    people,
    rulebooks,
)


@dataclass(frozen=True, slots=True)
class ShownPass(PassRow):
    """The pass of a knock, and by number the rulebooks that hold at that moment."""

    rulebooks: dict[str, Any]


def shown_pass(
    connection: Connection, code_hash: str, numbers: Collection[int]
) -> ShownPass | None:
    """The pass of a code, and these rulebooks: one look."""
    written = func.jsonb_object_agg(rulebooks.c.id, rulebooks.c.document)
    books = select(written).where(rulebooks.c.id.in_(numbers)).scalar_subquery()
    query = store.PASSES.add_columns(books.label("rulebooks"))
    return read_one(connection, query.where(passes.c.code_hash == code_hash), ShownPass)


def hold_identifiers(connection: Connection, keys: Sequence[tuple[str, str]]) -> None:
    """Let the arrivals of one device come one after the other, whatever of it they lock later; the
    locks are taken in one order for all, and end with the transaction.
    """
    names = sorted(f"{kind}:{value}" for kind, value in keys)
    name = func.unnest(literal(names, ARRAY(Text))).column_valued("name")
    connection.execute(select(func.pg_advisory_xact_lock(func.hashtextextended(name, 0))))


@dataclass(frozen=True, slots=True)
class Found:
    """A device that has one of the identifiers, before it is locked; `owned` are those that it has
    of them.
    """

    id: int
    person_id: int | None
    stage: Stage
    owned: frozenset[tuple[str, str]]


def found_by(connection: Connection, keys: Sequence[tuple[str, str]], maker: str) -> list[Found]:
    """The devices with any of the identifiers; a serial fits its maker, or any where the maker is
    not known.
    """
    query = (
        select(identifiers, devices.c.person_id, devices.c.stage)
        .join(devices, devices.c.id == identifiers.c.device_id)
        .where(tuple_(identifiers.c.kind, identifiers.c.value).in_([*keys]))
    )
    rows = connection.execute(query).all()
    fitting = [r for r in rows if r.kind != "serial" or r.maker in (maker, "") or not maker]
    exact = {r.device_id for r in fitting if r.kind != "serial" or r.maker == maker}
    chosen = exact or {r.device_id for r in fitting}
    owned = {
        one: frozenset((r.kind, r.value) for r in rows if r.device_id == one) for one in chosen
    }
    return [
        Found(one, row.person_id, Stage(row.stage), owned[one])
        for one in sorted(chosen)
        for row in [next(r for r in rows if r.device_id == one)]
    ]


@dataclass(frozen=True, slots=True)
class HeldDevice(DeviceRow):
    """A device that is locked, and whether another one has its name meanwhile."""

    name_taken: bool


def hold_device(connection: Connection, device_id: int) -> HeldDevice | None:
    """One device, held until the transaction ends."""
    other = devices.alias("other")
    name_taken = exists(
        select(other.c.id).where(
            func.lower(other.c.name) == func.lower(devices.c.name),
            other.c.stage != Stage.RETIRED,
            other.c.id != devices.c.id,
            other.c.name.is_not(None),
        )
    )
    query = (
        select(
            devices,
            people.c.name.label("person_name"),
            people.c.user_name.label("person_user_name"),
            name_taken.label("name_taken"),
        )
        .outerjoin(people, people.c.id == devices.c.person_id)
        .where(devices.c.id == device_id)
    )
    return read_one(connection, query.with_for_update(of=devices), HeldDevice)


def standing(
    connection: Connection, person_id: int | None, device_id: int | None
) -> tuple[Holding, list[bytes]]:
    """What a person holds that counts, and the hashes of the credentials with which a device may
    check in; once both are locked, so that it stays true.
    """
    kinds = (devices.c.platform, devices.c.ownership)
    held = (
        select(*kinds, func.count().label("number"))
        .where(devices.c.person_id == person_id, devices.c.stage.in_(COUNTED))
        .group_by(*kinds)
        .subquery()
    )
    lines = select(func.jsonb_agg(func.jsonb_build_array(*held.c))).scalar_subquery()
    good = select(func.array_agg(credentials.c.secret_hash)).where(
        credentials.c.device_id == device_id,
        credentials.c.revoked_at.is_(None),
        credentials.c.claim_id.is_(None),
    )
    row = connection.execute(select(lines, good.scalar_subquery())).one()
    return held_of(row[0] or ()), [bytes(one) for one in row[1] or ()]


def add_device(
    connection: Connection, values: Mapping[str, Any], keys: Sequence[Mapping[str, Any]]
) -> int:
    """A device that nobody announced, with its identifiers; its cohorts are for the caller to
    settle.
    """
    added = insert(devices).values(**values).returning(devices.c.id).cte("added")
    if not keys:
        return number(connection, select(added.c.id))
    names = [*keys[0]]
    rows = select(
        added.c.id,
        *(
            func.unnest(literal([key[name] for key in keys], ARRAY(Text))).label(name)
            for name in names
        ),
    )
    named = insert(identifiers).from_select(["device_id", *names], rows).cte("named")
    return number(connection, select(added.c.id).add_cte(named))


@dataclass(frozen=True, slots=True)
class Entrance:
    """What is written when a device was let in, beside the device itself. `arrival_id`: of the one
    that was asked before. `secret_hash`: of the credential that it is given now. `place`: the
    list that it joins; one that is gone is passed over.
    """

    pass_id: int
    device_id: int
    arrival_id: int | None
    arrival: Mapping[str, Any]
    secret_hash: bytes | None
    place: str | None
    at: datetime


def enter(connection: Connection, entrance: Entrance) -> int | None:
    """Count the use of the pass, write the arrival, give the credential in place of former ones,
    and let the device join its list; the arrival's number, or None where the pass had no use left.
    """
    left = passes.c.max_uses.is_(None) | (passes.c.uses < passes.c.max_uses)
    used = (
        update(passes)
        .where(passes.c.id == entrance.pass_id, left, passes.c.revoked_at.is_(None))
        .values(uses=passes.c.uses + 1)
        .returning(passes.c.id)
        .cte("used")
    )
    written: Any = insert(arrivals).values(**entrance.arrival)
    if entrance.arrival_id is not None:
        mine = arrivals.c.id == entrance.arrival_id
        written = update(arrivals).where(mine).values(**entrance.arrival)
    arrived = written.returning(arrivals.c.id).cte("arrived")
    beside = []
    if entrance.secret_hash is not None:
        beside += [
            store.ending([entrance.device_id], entrance.at, None).cte("ended"),
            insert(credentials)
            .values(
                secret_hash=entrance.secret_hash,
                device_id=entrance.device_id,
                created_at=entrance.at,
            )
            .cte("given"),
        ]
    if entrance.place:
        named = func.lower(cohorts.c.name) == entrance.place.strip().lower()
        lists = select(cohorts.c.id, literal(entrance.device_id)).where(
            named, cohorts.c.filter.is_(None)
        )
        joined = upsert(cohort_members).from_select(["cohort_id", "device_id"], lists)
        beside.append(joined.on_conflict_do_nothing().cte("joined"))
    query = select(arrived.c.id, select(used.c.id).scalar_subquery()).add_cte(*beside)
    arrival_id, was_used = connection.execute(query).one()
    return arrival_id if was_used is not None else None
