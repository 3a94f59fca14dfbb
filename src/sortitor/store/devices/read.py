"""One device with all its facts; facts of a selection as frames."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, fields
from datetime import date, datetime
from typing import Any

import polars as pl
from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Connection,
    Text,
    and_,
    bindparam,
    case,
    exists,
    func,
    literal,
    select,
    true,
)
from sqlalchemy.dialects.postgresql import ARRAY, array

from sortitor.core.filters import ATTRIBUTES, Filter
from sortitor.core.naming.templates import FIELDS as NAMING_FIELDS
from sortitor.core.naming.templates import TAG, Template
from sortitor.core.previews import called
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Basis, IdentifierKind, Ownership, Platform, Stage
from sortitor.store import bulk
from sortitor.store.cohorts import (
    moving,
)
from sortitor.store.devices.select import an_identifier, matching
from sortitor.store.filters import DESCRIBED, columns, compiled, held, in_cohorts
from sortitor.store.rows import among, read_all, read_one
from sortitor.store.tables import (
    cohorts,
    devices,
    identifiers,
    people,
    sighted_devices,
    sightings,
)


@dataclass(frozen=True, slots=True)
class QuotaRow:
    """What quotas ask of a device, and what it is called: where thousands are read at once."""

    id: int
    stage: Stage
    platform: Platform | None
    os_version: str | None
    ownership: Ownership
    person_id: int | None
    person_name: str | None
    name: str | None
    model: str | None

    @property
    def label(self) -> str:
        """What it is called, where its serial number is not for everybody's eyes."""
        return called(self.id, self.name, self.model)


@dataclass(frozen=True, slots=True)
class DeviceRow(QuotaRow):
    """A device with its person."""

    manual: list[str]
    stage_at: datetime
    flag: str | None
    maker: str | None
    product_code: str | None
    ownership_basis: Basis
    person_user_name: str | None
    name_basis: str | None
    site: str | None
    department: str | None
    asset_tag: str | None
    tags: list[str]
    note: str | None
    order_name: str | None
    purchase_order: str | None
    supplier: str | None
    purchased_on: date | None
    warranty_until: date | None
    details: dict[str, Any]
    lot_id: int | None
    lot_row: int | None
    created_at: datetime
    enrolled_at: datetime | None
    last_seen_at: datetime | None
    retire_on: date | None


@dataclass(frozen=True, slots=True)
class IdentifierRow:
    """One identifier, normalised and as it was given."""

    kind: IdentifierKind
    value: str
    given: str | None


@dataclass(frozen=True, slots=True)
class InCohortRow:
    """A cohort that a device is in."""

    id: int
    name: str


def one(connection: Connection, device_id: int, lock: bool = False) -> DeviceRow | None:
    """One device; `lock` holds its row until the end of the transaction."""
    query = (
        select(
            devices,
            sightings.c.last_seen_at,
            people.c.name.label("person_name"),
            people.c.user_name.label("person_user_name"),
        )
        .select_from(sighted_devices)
        .outerjoin(people, people.c.id == devices.c.person_id)
        .where(devices.c.id == device_id)
    )
    return read_one(connection, query.with_for_update(of=devices) if lock else query, DeviceRow)


@dataclass(frozen=True, slots=True)
class BriefRow:
    """A device in a line of a list."""

    id: int
    name: str | None
    platform: Platform | None
    os_version: str | None
    ownership: Ownership
    site: str | None
    person_name: str | None
    model: str | None

    @property
    def label(self) -> str:
        """What it is called, where its serial number is not for everybody's eyes."""
        return called(self.id, self.name, self.model)


def several(connection: Connection, ids: Sequence[int]) -> dict[int, BriefRow]:
    """Device → its line."""
    names = ("id", "name", "platform", "os_version", "ownership", "site", "model")
    query = (
        select(*(devices.c[name] for name in names), people.c.name.label("person_name"))
        .outerjoin(people, people.c.id == devices.c.person_id)
        .where(among(devices.c.id, ids))
    )
    return {row.id: row for row in read_all(connection, query, BriefRow)}


def waiting(connection: Connection, ids: Sequence[int], lock: bool) -> dict[int, bool]:
    """Device → whether it waits for a coordinator; `lock` holds them, in one order for all."""
    query = (
        select(devices.c.id, devices.c.stage == Stage.PARKED)
        .where(among(devices.c.id, ids))
        .order_by(devices.c.id)
    )
    found = connection.execute(query.with_for_update() if lock else query)
    return {number: waits for number, waits in found}


def quota_rows(connection: Connection, ids: Sequence[int]) -> dict[int, QuotaRow]:
    """Device → its row."""
    columns = (devices.c[one.name] for one in fields(QuotaRow) if one.name in devices.c)
    query = (
        select(*columns, people.c.name.label("person_name"))
        .outerjoin(people, people.c.id == devices.c.person_id)
        .where(among(devices.c.id, ids))
    )
    return {row.id: row for row in read_all(connection, query, QuotaRow)}


def identifiers_of(connection: Connection, device_id: int) -> list[IdentifierRow]:
    """What one device is known by."""
    query = (
        select(identifiers)
        .where(identifiers.c.device_id == device_id)
        .order_by(identifiers.c.kind.desc(), identifiers.c.value)
    )
    return read_all(connection, query, IdentifierRow)


def cohorts_of(connection: Connection, device_id: int, now: datetime) -> list[InCohortRow]:
    """The cohorts that one device is in now."""
    names = (
        select(in_cohorts(now, moving(connection)).label("names"))
        .where(devices.c.id == device_id)
        .subquery()
    )
    query = (
        select(cohorts.c.id, cohorts.c.name)
        .join(names, cohorts.c.name == func.any(names.c.names))
        .order_by(func.lower(cohorts.c.name))
    )
    return read_all(connection, query, InCohortRow)


@dataclass(frozen=True, slots=True)
class TurnRow(QuotaRow):
    """A device that is to be given, retired or brought back by hand; `name_taken`: another one that
    is in use has its name.
    """

    enrolled_at: datetime | None
    site: str | None
    serial: str | None
    flag: str | None
    held: bool
    name_taken: bool


_TURNED = (
    *("id", "name", "stage", "platform", "os_version", "ownership", "model", "enrolled_at"),
    *("site", "person_id", "flag"),
)


def turn_rows(
    connection: Connection, selection: Selection, now: datetime, lock: bool = False
) -> list[TurnRow]:
    """The devices of a selection, by number; `lock` holds them, in one order for all."""
    other = devices.alias("other")
    taken = exists(
        select(other.c.id).where(
            func.lower(other.c.name) == func.lower(devices.c.name),
            other.c.stage != Stage.RETIRED,
            other.c.id != devices.c.id,
            other.c.name.is_not(None),
        )
    )
    query = (
        select(
            *(devices.c[name] for name in _TURNED),
            people.c.name.label("person_name"),
            an_identifier("serial"),
            held(now).label("held"),
            taken.label("name_taken"),
        )
        .outerjoin(people, people.c.id == devices.c.person_id)
        .where(matching(selection, now))
        .order_by(devices.c.id)
    )
    return read_all(connection, query.with_for_update(of=devices) if lock else query, TurnRow)


def selected_facts(connection: Connection, selection: Selection, now: datetime) -> pl.DataFrame:
    """`device_id, stage, name, name_basis, ownership, ownership_basis` of a selection, in order."""
    names = ("id", "stage", "name", "name_basis", "ownership", "ownership_basis")
    rows = connection.execute(
        select(*(devices.c[n] for n in names))
        .where(matching(selection, now))
        .order_by(devices.c.id)
    ).all()
    schema = dict.fromkeys(("device_id", *names[1:]), pl.String) | {"device_id": pl.Int64}
    return pl.DataFrame([tuple(row) for row in rows], schema=schema, orient="row")


def naming_facts(
    connection: Connection,
    selection: Selection,
    now: datetime,
    fields: Collection[str],
    audiences: Sequence[Filter | None] = (),
) -> pl.DataFrame:
    """What templates speak of, for the devices of the selection: `device_id`, `name`,
    `name_basis`, the fields as text, and whether each of the filters holds the device (`fits_0`,
    `fits_1` …).
    """
    fields = sorted({"platform", "serial", "ownership", *fields})
    fits = [literal(True) if one is None else compiled(one, now) for one in audiences]
    query = (
        select(
            devices.c.id,
            devices.c.name,
            devices.c.name_basis,
            *(_naming_field(field, now) for field in fields),
            *fits,
        )
        .select_from(DESCRIBED)
        .where(matching(selection, now))
        .order_by(devices.c.id)
    )
    holds = [f"fits_{place}" for place in range(len(audiences))]
    names = ("device_id", "name", "name_basis", *fields, *holds)
    return bulk.copy_out(connection, query, names).with_columns(
        pl.col("device_id").cast(pl.Int64), *(pl.col(one) == "t" for one in holds)
    )


def first_fitting(
    connection: Connection,
    templates: Sequence[Template],
    audiences: Sequence[Filter | None],
    now: datetime,
) -> dict[int, tuple[int, list[int]]]:
    """Template's place → how many devices it is the first to fit, and up to four of them; one pass
    over the fleet, without those that are retired.
    """
    if not templates:
        return {}
    fits = [
        and_(
            devices.c.platform.in_(template.platforms) if template.platforms else true(),
            true() if audience is None else compiled(audience, now),
        )
        for template, audience in zip(templates, audiences, strict=True)
    ]
    place = case(*((one, number) for number, one in enumerate(fits))).label("place")
    chosen = select(devices.c.id, place).where(devices.c.stage != Stage.RETIRED).subquery()
    some = [
        func.min(chosen.c.id),
        *(func.min(chosen.c.id).filter(chosen.c.id % 3 == rest) for rest in range(3)),
        func.max(chosen.c.id),
    ]
    query = (
        select(chosen.c.place, func.count(), func.array_remove(array(some), None))
        .where(chosen.c.place.is_not(None))
        .group_by(chosen.c.place)
    )
    return {row[0]: (row[1], sorted(set(row[2]))) for row in connection.execute(query)}


def _naming_field(field: str, now: datetime) -> ColumnElement[Any]:
    """A field of templates as text, as `core.naming.facts` takes it from the facts."""
    if field.startswith(TAG):
        beginning = f"{field.removeprefix(TAG)}:".lower()
        tag = (
            func.unnest(devices.c.tags)
            .table_valued("tag", with_ordinality="place")
            .render_derived()
        )
        begins = func.starts_with(func.lower(tag.c.tag), beginning)
        rest = func.substr(tag.c.tag, len(beginning) + 1)
        query = select(func.nullif(rest, "")).where(begins, rest != "").order_by(tag.c.place)
        return query.limit(1).correlate(devices).scalar_subquery()
    attribute = NAMING_FIELDS[field]
    if ATTRIBUTES[attribute].of == "identifiers":
        return an_identifier(attribute)
    return columns([attribute], now, masked=False, moving={})[0]


_NAMED = and_(devices.c.name.is_not(None), devices.c.stage != Stage.RETIRED)


def names_in_use(connection: Connection, names: pl.Series) -> pl.Series:
    """Those of these lower-case names that devices have which are not retired."""
    wanted = func.unnest(literal(names.to_list(), ARRAY(Text))).table_valued("name")
    name = func.lower(devices.c.name)
    query = select(name).join(wanted, wanted.c.name == name).where(_NAMED)
    found = connection.execute(query).scalars().all()
    return pl.Series(found, dtype=pl.String)


def highest_in_names(connection: Connection, form: str) -> int:
    """The highest number that the first group of a regular expression finds among the names of
    devices which are not retired.
    """
    name = func.lower(devices.c.name)
    found = func.substring(name, form).cast(BigInteger)
    query = select(func.max(found)).where(_NAMED, name.regexp_match(form))
    return connection.execute(query).scalar_one() or 0


_TAKEN = (
    select(devices.c.id)
    .where(
        func.lower(devices.c.name) == bindparam("name"),
        devices.c.stage != Stage.RETIRED,
        devices.c.id.is_distinct_from(bindparam("device_id", type_=BigInteger)),
        devices.c.name.is_not(None),
    )
    .limit(1)
)


def name_is_free(connection: Connection, name: str, device_id: int | None) -> bool:
    """Whether no other device that is not retired has the name."""
    values = {"name": name.lower(), "device_id": device_id}
    return connection.execute(_TAKEN, values).one_or_none() is None
