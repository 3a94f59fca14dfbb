"""The filter language as SQL: the same meaning as `core.filters.matches`, held to it by a property
test.
"""

from __future__ import annotations

import math
import operator as signs
import sys
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any, TypeAlias, TypeVar

from sqlalchemy import (
    BigInteger,
    Column,
    ColumnElement,
    Connection,
    DateTime,
    FromClause,
    Integer,
    Select,
    Text,
    and_,
    any_,
    bindparam,
    case,
    cast,
    exists,
    false,
    func,
    literal,
    literal_column,
    not_,
    or_,
    select,
    true,
)
from sqlalchemy.dialects.postgresql import ARRAY, array
from sqlalchemy.sql.visitors import iterate, replacement_traverse

from sortitor.core.access import SHOWN_CHARACTERS, VEIL_MARK
from sortitor.core.filters import ATTRIBUTES, Comparison, Filter, Joined, Kind, Not
from sortitor.core.lifecycle import COUNTED
from sortitor.core.vocabulary import IdentifierKind, Ownership, Stage
from sortitor.store.tables import (
    ORDERS,
    cohort_members,
    cohorts,
    device_kits,
    devices,
    groups,
    hold_devices,
    holds,
    identifiers,
    item_reports,
    items,
    kit_outcomes,
    memberships,
    orders,
    people,
    sighted_devices,
    sightings,
)
from sortitor.store.zones import Moment, day_of

Worth = TypeVar("Worth")
#: What holds for a device or not, in SQL.
Condition: TypeAlias = ColumnElement[bool]

_COLUMNS: dict[str, Column[Any]] = {
    "stage": devices.c.stage,
    "platform": devices.c.platform,
    "ownership": devices.c.ownership,
    "ownershipBasis": devices.c.ownership_basis,
    "flag": devices.c.flag,
    "osVersion": devices.c.os_version,
    "name": devices.c.name,
    "maker": devices.c.maker,
    "model": devices.c.model,
    "productCode": devices.c.product_code,
    "site": devices.c.site,
    "department": devices.c.department,
    "assetTag": devices.c.asset_tag,
    "note": devices.c.note,
    "order": devices.c.order_name,
    "purchaseOrder": devices.c.purchase_order,
    "supplier": devices.c.supplier,
    "purchasedOn": devices.c.purchased_on,
    "warrantyUntil": devices.c.warranty_until,
    "enrolledAt": devices.c.enrolled_at,
    "retireOn": devices.c.retire_on,
    "id": devices.c.id,
    "lot": devices.c.lot_id,
}


def _of_person(table: FromClause) -> dict[str, ColumnElement[Any]]:
    return {
        "person.userName": table.c.user_name,
        "person.name": table.c.name,
        "person.mail": table.c.mail,
        "person.department": table.c.department,
        "person.site": table.c.site,
        "person.left": table.c.left_at.is_not(None),
    }


def _of_order(table: FromClause) -> dict[str, ColumnElement[Any]]:
    return {"order.supplier": table.c.supplier, "order.orderedOn": table.c.ordered_on}


_PERSON, _ORDER = _of_person(people), _of_order(orders)
#: In a condition people, orders and sightings go by other names: a query may show those of its
#: devices beside, and would else take the condition's own look at them away.
_WHOSE, _ORDERED = people.alias("whose"), orders.alias("ordered")
_SIGHTED = sightings.alias("sighted")
#: The devices of the same person.
_MATES = devices.alias("mates")
_BY_PERSON, _BY_ORDER = _of_person(_WHOSE), _of_order(_ORDERED)


def idle_case(now: Moment) -> ColumnElement[int]:
    """Midnights since the last sign of life."""
    return func.greatest(0, day_of(now) - devices.c.seen_on, type_=Integer)


def held(now: Moment) -> ColumnElement[bool]:
    """Whether somebody keeps the device out of sweeps."""
    today = day_of(now)
    return covered(holds.c.ended_at.is_(None), holds.c.from_on <= today, holds.c.until_on >= today)


def covered(*which: ColumnElement[bool]) -> ColumnElement[bool]:
    """Whether there is such a hold on the device itself, its person or one of its cohorts."""
    members = cohort_members.alias("kept")
    itself = select(holds.c.id).join(hold_devices, hold_devices.c.hold_id == holds.c.id)
    cohort = select(holds.c.id).join(members, members.c.cohort_id == holds.c.cohort_id)
    return or_(
        exists(itself.where(hold_devices.c.device_id == devices.c.id, *which)),
        exists(select(holds.c.id).where(holds.c.person_id == devices.c.person_id, *which)),
        exists(cohort.where(members.c.device_id == devices.c.id, *which)),
    )


def _derived(name: str, now: Moment) -> ColumnElement[Any]:
    if name == "idleDays":
        return idle_case(now)
    if name == "person.devices":
        return _number_of_mates()
    if name == "ageDays":
        return day_of(now) - func.coalesce(devices.c.purchased_on, day_of(devices.c.created_at))
    return devices.c.warranty_until - day_of(now)


def _number_of_mates() -> ColumnElement[Any]:
    number = (
        select(func.count())
        .where(_MATES.c.person_id == devices.c.person_id, _MATES.c.stage.in_(COUNTED))
        .correlate(devices)
        .scalar_subquery()
    )
    return case((devices.c.person_id.is_not(None), number))


def compiled(found: Filter, now: Moment) -> ColumnElement[bool]:
    """The filter as a condition on `devices` that is true or false, never null."""
    if isinstance(found, Not):
        part = found.part
        if isinstance(part, Comparison) and part.operator == "ne":
            return compiled(Comparison(part.attribute, "eq", part.value), now)
        if isinstance(part, Comparison) and part.attribute == "lastSeenAt":
            # Asked of the row that every device has: that it has none such takes longer to find.
            return _sighted(not_(_seen(part)))
        return not_(compiled(part, now))
    if isinstance(found, Joined):
        # What is decided quickest goes first: most devices need no more.
        return (and_ if found.word == "and" else or_)(
            *(compiled(part, now) for part in sorted(found.parts, key=_effort))
        )
    return _comparison(found, now)


#: The folded texts, which take longest to work out of a device's columns.
_FOLDED = ("name", "site", "model")
_WORKED_OUT = {f"folded_{name}": ORDERS[name] for name in _FOLDED}


def worked_out(query: Select[Any]) -> Select[Any]:
    """A selection of devices with what filters compare beside them, worked out once for however
    many filters.
    """
    return query.add_columns(*(key.label(name) for name, key in _WORKED_OUT.items()))


def spoken_of(condition: ColumnElement[bool]) -> list[Column[Any]]:
    """The columns of `devices` that a condition needs."""
    names = {
        element.name
        for element in iterate(condition)
        if isinstance(element, Column) and element.table is devices
    }
    return [devices.c[name] for name in sorted(names)]


def said_of(table: FromClause, condition: ColumnElement[Worth]) -> ColumnElement[Worth]:
    """A condition on `devices` as one on a selection of them."""
    known = {id(key): table.c.get(name) for name, key in _WORKED_OUT.items()}

    def replaced(element: Any, **_: Any) -> Any:
        return (
            table.c[element.name]
            if isinstance(element, Column) and element.table is devices
            else known.get(id(element))
        )

    found: ColumnElement[Worth] = replacement_traverse(condition, {}, replaced)
    return found


def leading(parts: Iterable[Filter], sort: str, now: datetime) -> ColumnElement[bool]:
    """What is asked of the very thing that the list is sorted by, as far as its index can begin
    there.
    """
    begun = [
        part
        for part in parts
        if isinstance(part, Comparison)
        and (part.attribute, part.operator) in _BEGINNINGS.get(sort, ())
    ]
    return and_(true(), *(_comparison(part, now) for part in begun))


_BEGINNINGS = {
    **{name: {(name, "eq"), (name, "sw")} for name in _FOLDED},
    "stage": {("stage", "eq")},
    "seen": {("idleDays", operator) for operator in ("ge", "gt", "lt", "le")},
}


def _effort(found: Filter) -> int:
    """How long a device takes to be decided, roughly."""
    if isinstance(found, Comparison):
        attribute = ATTRIBUTES[found.attribute]
        if attribute.of != "device" or attribute.kind is Kind.TEXTS:
            return 2
        return int(attribute.kind is Kind.TEXT)
    return max(map(_effort, (found.part,) if isinstance(found, Not) else found.parts))


def _comparison(c: Comparison, now: Moment) -> ColumnElement[bool]:
    if c.operator == "ne":
        return compiled(Not(Comparison(c.attribute, "eq", c.value)), now)
    attribute = ATTRIBUTES[c.attribute]
    if attribute.kind is Kind.TEXTS:
        return _any_of(c)
    if c.attribute == "idleDays" and c.operator != "pr":
        return idle_days(c.operator, float(str(c.value)), now)
    if c.attribute == "lastSeenAt":
        return and_(_on_the_day(c), _sighted(_seen(c)))
    if c.attribute == "held":
        return held(now) if c.value else not_(held(now))
    if c.attribute == "person.devices":
        return _person_has(c)
    if c.attribute in _PERSON:
        found = exists(
            select(_WHOSE.c.id).where(
                _WHOSE.c.id == devices.c.person_id, _one(_BY_PERSON[c.attribute], attribute.kind, c)
            )
        )
        # Nobody's device has no person who has left.
        return (
            or_(found, devices.c.person_id.is_(None))
            if c.attribute == "person.left" and c.value is False
            else found
        )
    if c.attribute in _ORDER:
        return exists(
            select(_ORDERED.c.id).where(
                func.lower(_ORDERED.c.name) == func.lower(devices.c.order_name),
                _one(_BY_ORDER[c.attribute], attribute.kind, c),
            )
        )
    if c.attribute in ORDERS and attribute.kind is Kind.TEXT and c.value:
        return (
            _begins(ORDERS[c.attribute], str(c.value))
            if c.operator == "sw"
            else _compare(ORDERS[c.attribute], c.operator, literal(c.value, Text))
        )
    if c.attribute in _COLUMNS and attribute.kind is not Kind.VERSION:
        column = _COLUMNS[c.attribute]
        # Never null, and still plain enough for an index.
        return and_(column.is_not(None), _one(column, attribute.kind, c))
    return func.coalesce(
        _one(
            _COLUMNS[c.attribute] if c.attribute in _COLUMNS else _derived(c.attribute, now),
            attribute.kind,
            c,
        ),
        false(),
    )


def _person_has(c: Comparison) -> ColumnElement[bool]:
    """How many devices its person has. Most people have few: those who have more are gathered
    once.
    """
    somebody = devices.c.person_id.is_not(None)
    if c.operator == "pr":
        return somebody
    number = float(str(c.value))
    if c.operator in ("lt", "le") or (c.operator == "eq" and number == 0):
        # Whoever has none is in no group.
        more = {"lt": "ge", "le": "gt", "eq": "gt"}[c.operator]
        return and_(somebody, not_(_person_has(Comparison(c.attribute, more, c.value))))
    if (c.operator == "ge" and number <= 0) or (c.operator == "gt" and number < 0):
        return somebody
    counted = (
        select(_MATES.c.person_id)
        .where(_MATES.c.stage.in_(COUNTED), _MATES.c.person_id.is_not(None))
        .group_by(_MATES.c.person_id)
        .having(_SIGNS[c.operator](func.count(), literal(number)))
    )
    return func.coalesce(devices.c.person_id.in_(counted), false())


#: More days than any device has been idle for, and still a time that PostgreSQL knows.
_EVER = 700_000


def _sighted(which: ColumnElement[bool]) -> ColumnElement[bool]:
    """Whether the row of `sightings` that every device has is such a one."""
    return exists(select(_SIGHTED.c.device_id).where(_SIGHTED.c.device_id == devices.c.id, which))


def _seen(c: Comparison) -> ColumnElement[bool]:
    """How the last sign of life compares; none is nothing."""
    return func.coalesce(_one(_SIGHTED.c.last_seen_at, Kind.TIME, c), false())


def _on_the_day(c: Comparison) -> ColumnElement[bool]:
    """The same of its day, which has an index, as far as the day tells."""
    if c.operator == "pr":
        return true()
    sign = {"gt": "ge", "lt": "le"}.get(c.operator, c.operator)
    return _SIGNS[sign](devices.c.seen_on, day_of(literal(c.value)))


def idle_days(operator: str, days: float, now: Moment) -> ColumnElement[bool]:
    """How the idle days compare. They are whole ones and never negative, so each comparison is one
    of the day of the last sign of life, which has an index.
    """

    def at_least(whole: int) -> ColumnElement[bool]:
        ago = day_of(now) - min(whole, _EVER)
        return true() if whole <= 0 else devices.c.seen_on <= ago

    floor, ceiling = math.floor(days), math.ceil(days)
    if operator == "eq":
        return (
            and_(at_least(floor), not_(at_least(floor + 1)))
            if floor == ceiling and floor >= 0
            else false()
        )
    reached = at_least(ceiling if operator in ("ge", "lt") else floor + 1)
    return reached if operator in ("ge", "gt") else not_(reached)


def _any_of(c: Comparison) -> ColumnElement[bool]:
    value = literal(c.value, Text)
    if c.attribute == "tags":
        tagged = func.cardinality(devices.c.tags) > literal_column("0")
        if c.operator in ("pr", "eq") and c.value != "":
            return (
                tagged
                if c.operator == "pr"
                else and_(
                    tagged,
                    func.folded(devices.c.tags, type_=ARRAY(Text)).contains(
                        array([cast(value, Text)])
                    ),
                )
            )
        tag = func.unnest(devices.c.tags).column_valued("tag")
        return exists(select(tag).where(_one(tag, Kind.TEXT, c)))
    if c.attribute == "person.groups":
        member = (
            select(groups.c.id)
            .join(memberships, memberships.c.group_id == groups.c.id)
            .where(memberships.c.person_id == devices.c.person_id)
        )
        return exists(
            member if c.operator == "pr" else member.where(_one(groups.c.name, Kind.TEXT, c))
        )
    if c.attribute == "cohorts":
        inside = (
            select(cohorts.c.id)
            .join(cohort_members, cohort_members.c.cohort_id == cohorts.c.id)
            .where(cohort_members.c.device_id == devices.c.id)
        )
        return exists(
            inside if c.operator == "pr" else inside.where(_one(cohorts.c.name, Kind.TEXT, c))
        )
    if c.attribute in _REPORTED:
        told = _reported(c.attribute)
        return exists(told if c.operator == "pr" else told.where(_one(items.c.name, Kind.TEXT, c)))
    if c.attribute == "items":
        return _getting(None if c.operator == "pr" else _one(items.c.name, Kind.TEXT, c))
    having = select(identifiers.c.device_id).where(
        identifiers.c.device_id == devices.c.id, identifiers.c.kind == c.attribute
    )
    if c.operator == "pr":
        return exists(having)
    if c.operator in ("eq", "sw") and c.value and c.attribute != IdentifierKind.FINGERPRINT:
        # Kept wholly in upper or in lower case, each of which the index finds.
        either = (func.upper(value), value)
        having = having.where(
            or_(*(_compare(identifiers.c.value, c.operator, spelt) for spelt in either))
        )
    return exists(having.where(_one(identifiers.c.value, Kind.TEXT, c)))


_REPORTED = {f"items.{state}": state for state in ("working", "done", "failed")}


def _reported(attribute: str) -> Select[Any]:
    """What a device told of its items as they are now."""
    return (
        select(items.c.name)
        .join(item_reports, item_reports.c.item_id == items.c.id)
        .where(
            item_reports.c.device_id == devices.c.id,
            item_reports.c.state == _REPORTED[attribute],
            item_reports.c.revision == items.c.content,
        )
    )


def _getting(named: ColumnElement[bool] | None) -> ColumnElement[bool]:
    """Whether a device gets an item, or may take it; of devices with the same facts once."""
    gets = kit_outcomes.c.required + kit_outcomes.c.offered
    item = select(items.c.id).where(items.c.id == func.any(gets))
    outcomes = select(kit_outcomes.c.key).where(
        item.exists() if named is None else item.where(named).exists()
    )
    return and_(devices.c.stage != Stage.RETIRED, _outcome().in_(outcomes))


_KEY = select(device_kits.c.key).where(device_kits.c.device_id == devices.c.id)


def _outcome(key: Select[Any] = _KEY) -> ColumnElement[int]:
    """By which a device's facts are found; of one without a row those of no facts."""
    empty = func.hash_array_extended(cast(array[Any]([]), ARRAY(BigInteger)), 0)
    return func.coalesce(key.scalar_subquery(), empty, type_=BigInteger)


def _one(column: ColumnElement[Any], kind: Kind, c: Comparison) -> ColumnElement[bool]:
    if c.operator == "pr":
        return (
            and_(column.is_not(None), column != "")
            if kind in (Kind.TEXT, Kind.TOKEN, Kind.VERSION)
            else column.is_not(None)
        )
    value: Any = c.value
    if kind is Kind.TRUTH:
        return column if value else not_(column)
    if kind is Kind.VERSION:
        return _version(c.operator, c.value)  # type: ignore[arg-type]
    if kind is Kind.TOKEN:
        # Words are kept in lower case, and the parser knows no others.
        return column == literal(c.value, Text)
    if kind is Kind.TEXT:
        found = _compare(func.lower(column), c.operator, literal(c.value, Text))
        # An empty text counts as a missing one, which only the empty text does not notice.
        return found if c.value else and_(column != "", found)
    return _compare(column, c.operator, value)


#: How many components a version may have.
_COMPONENTS = 8


def _version(operator: str, value: tuple[int, ...]) -> ColumnElement[bool]:
    """By components, where 10 equals 10.0: what equals a version lies between it and itself with
    zeros behind. What is no version is nothing.
    """
    numbers = devices.c.os_numbers
    low, high = (
        literal([*value, *([0] * zeros)], ARRAY(Integer)) for zeros in (0, _COMPONENTS - len(value))
    )
    return (
        numbers.between(low, high)
        if operator == "eq"
        else _compare(numbers, operator, low if operator in ("lt", "ge") else high)
    )


def _begins(folded: ColumnElement[Any], beginning: str) -> ColumnElement[bool]:
    """Between a beginning and what comes after all that begin so, in the order of code points: the
    index alone decides it.
    """
    for place in reversed(range(len(beginning))):
        following = ord(beginning[place]) + 1
        if following <= sys.maxunicode:
            # Half of a pair is no character.
            end = beginning[:place] + chr(0xE000 if following == 0xD800 else following)
            return and_(folded >= literal(beginning, Text), folded < literal(end, Text))
    return folded >= literal(beginning, Text)


def _compare(column: ColumnElement[Any], operator: str, value: Any) -> ColumnElement[bool]:
    if operator == "co":
        return func.strpos(column, value) > 0
    if operator == "sw":
        return func.starts_with(column, value)
    if operator == "ew":
        return _SIGNS["eq"](func.right(column, func.char_length(value)), value)
    return _SIGNS[operator](column, value)


_SIGNS: dict[str, Callable[[ColumnElement[Any], Any], ColumnElement[bool]]] = {
    "eq": signs.eq,
    "gt": signs.gt,
    "ge": signs.ge,
    "lt": signs.lt,
    "le": signs.le,
}


def touched_by(names: Iterable[str], changed_keys: frozenset[str]) -> bool:
    """Whether a change can be noticed by attributes.

    changed_keys: columns of `devices`, or `identifiers`, `person`, `order`, `cohorts` for what
    leans on them.
    """
    return any(_leans_on(name) & changed_keys for name in names)


def _leans_on(name: str) -> frozenset[str]:
    if name == "lastSeenAt":
        return frozenset({"last_seen_at"})
    if name == "retireOn":
        # It goes with the stage, whether a change names it or not.
        return frozenset({"retire_on", "stage"})
    if name in _COLUMNS:
        return frozenset({_COLUMNS[name].name})
    return {
        "person": frozenset({"person_id", "person"}),
        "order": frozenset({"order_name", "order"}),
        "identifiers": frozenset({"identifiers", "given_away"}),
        "cohort": frozenset({"cohorts"}),
        "device": frozenset({name}),
    }.get(ATTRIBUTES[name].of, frozenset())


_OF_DEVICE: dict[str, ColumnElement[Any]] = {
    **_COLUMNS,
    **_PERSON,
    **_ORDER,
    "lastSeenAt": sightings.c.last_seen_at,
}

#: Devices with what their attributes speak of beside them.
DESCRIBED = sighted_devices.outerjoin(people, people.c.id == devices.c.person_id).outerjoin(
    orders, func.lower(orders.c.name) == func.lower(devices.c.order_name)
)


def in_cohorts(now: Moment, moving: Mapping[str, Filter]) -> ColumnElement[Any]:
    """The names of the cohorts that a device is in: those that keep it as a member, and those of
    `moving` whose filter it fits now.
    """
    kept = (
        select(cohorts.c.name)
        .join(cohort_members, cohort_members.c.cohort_id == cohorts.c.id)
        .where(cohort_members.c.device_id == devices.c.id)
    )
    listed = func.array(
        kept.correlate(devices).order_by(func.lower(cohorts.c.name)).scalar_subquery(),
        type_=ARRAY(Text),
    )
    fitting = [
        case((compiled(found, now), literal(name, Text))) for name, found in sorted(moving.items())
    ]
    return (
        listed + func.array_remove(array[Any](fitting, type_=Text()), None, type_=ARRAY(Text))
        if fitting
        else listed
    )


def _gathered(
    name: str, now: Moment, moving: Mapping[str, Filter], masked: bool = False
) -> ColumnElement[Any]:
    if name == "tags":
        return devices.c.tags
    if name == "held":
        return held(now)
    if name == "cohorts":
        return in_cohorts(now, moving)
    if name == "person.groups":
        inside = (
            select(groups.c.name)
            .join(memberships, memberships.c.group_id == groups.c.id)
            .where(memberships.c.person_id == devices.c.person_id)
        )
    elif name in _REPORTED:
        inside = _reported(name).order_by(func.lower(items.c.name))
    elif name == "items":
        gets = kit_outcomes.c.required + kit_outcomes.c.offered
        inside = (
            select(items.c.name)
            .select_from(kit_outcomes.join(items, items.c.id == func.any(gets)))
            .where(
                # Two selections deep nothing is correlated by itself.
                kit_outcomes.c.key == _outcome(_KEY.correlate(devices)),
                devices.c.stage != Stage.RETIRED,
            )
            .order_by(func.lower(items.c.name))
        )
    elif ATTRIBUTES[name].of == "identifiers":
        value = _veiled(identifiers.c.value) if masked else identifiers.c.value
        inside = select(value).where(
            identifiers.c.device_id == devices.c.id, identifiers.c.kind == name
        )
    else:
        return _derived(name, now)
    return func.array(inside.correlate(devices).scalar_subquery())


_NOW = bindparam("now", type_=DateTime(timezone=True))
#: Put together once: every knock of a device that is known asks for it.
_FACTS = select(
    *(
        (_OF_DEVICE[name] if name in _OF_DEVICE else _gathered(name, _NOW, {})).label(name)
        for name in ATTRIBUTES
    )
).select_from(DESCRIBED)
# Of an array the database plans anew each time, which takes longer than to look.
_FACTS_OF_ONE = _FACTS.where(devices.c.id == bindparam("id"))
_FACTS_OF_SEVERAL = _FACTS.where(devices.c.id == any_(bindparam("ids", type_=ARRAY(BigInteger))))


def facts_of_one(connection: Connection, device_id: int, now: datetime) -> dict[str, Any]:
    """Attribute → value of a device, as `core.filters.matches` takes them; nothing of none."""
    row = connection.execute(_FACTS_OF_ONE, {"id": device_id, "now": now}).one_or_none()
    return {} if row is None else dict(row._mapping)


def facts(connection: Connection, ids: Iterable[int], now: datetime) -> dict[int, dict[str, Any]]:
    """Device → the same."""
    rows = connection.execute(_FACTS_OF_SEVERAL, {"ids": list(ids), "now": now})
    return {row.id: dict(row._mapping) for row in rows}


def columns(
    names: Sequence[str], now: datetime, masked: bool, moving: Mapping[str, Filter]
) -> list[ColumnElement[Any]]:
    """Attributes as text, several values joined by `; `. The query is of DESCRIBED.

    masked: veil the identifiers of personal devices. moving: as in
    `in_cohorts`.
    """
    return [
        _as_text(
            name,
            _OF_DEVICE[name] if name in _OF_DEVICE else _gathered(name, now, moving, masked),
        ).label(name)
        for name in names
    ]


def _veiled(value: ColumnElement[Any]) -> ColumnElement[Any]:
    """An identifier as the veil shows it (`core.access`): what is personal, in part."""
    length = func.char_length(value)
    kept = case(
        (length > 2 * SHOWN_CHARACTERS, SHOWN_CHARACTERS), (length > SHOWN_CHARACTERS, 2), else_=0
    )
    part = literal(VEIL_MARK) + func.right(value, kept)
    return case((devices.c.ownership == Ownership.PERSONAL, part), else_=value)


def _as_text(name: str, column: ColumnElement[Any]) -> ColumnElement[Any]:
    kind = ATTRIBUTES[name].kind
    if kind is Kind.TEXTS:
        column = func.nullif(func.array_to_string(column, "; "), "")
    elif kind is Kind.TIME:
        column = func.to_char(func.timezone("UTC", column), 'YYYY-MM-DD"T"HH24:MI:SS"Z"')
    return cast(column, Text)
