"""Lists of devices by key, and as tables."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, fields, replace
from datetime import date, datetime
from typing import Any

import polars as pl
from sqlalchemy import (
    ColumnElement,
    Connection,
    Select,
    Text,
    and_,
    cast,
    func,
    literal,
    select,
)
from sqlalchemy.dialects.postgresql import aggregate_order_by

from sortitor.core.filters import Comparison, Filter, conjuncts
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Ownership, Stage
from sortitor.store import bulk
from sortitor.store.cohorts import (
    filters_of,
    moving,
)
from sortitor.store.devices.select import an_identifier, found_by, matching, searched
from sortitor.store.engine import plan_anew
from sortitor.store.filters import DESCRIBED, columns, leading, said_of, spoken_of
from sortitor.store.rows import among, beyond, read_all
from sortitor.store.tables import (
    ORDERS,
    devices,
    people,
    sighted_devices,
    sightings,
)


@dataclass(frozen=True, slots=True)
class LineRow:
    """A device as a line of a list, with its person and one identifier of each kind; `sort_key` is
    what the list is ordered by.
    """

    id: int
    name: str | None
    stage: Stage
    platform: str | None
    os_version: str | None
    maker: str | None
    model: str | None
    ownership: Ownership
    person_id: int | None
    person_name: str | None
    site: str | None
    asset_tag: str | None
    flag: str | None
    retire_on: date | None
    last_seen_at: datetime | None
    enrolled_at: datetime | None
    created_at: datetime
    serial: str | None
    imei: str | None
    sort_key: Any


@dataclass(frozen=True, slots=True)
class ShortRow:
    """What a line of a preview says of a device."""

    id: int
    name: str | None
    platform: str | None
    model: str | None
    site: str | None
    ownership: Ownership
    serial: str | None


#: So many devices are looked at in their order, at first and at most, before all that fit are
#: gathered.
_LOOK, _WALK = 2_000, 20_000


def page(
    connection: Connection,
    selection: Selection,
    now: datetime,
    sort: str,
    descending: bool,
    after: Sequence[Any] | None,
    limit: int,
) -> list[LineRow]:
    """Up to `limit` devices after the key `(sort value, id)`, with their person and one identifier
    of each kind.

    Where many fit, the page is soon full when they are walked through in their order; where few do,
    gathering them all is quicker.
    Which it is depends on how filter and order go together, which the planner cannot know: left to
    it, it may walk through the whole fleet.
    The transaction must see one moment: members are looked for where their cohort's filter says
    that they are.
    """
    plan_anew(connection)
    key, condition, few = ORDERS[sort], matching(selection, now), None
    on_the_way = condition
    if selection.query:
        few = found_by(connection, selection, _LOOK)
        beside = matching(replace(selection, query=None), now)
        on_the_way = and_(searched(selection), beside)
        condition = condition if few is None else and_(among(devices.c.id, few), beside)
    rest = leading(_said(connection, selection), sort, now)
    if after is not None:
        rest = and_(rest, beyond(key, devices.c.id, after, descending))

    def first(
        keys: ColumnElement[Any], ids: ColumnElement[Any], query: Select[Any], number: int
    ) -> Select[Any]:
        return query.order_by(*((keys.desc(), ids.desc()) if descending else (keys, ids))).limit(
            number
        )

    needed = dict.fromkeys([devices.c.id, *spoken_of(on_the_way)])

    def walk(reach: int) -> list[LineRow]:
        walked = first(
            key, devices.c.id, select(*needed, key.label("key")).where(rest), reach
        ).subquery()
        fitting = select(walked.c.id, walked.c.key).where(said_of(walked, on_the_way))
        return _lines(connection, first(walked.c.key, walked.c.id, fitting, limit), descending)

    # Few devices at which a text is found are at hand.
    found = [] if few is not None else walk(_LOOK)
    # Half as far again as it takes at the rate of the first look.
    reach = _LOOK * limit * 3 // (2 * max(len(found), 1))
    if len(found) < limit and reach <= _WALK and few is None:
        found = walk(reach)
    if len(found) == limit:
        return found
    gathered = (
        select(devices.c.id, key.label("key"))
        .where(rest, condition)
        .cte()
        .prefix_with("MATERIALIZED")
    )
    return _lines(
        connection, first(gathered.c.key, gathered.c.id, select(gathered), limit), descending
    )


def _said(connection: Connection, selection: Selection) -> list[Filter]:
    """What a selection's filter says all at once, and what the cohorts that it is of say of every
    member: in one moment the same.
    """
    parts = [*conjuncts(selection.filter)]
    names = [
        str(part.value)
        for part in parts
        if isinstance(part, Comparison) and (part.attribute, part.operator) == ("cohorts", "eq")
    ]
    if names or selection.cohort_id is not None:
        parts += [
            part
            for found in filters_of(connection, selection.cohort_id, names)
            for part in conjuncts(found)
        ]
    return parts


_OF_A_LINE = [devices.c[field.name] for field in fields(LineRow) if field.name in devices.c]


def _lines(connection: Connection, chosen: Select[Any], descending: bool) -> list[LineRow]:
    """The devices chosen as `id, key`, in the order of the key, as lines of a list."""
    few = chosen.subquery()
    query = (
        select(
            *_OF_A_LINE,
            sightings.c.last_seen_at,
            people.c.name.label("person_name"),
            few.c.key.label("sort_key"),
            an_identifier("serial"),
            an_identifier("imei"),
        )
        .select_from(sighted_devices)
        .join(few, few.c.id == devices.c.id)
        .outerjoin(people, people.c.id == devices.c.person_id)
    )
    keys: tuple[ColumnElement[Any], ...] = (few.c.key, few.c.id)
    if descending:
        keys = tuple(key.desc() for key in keys)
    return read_all(connection, query.order_by(*keys), LineRow)


#: A table goes out in parts of so many devices, so that nobody holds the fleet.
_PART = 20_000


def numbers_of(connection: Connection, selection: Selection, now: datetime) -> pl.Series:
    """The numbers of a selection, in order: 8 bytes a device."""
    chosen = select(devices.c.id).where(matching(selection, now)).subquery()
    # As one text: a million rows of one number each take the driver longer than the database.
    text = func.string_agg(cast(chosen.c.id, Text), aggregate_order_by(literal("\n"), chosen.c.id))
    found = connection.execute(select(text)).scalar_one()
    return pl.Series([found], dtype=pl.String).str.split("\n").explode().drop_nulls().cast(pl.Int64)


def table(
    connection: Connection, ids: pl.Series, now: datetime, names: Sequence[str], masked: bool
) -> Iterator[pl.DataFrame]:
    """Devices as text columns, one per attribute, in parts and at least one; `masked` keeps of
    personal devices' identifiers the last four characters.
    """
    said = columns(names, now, masked, moving(connection) if "cohorts" in names else {})
    query = select(*said).select_from(DESCRIBED).order_by(devices.c.id)
    for first in range(0, max(len(ids), 1), _PART):
        these = among(devices.c.id, ids.slice(first, _PART))
        yield bulk.copy_out(connection, query.where(these), names)


def some(connection: Connection, condition: ColumnElement[bool], limit: int) -> list[ShortRow]:
    """The first devices that fit."""
    query = select(
        devices.c.id,
        devices.c.name,
        devices.c.platform,
        devices.c.model,
        devices.c.site,
        devices.c.ownership,
        an_identifier("serial"),
    )
    first = query.where(condition).order_by(devices.c.id).limit(limit)
    return read_all(connection, first, ShortRow)
