"""Kits: whom they are given to, the facts of devices, and what devices of the same facts get."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Connection,
    and_,
    bindparam,
    case,
    cast,
    delete,
    func,
    insert,
    literal,
    or_,
    select,
    true,
    union_all,
    update,
)
from sqlalchemy.dialects import postgresql
from sqlalchemy.dialects.postgresql import ARRAY, array

from sortitor.core.filters import Filter
from sortitor.core.vocabulary import GivenAs, Giving, Ownership, Stage
from sortitor.store.filters import compiled
from sortitor.store.rows import among, read_all
from sortitor.store.settling import gather_facts, mark_anew, written
from sortitor.store.tables import (
    checklists,
    cohort_members,
    cohorts,
    device_kits,
    devices,
    givings,
    installation,
    items,
    kit_conditions,
    kit_outcomes,
    kit_secrets,
    kits,
    sheets,
)

#: Whom something is given to: cohorts by number, or (None) everyone.
Reach = frozenset[int] | None


def mark(connection: Connection) -> str:
    """Another one after every change of what is given, or of a cohort."""
    query = select(installation.c.value).where(installation.c.key == "cohorts")
    return str(connection.execute(query).scalar_one())


def cohort_numbers(connection: Connection) -> dict[str, tuple[int, bool]]:
    """Name in lower case → (number, whether time moves it)."""
    query = select(func.lower(cohorts.c.name), cohorts.c.id, cohorts.c.moving)
    return {name: (number, moving) for name, number, moving in connection.execute(query)}


# ---- what is given


def write_givings(
    connection: Connection,
    kind: Giving,
    subject_id: int,
    given: Iterable[tuple[int | None, GivenAs]],
) -> None:
    """Whom a document is given to, instead of what was said before."""
    connection.execute(
        delete(givings).where(givings.c.kind == kind, givings.c.subject_id == subject_id)
    )
    lines = [
        {"kind": kind, "subject_id": subject_id, "cohort_id": cohort_id, "word": word}
        for cohort_id, word in given
    ]
    if lines:
        connection.execute(insert(givings), lines)


@dataclass(frozen=True, slots=True)
class UserRow:
    """A document that is given to a cohort."""

    kind: Giving
    id: int
    name: str


_DOCUMENTS = {
    Giving.ITEM: items,
    Giving.KIT: kits,
    Giving.SHEET: sheets,
    Giving.CHECKLIST: checklists,
}


def given_by(connection: Connection, cohort: str) -> list[UserRow]:
    """The documents that are given to the cohort of a name."""
    parts = [
        select(givings.c.kind, table.c.id, table.c.name)
        .join(givings, and_(givings.c.kind == kind, givings.c.subject_id == table.c.id))
        .join(cohorts, cohorts.c.id == givings.c.cohort_id)
        .where(func.lower(cohorts.c.name) == func.lower(cohort))
        for kind, table in _DOCUMENTS.items()
    ]
    return read_all(connection, union_all(*parts).order_by("kind", "name"), UserRow)


def given_cohorts(connection: Connection) -> frozenset[int]:
    """The cohorts that anything is given to."""
    query = select(givings.c.cohort_id).where(givings.c.cohort_id.is_not(None)).distinct()
    return frozenset(connection.execute(query).scalars())


# ---- conditions


@dataclass(frozen=True, slots=True)
class ConditionRow:
    """A condition that is asked of everyone, or of some cohorts."""

    id: int
    filter: str
    everyone: bool
    cohorts: list[int]

    @property
    def reach(self) -> Reach:
        """Whom it is asked of."""
        return None if self.everyone else frozenset(self.cohorts)


def conditions(connection: Connection) -> dict[str, ConditionRow]:
    """Filter → the condition, also those that nobody is asked for now."""
    query = select(kit_conditions)
    return {row.filter: row for row in read_all(connection, query, ConditionRow)}


def write_conditions(connection: Connection, wanted: Mapping[str, Reach]) -> None:
    """Ask for these conditions, each of those, and for no others."""
    for text, row in conditions(connection).items():
        reach = wanted.get(text, frozenset())
        if row.reach != reach:
            values = {"everyone": reach is None, "cohorts": sorted(reach or ())}
            connection.execute(
                update(kit_conditions).where(kit_conditions.c.id == row.id).values(values)
            )
    known = conditions(connection)
    new = [
        {"filter": text, "everyone": reach is None, "cohorts": sorted(reach or ())}
        for text, reach in sorted(wanted.items())
        if text not in known
    ]
    if new:
        connection.execute(insert(kit_conditions), new)


# ---- facts


def gather(connection: Connection, reach: Reach) -> None:
    """Work out the facts of everyone, or of the members of some cohorts, once what is given has
    become another.
    """
    mark_anew(connection)
    if reach is None:
        gather_facts(connection, "SELECT id FROM devices")
    elif reach:
        gather_facts(connection, written(_members(reach)), _sure(reach))


def gather_of_cohort(connection: Connection, cohort_id: int) -> None:
    """The same for those who are in a cohort and those who were, once its members have become
    others.
    """
    if cohort_id not in given_cohorts(connection):
        return
    had = (
        select(device_kits.c.device_id.label("id"))
        .join(kit_outcomes, kit_outcomes.c.key == device_kits.c.key)
        .where(kit_outcomes.c.facts.contains(_numbers([cohort_id])))
    )
    has = _members(frozenset({cohort_id}))
    gather_facts(connection, f"{written(had)} UNION {written(has)}")


def _sure(reach: Reach) -> int | None:
    """The cohort that everyone who is reached is in, where that is known by it alone."""
    return next(iter(reach)) if reach is not None and len(reach) == 1 else None


def _numbers(these: Sequence[int]) -> ColumnElement[Any]:
    return cast(array[Any](list(these)), ARRAY(BigInteger))


def _members(reach: frozenset[int]) -> Any:
    inside = cohort_members.c.cohort_id.in_(sorted(reach))
    found = select(cohort_members.c.device_id.label("id")).where(inside)
    return found if len(reach) == 1 else found.distinct()


def _those_of(values: Sequence[Any]) -> ColumnElement[Any]:
    """Those of some numbers that are there, as an array."""
    if not values:
        return _numbers([])
    return func.array_remove(cast(array[Any](list(values)), ARRAY(BigInteger)), None)


@dataclass(frozen=True, slots=True)
class GroupRow:
    """How many devices have the same facts: kept ones, and of others asked for beside them the
    cohorts and (by place) the conditions that hold; with one of the devices.
    """

    facts: list[int]
    cohorts: list[int]
    holding: list[int]
    devices: int
    first: int


def groups(
    connection: Connection,
    reach: Reach,
    other_cohorts: Collection[int],
    other_conditions: Sequence[Filter],
    now: datetime,
) -> list[GroupRow]:
    """Everyone who is not retired, or the members of some cohorts, by what decides over them."""
    each = [case((compiled(one, now), place)) for place, one in enumerate(other_conditions)]
    # Each cohort by itself: gathered by device, members would be sorted and put together twice.
    inside: list[ColumnElement[Any]] = []
    joined = devices.outerjoin(device_kits, device_kits.c.device_id == devices.c.id)
    for number in sorted(other_cohorts):
        if number == _sure(reach):
            inside.append(literal(number))
            continue
        members = cohort_members.alias(f"inside_{number}")
        mine = and_(members.c.device_id == devices.c.id, members.c.cohort_id == number)
        joined = joined.outerjoin(members, mine)
        inside.append(members.c.cohort_id)
    alike = (
        select(
            device_kits.c.key,
            _those_of(inside).label("cohorts"),
            _those_of(each).label("holding"),
            func.count().label("devices"),
            func.min(devices.c.id).label("first"),
        )
        .select_from(joined)
        .where(devices.c.stage != Stage.RETIRED, _within(reach))
        .group_by(device_kits.c.key, "cohorts", "holding")
        .subquery("alike")
    )
    query = select(
        kit_outcomes.c.facts,
        alike.c.cohorts,
        alike.c.holding,
        alike.c.devices,
        alike.c.first,
    ).join(alike, kit_outcomes.c.key == func.coalesce(alike.c.key, NO_FACTS))
    return read_all(connection, query, GroupRow)


@dataclass(frozen=True, slots=True)
class AlikeRow:
    """How many devices have the same facts."""

    facts: list[int]
    devices: int


def groups_of(connection: Connection, ids: Sequence[int]) -> list[AlikeRow]:
    """Some devices by what decides over them."""
    key = func.coalesce(device_kits.c.key, NO_FACTS)
    alike = (
        select(key.label("key"), func.count().label("devices"))
        .select_from(devices)
        .outerjoin(device_kits, device_kits.c.device_id == devices.c.id)
        .where(among(devices.c.id, ids))
        .group_by(key)
        .subquery("alike")
    )
    query = select(kit_outcomes.c.facts, alike.c.devices).join(
        alike, kit_outcomes.c.key == alike.c.key
    )
    return read_all(connection, query, AlikeRow)


def _within(reach: Reach) -> ColumnElement[bool]:
    if reach is None:
        return true()
    return devices.c.id.in_(_members(reach))


def facts_of(connection: Connection, device_id: int) -> list[int]:
    """What decides over a device: cohorts, and below zero conditions."""
    query = select(device_kits.c.facts).where(device_kits.c.device_id == device_id)
    return list(connection.execute(query).scalar_one_or_none() or ())


# ---- outcomes


@dataclass(frozen=True, slots=True)
class OutcomeRow:
    """What devices of the same facts get."""

    key: int
    facts: list[int]
    revision: str | None


def outcomes(connection: Connection, reach: Reach) -> list[OutcomeRow]:
    """Those of everyone, or those that a member of some cohorts may have and those that have not
    been worked out yet.
    """
    query = select(kit_outcomes.c.key, kit_outcomes.c.facts, kit_outcomes.c.revision)
    if reach is not None:
        concerned = kit_outcomes.c.facts.overlap(_numbers(sorted(reach)))
        query = query.where(or_(concerned, kit_outcomes.c.revision.is_(None)))
    return read_all(connection, query.order_by(kit_outcomes.c.key), OutcomeRow)


def waiting(connection: Connection) -> bool:
    """Whether any has not been worked out yet."""
    query = select(select(kit_outcomes.c.key).where(kit_outcomes.c.revision.is_(None)).exists())
    return bool(connection.execute(query).scalar_one())


@dataclass(frozen=True, slots=True)
class Outcome:
    """What is worked out of facts."""

    key: int
    revision: str
    required: tuple[int, ...]
    offered: tuple[int, ...]
    sheet_id: int | None
    checklist_id: int | None


def write_outcomes(connection: Connection, found: Sequence[Outcome]) -> None:
    """Keep what was worked out."""
    if not found:
        return
    columns = ("revision", "required", "offered", "sheet_id", "checklist_id")
    statement = (
        update(kit_outcomes)
        .where(kit_outcomes.c.key == bindparam("of"))
        .values({name: bindparam(name) for name in columns})
    )
    lines = [
        {"of": one.key, **{name: _plain(getattr(one, name)) for name in columns}} for one in found
    ]
    connection.execute(statement, lines)


def _plain(value: Any) -> Any:
    return list(value) if isinstance(value, tuple) else value


def sweep_outcomes(connection: Connection) -> None:
    """Forget what no device has any more; by schedule, while nothing is settled."""
    has = select(device_kits.c.device_id).where(device_kits.c.key == kit_outcomes.c.key)
    gone = and_(func.cardinality(kit_outcomes.c.facts) > 0, ~has.exists())
    connection.execute(delete(kit_outcomes).where(gone))


def revision_of(connection: Connection, device_id: int) -> str | None:
    """The digest of what a device gets; None: it has not been worked out yet."""
    query = select(kit_outcomes.c.revision).where(kit_outcomes.c.key == _key_of(device_id))
    return connection.execute(query).scalar_one_or_none()


#: The key of a device of which nothing that decides is known.
NO_FACTS = func.hash_array_extended(cast(array[Any]([]), ARRAY(BigInteger)), 0)


def _key_of(device_id: int) -> ColumnElement[int]:
    key = select(device_kits.c.key).where(device_kits.c.device_id == device_id)
    return func.coalesce(key.scalar_subquery(), NO_FACTS, type_=BigInteger)


@dataclass(frozen=True, slots=True)
class CountRow:
    """How many devices have the same outcome."""

    facts: list[int]
    devices: int
    carried: int
    personal: int


def counts(connection: Connection, now: datetime) -> list[CountRow]:
    """Devices that are not retired by what decides over them, and how many of them somebody
    carries, or owns.
    """
    alike = (
        select(
            device_kits.c.key,
            func.count().label("devices"),
            func.count(devices.c.person_id).label("carried"),
            func.count().filter(devices.c.ownership == Ownership.PERSONAL).label("personal"),
        )
        .select_from(devices)
        .outerjoin(device_kits, device_kits.c.device_id == devices.c.id)
        .where(devices.c.stage != Stage.RETIRED)
        .group_by(device_kits.c.key)
        .subquery("alike")
    )
    query = select(kit_outcomes.c.facts, alike.c.devices, alike.c.carried, alike.c.personal).join(
        alike, kit_outcomes.c.key == func.coalesce(alike.c.key, NO_FACTS)
    )
    return read_all(connection, query, CountRow)


# ---- secrets


def keep_secret(connection: Connection, mark: str, sealed: bytes, now: datetime) -> None:
    """Keep a secret under its mark; one that is kept stays."""
    line = {"mark": mark, "sealed": sealed, "at": now}
    connection.execute(postgresql.insert(kit_secrets).values(line).on_conflict_do_nothing())


def secret(connection: Connection, mark: str) -> bytes | None:
    """The encrypted secret of a mark."""
    query = select(kit_secrets.c.sealed).where(kit_secrets.c.mark == mark)
    return connection.execute(query).scalar_one_or_none()


def secrets(connection: Connection) -> dict[str, bytes]:
    """Mark → encrypted secret, of all of them; held until the end of the transaction."""
    query = select(kit_secrets.c.mark, kit_secrets.c.sealed).order_by(kit_secrets.c.mark)
    return {mark: sealed for mark, sealed in connection.execute(query.with_for_update())}


def reseal(connection: Connection, mark: str, sealed: bytes) -> None:
    """Keep a secret under another encryption."""
    connection.execute(update(kit_secrets).where(kit_secrets.c.mark == mark).values(sealed=sealed))
