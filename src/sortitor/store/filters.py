"""The filter language as SQL: the same meaning as `core.filters.matches`, held to it by a property test."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    ColumnElement,
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
from sortitor.store.tables import devices, groups, identifiers, memberships, people

_COLUMNS: dict[str, ColumnElement[Any]] = {
    "stage": devices.c.stage, "platform": devices.c.platform, "ownership": devices.c.ownership, "ownershipBasis": devices.c.ownership_basis, "flag": devices.c.flag,
    "osVersion": devices.c.os_version, "name": devices.c.name, "maker": devices.c.maker, "model": devices.c.model, "productCode": devices.c.product_code, "site": devices.c.site,
    "department": devices.c.department, "assetTag": devices.c.asset_tag, "note": devices.c.note, "order": devices.c.order_name, "purchaseOrder": devices.c.purchase_order,
    "supplier": devices.c.supplier, "purchasedOn": devices.c.purchased_on, "warrantyUntil": devices.c.warranty_until, "enrolledAt": devices.c.enrolled_at,
    "lastSeenAt": devices.c.last_seen_at, "id": devices.c.id, "lot": devices.c.lot_id,
}  # fmt: skip
_PERSON = {"person.userName": people.c.user_name, "person.name": people.c.name, "person.department": people.c.department, "person.site": people.c.site}


def compiled(found: Filter, now: datetime) -> ColumnElement[bool]:
    """The filter as a condition on `devices` that is true or false, never null."""
    if isinstance(found, Not):
        return not_(compiled(found.part, now))
    if isinstance(found, Joined):
        return (and_ if found.word == "and" else or_)(*(compiled(part, now) for part in found.parts))
    return _comparison(found, now)


def _comparison(c: Comparison, now: datetime) -> ColumnElement[bool]:
    if c.operator == "ne":
        return not_(_comparison(Comparison(c.attribute, "eq", c.value), now))
    if c.attribute in _PERSON:
        return exists(select(people.c.id).where(people.c.id == devices.c.person_id, _one(_PERSON[c.attribute], Kind.TEXT, c)))
    if ATTRIBUTES[c.attribute] is Kind.TEXTS:
        return _any_of(c)
    if c.attribute == "idleDays":
        # Here, since store.devices itself uses this module.
        from sortitor.store.devices import idle_case

        return func.coalesce(_one(idle_case(now), Kind.NUMBER, c), false())
    return func.coalesce(_one(_COLUMNS[c.attribute], ATTRIBUTES[c.attribute], c), false())


def _any_of(c: Comparison) -> ColumnElement[bool]:
    if c.attribute == "tags":
        tag = func.unnest(devices.c.tags).column_valued("tag")
        return func.cardinality(devices.c.tags) > 0 if c.operator == "pr" else exists(select(tag).where(_one(tag, Kind.TEXT, c)))
    if c.attribute == "person.groups":
        member = select(groups.c.id).join(memberships, memberships.c.group_id == groups.c.id).where(memberships.c.person_id == devices.c.person_id)
        return exists(member if c.operator == "pr" else member.where(_one(groups.c.name, Kind.TEXT, c)))
    held = select(identifiers.c.device_id).where(identifiers.c.device_id == devices.c.id, identifiers.c.kind == c.attribute)
    return exists(held if c.operator == "pr" else held.where(_one(identifiers.c.value, Kind.TEXT, c)))


def _one(column: ColumnElement[Any], kind: Kind, c: Comparison) -> ColumnElement[bool]:
    if c.operator == "pr":
        return and_(column.is_not(None), column != "") if kind in (Kind.TEXT, Kind.TOKEN, Kind.VERSION) else column.is_not(None)
    value: Any = c.value
    if kind is Kind.VERSION:
        # Components without trailing zeros; what is no version is nothing.
        parts = func.string_to_array(func.regexp_replace(column, r"(\.0+)+$", ""), ".", type_=ARRAY(Text))
        column = case((column.regexp_match(r"^[0-9]{1,9}(\.[0-9]{1,9}){0,7}$"), cast(parts, ARRAY(BigInteger))), else_=None)
        value = cast(literal(list(c.value), ARRAY(Integer)), ARRAY(BigInteger))  # type: ignore[arg-type]
    elif kind in (Kind.TEXT, Kind.TOKEN):
        column = func.lower(column)
        value = literal(c.value, Text)
        # An empty text counts as a missing one.
        return and_(column != "", _compare(column, c.operator, value))
    return _compare(column, c.operator, value)


def _compare(column: ColumnElement[Any], operator: str, value: Any) -> ColumnElement[bool]:
    if operator == "co":
        return func.strpos(column, value) > 0
    if operator == "sw":
        return func.starts_with(column, value)
    if operator == "ew":
        return func.right(column, func.char_length(value)) == value
    return {"eq": column == value, "gt": column > value, "ge": column >= value, "lt": column < value, "le": column <= value}[operator]
