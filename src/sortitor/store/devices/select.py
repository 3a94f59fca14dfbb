"""Selections compiled to SQL, counted and looked up."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    Select,
    Text,
    and_,
    any_,
    exists,
    func,
    literal,
    or_,
    select,
    tuple_,
    union,
    union_all,
)
from sqlalchemy.dialects.postgresql import ARRAY

from sortitor.core.filters import lower
from sortitor.core.identifiers import normal_forms
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import LotStatus, Ownership, Stage
from sortitor.store.cohorts import (
    member_of,
)
from sortitor.store.engine import plan_anew
from sortitor.store.filters import compiled, idle_days, said_of, spoken_of, worked_out
from sortitor.store.rows import among, as_pattern
from sortitor.store.tables import (
    cohorts,
    devices,
    folded,
    groups,
    identifiers,
    items,
    lot_rows,
    lots,
    people,
)


def matching(selection: Selection, now: datetime) -> ColumnElement[bool]:
    """The selection as a condition on `devices`."""
    conditions: list[ColumnElement[bool]] = []
    if selection.ids:
        conditions.append(among(devices.c.id, selection.ids))
    if selection.person_id is not None:
        conditions.append(devices.c.person_id == selection.person_id)
    if selection.identifiers:
        conditions.append(
            devices.c.id.in_(
                select(identifiers.c.device_id).where(
                    identifiers.c.value == any_(_texts(_normal(selection.identifiers)))
                )
            )
        )
    if selection.cohort_id is not None:
        conditions.append(member_of(selection.cohort_id))
    if selection.lot_id is not None:
        conditions.append(_of_lot(selection.lot_id))
    if selection.filter is not None:
        conditions.append(compiled(selection.filter, now))
    if selection.query:
        anywhere = _Search.of(selection).anywhere
        conditions.append(devices.c.id.in_(union(*anywhere)))
    return and_(literal(True), *conditions)


def _of_lot(lot_id: int) -> ColumnElement[bool]:
    """What a lot added, and what it changed while it is applied."""
    changed = (
        select(lot_rows.c.device_id)
        .join(lots, lots.c.id == lot_rows.c.lot_id)
        .where(
            lot_rows.c.lot_id == lot_id,
            lot_rows.c.changes.is_not(None),
            lots.c.status == LotStatus.APPLIED,
        )
    )
    return or_(devices.c.lot_id == lot_id, devices.c.id.in_(changed))


@dataclass(frozen=True, slots=True)
class _Search:
    """What a text is looked for in: by identifier, its ending (four or more), name, asset tag, or
    person. masked: a personal device by its whole identifier only.
    """

    text: str
    forms: frozenset[str]
    masked: bool

    @staticmethod
    def of(selection: Selection) -> _Search:
        """What a selection looks for."""
        text = (selection.query or "").strip()
        return _Search(text, frozenset(_normal([text]) or {text.upper()}), selection.masked)

    @property
    def anywhere(self) -> list[Select[Any]]:
        """The devices found by each part; each has its index."""
        of_person = select(devices.c.id).join(people, people.c.id == devices.c.person_id)
        return [
            *(select(devices.c.id).where(said) for said in self._of_device()),
            of_person.where(self._of_person()),
            *(select(identifiers.c.device_id).where(said) for said in self._of_identifier()),
        ]

    @property
    def here(self) -> ColumnElement[bool]:
        """The same, asked of each device."""
        whose = select(people.c.id).where(people.c.id == devices.c.person_id, self._of_person())
        theirs = select(identifiers.c.device_id).where(
            identifiers.c.device_id == devices.c.id, or_(*self._of_identifier())
        )
        return or_(*self._of_device(), exists(whose), exists(theirs))

    def _of_device(self) -> list[ColumnElement[bool]]:
        text = self.text.lower()
        return [
            func.starts_with(folded(devices.c.name), text),
            func.lower(devices.c.asset_tag) == text,
        ]

    def _of_person(self) -> ColumnElement[bool]:
        text = self.text.lower()
        return or_(
            func.lower(people.c.user_name) == text,
            # Folded by the database on both sides: it folds some letters otherwise.
            people.c.name_lower.like(func.lower(f"%{as_pattern(self.text)}%")),
        )

    def _of_identifier(self) -> list[ColumnElement[bool]]:
        text = self.text.upper()
        ending = re.sub(r"[^0-9A-Z]", "", text)
        found: list[ColumnElement[bool]] = [identifiers.c.value == any_(_texts(self.forms))]
        if len(ending) >= 3:
            found.append(self._in_part(identifiers.c.value.like(f"{as_pattern(text)}%")))
        if len(ending) >= 4:
            backwards = func.reverse(identifiers.c.value)
            found.append(self._in_part(backwards.like(f"{ending[::-1]}%")))
        return found

    def _in_part(self, said: ColumnElement[bool]) -> ColumnElement[bool]:
        if not self.masked:
            return said
        holder = devices.alias("holder")
        shown = select(holder.c.id).where(
            holder.c.id == identifiers.c.device_id, holder.c.ownership != Ownership.PERSONAL
        )
        return and_(said, exists(shown))


def found_by(connection: Connection, selection: Selection, most: int) -> list[int] | None:
    """The devices that a selection's text is found at; None: it is found more than so often."""
    each = union_all(*_Search.of(selection).anywhere).subquery()
    found = connection.execute(select(each.c[0]).limit(most + 1)).scalars().all()
    return None if len(found) > most else sorted({*found})


def searched(selection: Selection) -> ColumnElement[bool]:
    """Whether a selection's text is found at a device, where it is found at many."""
    return _Search.of(selection).here


def an_identifier(kind: str) -> ColumnElement[Any]:
    """The first identifier of a kind, as a column of `devices`."""
    query = select(func.min(identifiers.c.value)).where(
        identifiers.c.device_id == devices.c.id, identifiers.c.kind == kind
    )
    return query.scalar_subquery().label(kind)


def _normal(given: Iterable[str]) -> set[str]:
    """Every form that the written identifiers may be kept in."""
    return set().union(*normal_forms(given).values())


@dataclass(frozen=True, slots=True)
class PersonalAmong:
    """Which texts are identifiers of personal devices, and which devices are personal."""

    texts: set[str]
    devices: set[int]


def personal_among(
    connection: Connection, texts: Collection[str], ids: Collection[int | None]
) -> PersonalAmong:
    """Those of the texts that are, in any form, an identifier of a personal device, and those of
    the devices that are personal.
    """
    personal = devices.c.ownership == Ownership.PERSONAL
    normal = normal_forms(texts)
    values = sorted({value for found in normal.values() for value in found})
    query = (
        select(identifiers.c.value)
        .join(devices, devices.c.id == identifiers.c.device_id)
        .where(identifiers.c.value == any_(literal(values, ARRAY(Text))), personal)
    )
    known = set(connection.execute(query).scalars())
    wanted = [one for one in ids if one is not None]
    is_wanted = among(devices.c.id, wanted)
    found = connection.execute(select(devices.c.id).where(is_wanted, personal))
    return PersonalAmong(
        texts={text for text, forms in normal.items() if not known.isdisjoint(forms)},
        devices=set(found.scalars()),
    )


def unknown_identifiers(connection: Connection, given: Sequence[str]) -> list[str]:
    """Those of the written identifiers that no device has."""
    if not given:
        return []
    normal = normal_forms(given)
    forms: set[str] = set().union(*normal.values())
    query = select(identifiers.c.value).where(identifiers.c.value == any_(_texts(forms)))
    known = set(connection.execute(query).scalars())
    return [text for text in given if known.isdisjoint(normal[text])]


def called_by_number(connection: Connection, given: Sequence[str]) -> dict[str, set[int]]:
    """Written identifier → the devices that have it in any form."""
    normal = normal_forms(given)
    forms: set[str] = set().union(*normal.values())
    query = select(identifiers.c.value, identifiers.c.device_id).where(
        identifiers.c.value == any_(_texts(forms))
    )
    owners: dict[str, set[int]] = {}
    for value, device_id in connection.execute(query):
        owners.setdefault(value, set()).add(device_id)
    found = {text: {one for form in normal[text] for one in owners.get(form, ())} for text in given}
    return {text: devices_of for text, devices_of in found.items() if devices_of}


def called_by_name(connection: Connection, given: Sequence[str]) -> dict[str, set[int]]:
    """Name or asset tag in lower case → the devices in use that are called so."""
    wanted = _texts({lower(text) for text in given})
    found: dict[str, set[int]] = {}
    for column in (func.lower(devices.c.name), func.lower(devices.c.asset_tag)):
        query = select(column, devices.c.id).where(
            column == any_(wanted), devices.c.stage != Stage.RETIRED
        )
        for name, device_id in connection.execute(query):
            found.setdefault(name, set()).add(device_id)
    return found


def _texts(values: Iterable[str]) -> ColumnElement[Any]:
    """Texts as one array: a parameter each ends at 65,535."""
    return literal([*values], ARRAY(Text))


def chosen(selection: Selection, now: datetime) -> Select[Any]:
    """The devices of a selection."""
    return select(devices.c.id).where(matching(selection, now))


def ids(connection: Connection, selection: Selection, now: datetime) -> list[int]:
    """The devices of a selection by number."""
    query = chosen(selection, now).order_by(devices.c.id)
    return list(connection.execute(query).scalars())


#: Attributes whose values can be chosen from, with where they stand.
CHOICES: dict[str, Select[Any]] = {
    name: select(column)
    for name, column in (
        ("site", devices.c.site),
        ("maker", devices.c.maker),
        ("model", devices.c.model),
        ("department", devices.c.department),
        ("supplier", devices.c.supplier),
        ("productCode", devices.c.product_code),
        ("osVersion", devices.c.os_version),
        ("order", devices.c.order_name),
        ("tags", func.unnest(devices.c.tags)),
        ("person.department", people.c.department),
        ("person.site", people.c.site),
        ("person.groups", groups.c.name),
        ("cohorts", cohorts.c.name),
        ("items", items.c.name),
    )
}


def values_of(connection: Connection, attribute: str, beginning: str, limit: int) -> list[str]:
    """Values that an attribute of CHOICES has now, from those that begin so."""
    value = CHOICES[attribute].distinct().subquery().c[0]
    query = (
        select(value)
        .where(value != "", func.starts_with(func.lower(value), beginning.lower()))
        .order_by(value)
        .limit(limit)
    )
    return list(connection.execute(query).scalars())


def count(connection: Connection, selection: Selection, now: datetime) -> int:
    """How many devices the selection holds."""
    plan_anew(connection)
    return connection.execute(
        select(func.count()).select_from(devices).where(matching(selection, now))
    ).scalar_one()


def counts(connection: Connection, selections: Sequence[Selection], now: datetime) -> list[int]:
    """How many devices each selection holds, in one pass over the fleet."""
    if len(selections) < 2:
        # One may have an index.
        return [count(connection, selection, now) for selection in selections]
    conditions = [matching(selection, now) for selection in selections]
    spoken = dict.fromkeys(column for one in conditions for column in spoken_of(one))
    # What every condition compares is worked out once for each device. Conditions are columns of a
    # selection and not of the counting, where the planner takes them for asked once, and looks
    # people up for each device instead of gathering those who fit.
    facts = worked_out(select(devices.c.id, *spoken)).offset(0).subquery()
    fits = [said_of(facts, one).label(f"fits_{place}") for place, one in enumerate(conditions)]
    each = select(*fits).offset(0).subquery()
    counted = (func.count().filter(one) for one in each.c)
    return list(connection.execute(select(*counted)).one())


def idle_counts(
    connection: Connection, selection: Selection, windows: Sequence[int], now: datetime
) -> list[int]:
    """How many devices of a selection are idle for so many days or more, for each of them."""
    plan_anew(connection)
    idle = [func.count().filter(idle_days("ge", window, now)) for window in windows]
    query = select(*idle).select_from(devices).where(matching(selection, now))
    return list(connection.execute(query).one())


def people_among(connection: Connection, selection: Selection, now: datetime) -> int:
    """How many people have the devices of a selection."""
    # Gathered by hashing: counting distinct values would sort them.
    whose = select(devices.c.person_id).where(
        matching(selection, now), devices.c.person_id.is_not(None)
    )
    each = whose.group_by(devices.c.person_id).subquery()
    return connection.execute(select(func.count()).select_from(each)).scalar_one()


def fits(
    connection: Connection, device_id: int, selections: Sequence[Selection], now: datetime
) -> list[bool]:
    """Which of the selections hold a device."""
    if not selections:
        return []
    query = select(*(matching(one, now) for one in selections)).where(devices.c.id == device_id)
    return [bool(held) for held in connection.execute(query).one()]


def find(connection: Connection, keys: Sequence[tuple[str, str]], maker: str) -> list[int]:
    """Devices with any of the identifiers `(kind, value)`; a serial fits its maker, or any where
    the maker is not known.
    """
    found = connection.execute(
        select(identifiers.c.device_id, identifiers.c.kind, identifiers.c.maker)
        .where(tuple_(identifiers.c.kind, identifiers.c.value).in_(list(keys)))
        .where(
            or_(
                identifiers.c.kind != "serial",
                identifiers.c.maker.in_([maker, ""]),
                literal(maker == ""),
            )
        )
    ).all()
    exact = {row.device_id for row in found if row.kind != "serial" or row.maker == maker}
    return sorted(exact or {row.device_id for row in found})


def facet_counts(connection: Connection) -> dict[str, dict[str, int]]:
    """Devices by stage, platform, ownership and site, for the choices of a list."""
    names = ("stage", "platform", "ownership", "site")
    query = select(
        *(devices.c[n] for n in names), func.count(), func.grouping(*(devices.c[n] for n in names))
    ).group_by(func.grouping_sets(*(tuple_(devices.c[n]) for n in names)))
    result: dict[str, dict[str, int]] = {name: {} for name in names}
    for *values, number, mask in connection.execute(query):
        place = next(i for i in range(len(names)) if not mask & (1 << (len(names) - 1 - i)))
        if values[place] is not None:
            result[names[place]][values[place]] = number
    return result
