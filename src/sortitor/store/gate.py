"""What the gate is asked of the whole fleet and of past arrivals, in kinds that are alike to it.

A million devices are a few hundred kinds: only what the policies speak of tells two apart. Core
decides on each kind once.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import (
    ARRAY,
    ColumnElement,
    Connection,
    FromClause,
    Select,
    Subquery,
    Text,
    and_,
    cast,
    func,
    literal,
    or_,
    select,
    text,
)

from sortitor.core.gate.replay import Audience, Spoken
from sortitor.core.lifecycle import COUNTED
from sortitor.core.vocabulary import Basis, Outcome
from sortitor.store.filters import compiled, facts
from sortitor.store.rows import among
from sortitor.store.tables import arrivals, devices, groups, memberships, people

#: Whoever has a device of a lot, or one whose ownership somebody stated, knew of it beforehand.
DECLARED = or_(
    devices.c.lot_id.is_not(None), devices.c.ownership_basis.in_([Basis.DECLARED, Basis.MANUAL])
)


@dataclass(frozen=True, slots=True)
class Alike:
    """So many devices or arrivals that are the same to the gate; `key` finds them again."""

    facts: dict[str, Any]
    number: int
    example_id: int
    key: str


def known_of(connection: Connection, device_id: int, now: datetime) -> dict[str, Any]:
    """What was declared of a device: attribute → value."""
    found = facts(connection, [device_id], now, {}).get(device_id, {})
    return {name: value for name, value in found.items() if value not in (None, [], "")}


def known_of_several(
    connection: Connection, ids: Sequence[int], now: datetime
) -> dict[int, dict[str, Any]]:
    """Device → what was declared of it, of those of which anything was."""
    declared = select(devices.c.id).where(among(devices.c.id, ids), DECLARED)
    numbers = list(connection.execute(declared).scalars())
    return facts(connection, numbers, now, {}) if numbers else {}


def fleet_kinds(connection: Connection, spoken: Spoken, now: datetime) -> list[Alike]:
    """The devices in use, by kind."""
    return _kinds(connection, _fleet(spoken, now))


def fleet_of(
    connection: Connection,
    spoken: Spoken,
    now: datetime,
    keys: Sequence[str],
    after: int,
    limit: int,
) -> list[tuple[int, str]]:
    """`(device, key)` of the devices of some kinds, by number."""
    return _members(connection, _fleet(spoken, now), keys, after, limit)


def arrival_kinds(connection: Connection, spoken: Spoken, since: datetime) -> list[Alike]:
    """The arrivals since a moment as they were then, by kind."""
    return _kinds(connection, _arrived(spoken, since))


def arrivals_of(
    connection: Connection,
    spoken: Spoken,
    since: datetime,
    keys: Sequence[str],
    after: int,
    limit: int,
) -> list[tuple[int, str]]:
    """`(arrival, key)` of the arrivals of some kinds, by number."""
    return _members(connection, _arrived(spoken, since), keys, after, limit)


def arrivals_without_facts(connection: Connection, since: datetime) -> int:
    """How many arrivals since a moment were decided before their facts were kept."""
    query = (
        select(func.count())
        .select_from(arrivals)
        .where(arrivals.c.at >= since, arrivals.c.facts.is_(None))
        .where(arrivals.c.outcome != Outcome.ASKED)
    )
    return connection.execute(query).scalar_one()


def _kinds(connection: Connection, source: Select[Any]) -> list[Alike]:
    alike = source.subquery()
    columns = [column for column in alike.c if column.name != "id"]
    query = select(
        *columns, func.count().label("number"), func.min(alike.c.id).label("example_id")
    ).group_by(*columns)
    kinds = query.subquery()
    key = cast(func.row(*(kinds.c[column.name] for column in columns)), Text)
    found = []
    # Many small groups of a large table: sorting it would take longer than keeping them.
    connection.execute(text("SET LOCAL enable_sort = off"))
    for row in connection.execute(select(kinds, key.label("key"))):
        facts_of = dict(row._mapping)
        number, example, name = (facts_of.pop(part) for part in ("number", "example_id", "key"))
        found.append(Alike(facts_of, number, example, name))
    connection.execute(text("SET LOCAL enable_sort = on"))
    return found


def _members(
    connection: Connection, source: Select[Any], keys: Sequence[str], after: int, limit: int
) -> list[tuple[int, str]]:
    alike: Subquery = source.subquery()
    key = cast(func.row(*(column for column in alike.c if column.name != "id")), Text)
    wanted = key.in_(select(func.unnest(literal([*keys], ARRAY(Text)))))
    query = select(alike.c.id, key).where(alike.c.id > after, wanted)
    return [(row[0], row[1]) for row in connection.execute(query.order_by(alike.c.id).limit(limit))]


def _fleet(spoken: Spoken, now: datetime) -> Select[Any]:
    columns: list[ColumnElement[Any]] = [
        devices.c.id,
        devices.c.platform,
        devices.c.ownership,
        (devices.c.ownership_basis != Basis.INFERRED).label("declared"),
    ]
    if spoken.versions:
        columns.append(devices.c.os_version)
    if spoken.makers:
        columns.append(devices.c.maker)
    if spoken.models:
        columns.append(devices.c.model)
    table: FromClause = devices
    named = [one for one in spoken.audiences if one.groups or one.people]
    if named:
        inside = _people_inside(named)
        table = devices.outerjoin(inside, inside.c.person_id == devices.c.person_id)
        columns += [inside.c[one.label] for one in named]
    for one in spoken.audiences:
        if one.filter is not None:
            fits = and_(DECLARED, compiled(one.filter, now))
            columns.append(fits.label(f"{one.label}_fits"))
    return select(*columns).select_from(table).where(devices.c.stage.in_(COUNTED))


def _people_inside(audiences: Sequence[Audience]) -> Subquery:
    """Person → which audiences they are in; only people who are in any."""
    named = sorted({group for one in audiences for group in one.groups})
    called = sorted({person for one in audiences for person in one.people})
    user_name, group = func.lower(people.c.user_name), func.lower(groups.c.name)
    columns = [
        func.bool_or(
            or_(
                func.coalesce(group.in_(sorted(one.groups)), False),
                user_name.in_(sorted(one.people)),
            )
        ).label(one.label)
        for one in audiences
    ]
    of_them = (
        select(memberships.c.person_id, memberships.c.group_id)
        .join(groups, groups.c.id == memberships.c.group_id)
        .where(group.in_(named))
        .subquery()
    )
    return (
        select(people.c.id.label("person_id"), *columns)
        .outerjoin(of_them, of_them.c.person_id == people.c.id)
        .outerjoin(groups, groups.c.id == of_them.c.group_id)
        .where(or_(of_them.c.group_id.is_not(None), user_name.in_(called)))
        .group_by(people.c.id)
        .subquery()
    )


def _arrived(spoken: Spoken, since: datetime) -> Select[Any]:
    kept = arrivals.c.facts
    texts = ["platform", "ownership", "stage", "flag", "proof"]
    if spoken.versions:
        texts.append("os_version")
    if spoken.makers:
        texts.append("maker")
    if spoken.models:
        texts.append("model")
    columns: list[ColumnElement[Any]] = [arrivals.c.id]
    columns += [kept[name].astext.label(name) for name in texts]
    columns += [
        kept[name].label(name)
        for name in ("declared", "signin_failed", "in_use", "shown", "holding", "accepted")
    ]
    columns.append(kept["person"].astext.is_not(None).label("has_person"))
    for one in spoken.audiences:
        if one.groups or one.people:
            inside = or_(
                kept["groups"].has_any(cast(literal(sorted(one.groups)), ARRAY(Text))),
                func.lower(kept["person"].astext).in_(sorted(one.people)),
            )
            columns.append(func.coalesce(inside, False).label(one.label))
    if spoken.attributes:
        columns.append(kept["known"].is_not(None).label("is_known"))
        columns += [kept["known"][name].label(f"known_{name}") for name in spoken.attributes]
    return select(*columns).where(arrivals.c.at >= since, kept.is_not(None))
