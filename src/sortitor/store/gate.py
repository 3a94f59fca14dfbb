"""What the gate is asked of the whole fleet and of past arrivals, in kinds that are alike to it.

A million devices are a few hundred kinds: only what the policies speak of tells two apart. Core
decides on each kind once.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import (
    ARRAY,
    ColumnElement,
    Connection,
    FromClause,
    Row,
    Select,
    Subquery,
    Text,
    and_,
    cast,
    false,
    func,
    literal,
    or_,
    select,
    text,
    type_coerce,
)
from sqlalchemy.dialects.postgresql import JSONB, JSONPATH, array

from sortitor.core.gate.replay import Audience, Spoken
from sortitor.core.lifecycle import COUNTED
from sortitor.core.vocabulary import Basis, Outcome, Platform
from sortitor.store.filters import compiled, facts, facts_of_one
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
    found = facts_of_one(connection, device_id, now)
    return {name: value for name, value in found.items() if value not in (None, [], "")}


def known_of_several(
    connection: Connection, ids: Sequence[int], now: datetime
) -> dict[int, dict[str, Any]]:
    """Device → what was declared of it, of those of which anything was."""
    declared = select(devices.c.id).where(among(devices.c.id, ids), DECLARED)
    numbers = list(connection.execute(declared).scalars())
    return facts(connection, numbers, now) if numbers else {}


def fleet_kinds(connection: Connection, spoken: Spoken, now: datetime) -> list[Alike]:
    """The devices in use of which the gates speak differently, by kind."""
    alike = _fleet(spoken, now).subquery()
    columns = [column for column in alike.c if column.name != "id"]
    names = [column.name for column in columns]
    return [
        Alike(dict(zip(names, row, strict=False)), row.number, row.example_id, row.key)
        for row in _grouped(connection, alike, columns)
    ]


def fleet_number(connection: Connection) -> int:
    """How many devices are in use."""
    query = select(func.count()).where(devices.c.stage.in_(COUNTED))
    return connection.execute(query).scalar_one()


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
    """The arrivals since a moment of which the gates speak differently, as they were then, by
    kind.
    """
    alike = _arrived(spoken, since).subquery()
    found = []
    for row in _grouped(connection, alike, [alike.c.facts, alike.c.flags, alike.c.known]):
        flags = dict(zip(_flags(spoken), row.flags, strict=True))
        found.append(
            Alike({**row.facts, **flags, **row.known}, row.number, row.example_id, row.key)
        )
    return found


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


def arrivals_number(connection: Connection, since: datetime) -> tuple[int, int]:
    """How many arrivals since a moment have their facts, and how many were decided before facts
    were kept.
    """
    decided = arrivals.c.outcome != Outcome.ASKED
    without = func.count().filter(arrivals.c.facts.is_(None), decided)
    query = select(func.count(arrivals.c.facts), without).where(arrivals.c.at >= since)
    row = connection.execute(query).one()
    return row[0], row[1]


def _grouped(
    connection: Connection, alike: Subquery, columns: Sequence[ColumnElement[Any]]
) -> list[Row[Any]]:
    """`(columns…, number, example, key)` of the kinds."""
    query = select(*columns, func.count().label("number"), func.min(alike.c.id).label("example_id"))
    kinds = query.group_by(*columns).subquery()
    key = cast(func.row(*(kinds.c[column.name] for column in columns)), Text)
    # Many small groups of a large table: sorting it would take longer than keeping them.
    connection.execute(text("SET LOCAL enable_sort = off"))
    found = [*connection.execute(select(kinds, key.label("key")))]
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
    # Quotas are counted by person, not by kind of device.
    matters = _is_of(devices.c.platform, spoken.platforms)
    return select(*columns).select_from(table).where(devices.c.stage.in_(COUNTED), matters)


def _is_of(
    platform: ColumnElement[Any], platforms: Collection[Platform | None]
) -> ColumnElement[bool]:
    named = platform.in_(sorted(one for one in platforms if one is not None))
    return or_(named, platform.is_(None)) if None in platforms else named


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


def people_kinds(connection: Connection, spoken: Spoken) -> list[tuple[frozenset[str], int]]:
    """The audiences that people who are here are in, by label, and how many are in just these."""
    named = [one for one in spoken.audiences if one.groups or one.people]
    here, number = people.c.left_at.is_(None), func.count().label("number")
    if not named:
        return [(frozenset(), connection.execute(select(number).where(here)).scalar_one())]
    inside = _people_inside(named)
    flags = [func.coalesce(inside.c[one.label], False).label(one.label) for one in named]
    joined = people.outerjoin(inside, inside.c.person_id == people.c.id)
    query = select(*flags, number).select_from(joined).where(here).group_by(*flags)
    return [
        (frozenset(one.label for one in named if row._mapping[one.label]), row.number)
        for row in connection.execute(query)
    ]


def _flags(spoken: Spoken) -> dict[str, ColumnElement[bool]]:
    """What is asked of the facts of an arrival: name → condition."""
    kept = arrivals.c.facts
    flags = {
        "has_person": kept["person"].astext.is_not(None),
        "is_known": kept["known"].is_not(None) if spoken.attributes else false(),
    }
    for one in spoken.audiences:
        if one.groups or one.people:
            inside = or_(
                kept["groups"].has_any(cast(literal(sorted(one.groups)), ARRAY(Text))),
                func.lower(kept["person"].astext).in_(sorted(one.people)),
            )
            flags[one.label] = func.coalesce(inside, False)
    return flags


def _reaches(holding: ColumnElement[Any], lowest: int) -> ColumnElement[bool]:
    """Whether somebody may have had so many devices (lines of platform, ownership, number) that a
    quota kept another one out: a rough answer, since adding them up would stand in the way of
    sharing the work out.
    """
    several = func.jsonb_path_exists(holding, cast("$[*][2] ? (@ > 1)", JSONPATH))
    return and_(holding.astext != "[]", or_(several, func.jsonb_array_length(holding) >= lowest))


def _arrived(spoken: Spoken, since: datetime) -> Select[Any]:
    kept = arrivals.c.facts
    unspoken = ["person", "groups", "known"]
    for name, is_spoken in (
        ("os_version", spoken.versions),
        ("maker", spoken.makers),
        ("model", spoken.models),
    ):
        if not is_spoken:
            unspoken.append(name)
    known = [part for name in spoken.attributes for part in (f"known_{name}", kept["known"][name])]
    known_facts = func.jsonb_build_object(*known, type_=JSONB) if known else literal({}, JSONB)
    # Few parts to compare, not one for each fact: so the database can share the work out.
    query = select(
        arrivals.c.id,
        type_coerce(kept.op("-")(cast(literal(unspoken, ARRAY(Text)), ARRAY(Text))), JSONB).label(
            "facts"
        ),
        array(_flags(spoken).values()).label("flags"),
        known_facts.label("known"),
    )
    platform = kept["platform"].astext
    counted = and_(_is_of(platform, spoken.counted), _reaches(kept["holding"], spoken.lowest_quota))
    matters = or_(_is_of(platform, spoken.platforms), counted)
    return query.where(arrivals.c.at >= since, kept.is_not(None), matters)
