"""The filter language as SQL: the same meaning as `core.filters.matches`, held to it by a property test."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any, TypeAlias

from sqlalchemy import (
    BigInteger,
    Column,
    ColumnElement,
    Connection,
    Date,
    Integer,
    Text,
    and_,
    case,
    cast,
    exists,
    false,
    func,
    literal,
    not_,
    or_,
    select,
)
from sqlalchemy.dialects.postgresql import ARRAY

from sortitor.core.filters import ATTRIBUTES, Comparison, Filter, Joined, Kind, Not
from sortitor.store.tables import (
    cohort_members,
    cohorts,
    devices,
    groups,
    holds,
    identifiers,
    memberships,
    orders,
    people,
)

#: The present, as a value or as a parameter of a statement that is kept.
Moment: TypeAlias = "datetime | ColumnElement[datetime]"

_COLUMNS: dict[str, Column[Any]] = {
    "stage": devices.c.stage, "platform": devices.c.platform, "ownership": devices.c.ownership, "ownershipBasis": devices.c.ownership_basis, "flag": devices.c.flag,
    "osVersion": devices.c.os_version, "name": devices.c.name, "maker": devices.c.maker, "model": devices.c.model, "productCode": devices.c.product_code, "site": devices.c.site,
    "department": devices.c.department, "assetTag": devices.c.asset_tag, "note": devices.c.note, "order": devices.c.order_name, "purchaseOrder": devices.c.purchase_order,
    "supplier": devices.c.supplier, "purchasedOn": devices.c.purchased_on, "warrantyUntil": devices.c.warranty_until, "enrolledAt": devices.c.enrolled_at,
    "lastSeenAt": devices.c.last_seen_at, "id": devices.c.id, "lot": devices.c.lot_id,
}  # fmt: skip
_PERSON: dict[str, ColumnElement[Any]] = {
    "person.userName": people.c.user_name, "person.name": people.c.name, "person.mail": people.c.mail, "person.department": people.c.department,
    "person.site": people.c.site, "person.left": people.c.left_at.is_not(None),
}  # fmt: skip
_ORDER: dict[str, ColumnElement[Any]] = {"order.supplier": orders.c.supplier, "order.orderedOn": orders.c.ordered_on}
#: When a device last gave a sign of life: its enrolment stands in for one never seen, its entry for one never enrolled.
SEEN = func.coalesce(devices.c.last_seen_at, devices.c.enrolled_at, devices.c.created_at)


def idle_case(now: Moment) -> ColumnElement[int]:
    """Whole days since the last sign of life."""
    days = func.floor(func.extract("epoch", now - SEEN) / 86400)
    return case((days < 0, 0), else_=days).cast(BigInteger)


def _today(now: Moment) -> ColumnElement[Any]:
    return cast(func.timezone("UTC", now), Date)


def held(now: Moment) -> ColumnElement[bool]:
    """Whether somebody keeps the device out of sweeps."""
    return exists(select(holds.c.id).where(holds.c.device_id == devices.c.id, holds.c.ended_at.is_(None), holds.c.until_on >= _today(now)))


def _derived(name: str, now: Moment) -> ColumnElement[Any]:
    if name == "idleDays":
        return idle_case(now)
    if name == "ageDays":
        return _today(now) - func.coalesce(devices.c.purchased_on, cast(func.timezone("UTC", devices.c.created_at), Date))
    return devices.c.warranty_until - _today(now)


def compiled(found: Filter, now: Moment) -> ColumnElement[bool]:
    """The filter as a condition on `devices` that is true or false, never null."""
    if isinstance(found, Not):
        return not_(compiled(found.part, now))
    if isinstance(found, Joined):
        return (and_ if found.word == "and" else or_)(*(compiled(part, now) for part in found.parts))
    return _comparison(found, now)


def _comparison(c: Comparison, now: Moment) -> ColumnElement[bool]:
    if c.operator == "ne":
        return not_(_comparison(Comparison(c.attribute, "eq", c.value), now))
    attribute = ATTRIBUTES[c.attribute]
    if attribute.kind is Kind.TEXTS:
        return _any_of(c)
    if c.attribute == "held":
        return held(now) if c.value else not_(held(now))
    if c.attribute in _PERSON:
        found = exists(select(people.c.id).where(people.c.id == devices.c.person_id, _one(_PERSON[c.attribute], attribute.kind, c)))
        # Nobody's device has no person who has left.
        return or_(found, devices.c.person_id.is_(None)) if c.attribute == "person.left" and c.value is False else found
    if c.attribute in _ORDER:
        return exists(select(orders.c.id).where(func.lower(orders.c.name) == func.lower(devices.c.order_name), _one(_ORDER[c.attribute], attribute.kind, c)))
    if c.attribute in _COLUMNS and attribute.kind is not Kind.VERSION:
        column = _COLUMNS[c.attribute]
        # Never null, and still plain enough for an index.
        return and_(column.is_not(None), _one(column, attribute.kind, c))
    return func.coalesce(_one(_COLUMNS[c.attribute] if c.attribute in _COLUMNS else _derived(c.attribute, now), attribute.kind, c), false())


def _any_of(c: Comparison) -> ColumnElement[bool]:
    if c.attribute == "tags":
        tag = func.unnest(devices.c.tags).column_valued("tag")
        return func.cardinality(devices.c.tags) > 0 if c.operator == "pr" else exists(select(tag).where(_one(tag, Kind.TEXT, c)))
    if c.attribute == "person.groups":
        member = select(groups.c.id).join(memberships, memberships.c.group_id == groups.c.id).where(memberships.c.person_id == devices.c.person_id)
        return exists(member if c.operator == "pr" else member.where(_one(groups.c.name, Kind.TEXT, c)))
    if c.attribute == "cohorts":
        inside = select(cohorts.c.id).join(cohort_members, cohort_members.c.cohort_id == cohorts.c.id).where(cohort_members.c.device_id == devices.c.id)
        return exists(inside if c.operator == "pr" else inside.where(_one(cohorts.c.name, Kind.TEXT, c)))
    having = select(identifiers.c.device_id).where(identifiers.c.device_id == devices.c.id, identifiers.c.kind == c.attribute)
    return exists(having if c.operator == "pr" else having.where(_one(identifiers.c.value, Kind.TEXT, c)))


def _one(column: ColumnElement[Any], kind: Kind, c: Comparison) -> ColumnElement[bool]:
    if c.operator == "pr":
        return and_(column.is_not(None), column != "") if kind in (Kind.TEXT, Kind.TOKEN, Kind.VERSION) else column.is_not(None)
    value: Any = c.value
    if kind is Kind.TRUTH:
        return column if value else not_(column)
    if kind is Kind.VERSION:
        # Components without trailing zeros; what is no version is nothing.
        parts = func.string_to_array(func.regexp_replace(column, r"(\.0+)+$", ""), ".", type_=ARRAY(Text))
        column = case((column.regexp_match(r"^[0-9]{1,9}(\.[0-9]{1,9}){0,7}$"), cast(parts, ARRAY(BigInteger))), else_=None)
        value = cast(literal(list(c.value), ARRAY(Integer)), ARRAY(BigInteger))  # type: ignore[arg-type]
    elif kind is Kind.TOKEN:
        # Words are kept in lower case, and the parser knows no others.
        return column == literal(c.value, Text)
    elif kind is Kind.TEXT:
        found = _compare(func.lower(column), c.operator, literal(c.value, Text))
        # An empty text counts as a missing one, which only the empty text does not notice.
        return found if c.value else and_(column != "", found)
    return _compare(column, c.operator, value)


def _compare(column: ColumnElement[Any], operator: str, value: Any) -> ColumnElement[bool]:
    if operator == "co":
        return func.strpos(column, value) > 0
    if operator == "sw":
        return func.starts_with(column, value)
    if operator == "ew":
        return func.right(column, func.char_length(value)) == value
    return {"eq": column == value, "gt": column > value, "ge": column >= value, "lt": column < value, "le": column <= value}[operator]


def touched_by(names: Iterable[str], moved: frozenset[str]) -> bool:
    """Whether a change can be noticed by attributes. moved: columns of `devices`, or `identifiers`, `person`, `order` for what leans on them."""
    return any(_leans_on(name) & moved for name in names)


def _leans_on(name: str) -> frozenset[str]:
    if name in _COLUMNS:
        return frozenset({_COLUMNS[name].name})
    return {
        "person": frozenset({"person_id", "person"}), "order": frozenset({"order_name", "order"}), "identifiers": frozenset({"identifiers", "given_away"}),
        "device": frozenset({name}),
    }.get(ATTRIBUTES[name].of, frozenset())  # fmt: skip


_OF_DEVICE: dict[str, ColumnElement[Any]] = {**_COLUMNS, **_PERSON, **_ORDER}


def facts(connection: Connection, ids: Iterable[int], now: datetime) -> dict[int, dict[str, Any]]:
    """Device → attribute → value, as `core.filters.matches` takes them; cohorts are those whose members are kept."""
    columns = [(_OF_DEVICE[name] if name in _OF_DEVICE else _gathered(name, now)).label(name) for name in ATTRIBUTES]
    query = select(*columns).outerjoin(people, people.c.id == devices.c.person_id).outerjoin(orders, func.lower(orders.c.name) == func.lower(devices.c.order_name))
    return {row.id: dict(row._mapping) for row in connection.execute(query.where(devices.c.id.in_(list(ids))))}


def _gathered(name: str, now: datetime) -> ColumnElement[Any]:
    if name == "tags":
        return devices.c.tags
    if name == "held":
        return held(now)
    if name == "person.groups":
        inside = select(groups.c.name).join(memberships, memberships.c.group_id == groups.c.id).where(memberships.c.person_id == devices.c.person_id)
    elif name == "cohorts":
        inside = select(cohorts.c.name).join(cohort_members, cohort_members.c.cohort_id == cohorts.c.id).where(cohort_members.c.device_id == devices.c.id)
    elif ATTRIBUTES[name].of == "identifiers":
        inside = select(identifiers.c.value).where(identifiers.c.device_id == devices.c.id, identifiers.c.kind == name)
    else:
        return _derived(name, now)
    return func.array(inside.correlate(devices).scalar_subquery())


def columns(names: Sequence[str], now: datetime, masked: bool) -> list[ColumnElement[Any]]:
    """Attributes as text, several values joined by `; `. Beside devices, the query joins people and orders.

    masked: keep of the identifiers of personal devices the last four characters.
    """
    return [_as_text(name, now, masked).label(name) for name in names]


def _as_text(name: str, now: datetime, masked: bool) -> ColumnElement[Any]:
    kind = ATTRIBUTES[name].kind
    column = _OF_DEVICE[name] if name in _OF_DEVICE else _gathered(name, now)
    if kind is Kind.TEXTS:
        column = func.nullif(func.array_to_string(column, "; "), "")
        if masked and ATTRIBUTES[name].of == "identifiers":
            column = case((devices.c.ownership == "personal", literal("•••") + func.right(column, 4)), else_=column)
    elif kind is Kind.TIME:
        column = func.to_char(func.timezone("UTC", column), 'YYYY-MM-DD"T"HH24:MI:SS"Z"')
    return cast(column, Text)
