"""Devices: selections compiled to SQL, lists by key, one device with all its facts, and the one
door for changing them.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any, cast

import polars as pl
from psycopg import sql
from sqlalchemy import (
    ColumnElement,
    Connection,
    Select,
    and_,
    exists,
    func,
    literal,
    or_,
    select,
    tuple_,
    union,
)

from sortitor.core.columns import FIELDS
from sortitor.core.filters import Comparison, Filter, conjuncts
from sortitor.core.identifiers import check_one
from sortitor.core.naming import FIELDS as NAMING_FIELDS
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import IdentifierKind, Stage
from sortitor.store import bulk
from sortitor.store.cohorts import filters_of, member_of, moving, settle, settle_one
from sortitor.store.engine import Line, plan_anew, raw
from sortitor.store.filters import columns, compiled, in_cohorts, leading, said_of, spoken_of
from sortitor.store.tables import (
    ORDERS,
    cohorts,
    devices,
    folded,
    groups,
    holds,
    identifiers,
    orders,
    people,
)


def matching(selection: Selection, now: datetime) -> ColumnElement[bool]:
    """The selection as a condition on `devices`."""
    conditions: list[ColumnElement[bool]] = []
    if selection.ids:
        conditions.append(devices.c.id.in_(selection.ids))
    if selection.person_id is not None:
        conditions.append(devices.c.person_id == selection.person_id)
    if selection.identifiers:
        conditions.append(
            devices.c.id.in_(
                select(identifiers.c.device_id).where(
                    identifiers.c.value.in_(_normal(selection.identifiers))
                )
            )
        )
    if selection.cohort_id is not None:
        conditions.append(member_of(selection.cohort_id))
    if selection.filter is not None:
        conditions.append(compiled(selection.filter, now))
    if selection.query:
        conditions.append(_search(selection.query, selection.masked))
    return and_(literal(True), *conditions)


def _search(query: str, masked: bool) -> ColumnElement[bool]:
    """By identifier, its ending (four or more), name, asset tag, or person; each part has its
    index. masked: a personal device by its whole identifier only.
    """
    text = query.strip()
    lower = re.sub(r"([%_\\])", r"\\\1", text.lower())
    values = {value for kind in IdentifierKind if (value := check_one(kind, text)[0])} or {
        text.upper()
    }
    parts = [
        select(identifiers.c.device_id).where(identifiers.c.value.in_(values)),
        select(devices.c.id).where(func.starts_with(folded(devices.c.name), text.lower())),
        select(devices.c.id).where(func.lower(devices.c.asset_tag) == text.lower()),
        select(devices.c.id)
        .join(people, people.c.id == devices.c.person_id)
        .where(
            or_(func.lower(people.c.user_name) == text.lower(), people.c.name.ilike(f"%{lower}%"))
        ),
    ]
    found = select(identifiers.c.device_id)
    if masked:
        holder = devices.alias("holder")
        found = found.where(
            exists(
                select(holder.c.id).where(
                    holder.c.id == identifiers.c.device_id, holder.c.ownership != "personal"
                )
            )
        )
    ending = re.sub(r"[^0-9A-Z]", "", text.upper())
    if len(ending) >= 3:
        start = re.sub(r"([%_\\])", r"\\\1", text.upper())
        parts.append(found.where(identifiers.c.value.like(f"{start}%")))
    if len(ending) >= 4:
        parts.append(found.where(func.reverse(identifiers.c.value).like(f"{ending[::-1]}%")))
    return devices.c.id.in_(union(*parts))


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
) -> Sequence[Line]:
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
    key, condition = ORDERS[sort], matching(selection, now)
    rest = leading(_said(connection, selection), sort, now)
    if after is not None:
        place = tuple_(key, devices.c.id)
        value = datetime.fromisoformat(after[0]) if sort == "seen" else after[0]
        there = tuple_(literal(value, key.type), literal(after[1]))
        rest = and_(rest, place < there if descending else place > there)

    def first(
        keys: ColumnElement[Any], ids: ColumnElement[Any], query: Select[Any], number: int
    ) -> Select[Any]:
        return query.order_by(*((keys.desc(), ids.desc()) if descending else (keys, ids))).limit(
            number
        )

    needed = dict.fromkeys([devices.c.id, *spoken_of(condition)])

    def walk(reach: int) -> Sequence[Line]:
        walked = first(
            key, devices.c.id, select(*needed, key.label("key")).where(rest), reach
        ).subquery()
        fitting = select(walked.c.id, walked.c.key).where(said_of(walked, condition))
        return _lines(connection, first(walked.c.key, walked.c.id, fitting, limit), descending)

    found = walk(_LOOK)
    # Half as far again as it takes at the rate of the first look.
    reach = _LOOK * limit * 3 // (2 * max(len(found), 1))
    if len(found) < limit and reach <= _WALK:
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


_OF_A_LINE = (
    "id",
    "name",
    "stage",
    "platform",
    "os_version",
    "maker",
    "model",
    "ownership",
    "person_id",
    "site",
    "asset_tag",
    "flag",
    "last_seen_at",
    "enrolled_at",
    "created_at",
)


def _lines(connection: Connection, chosen: Select[Any], descending: bool) -> Sequence[Line]:
    """The devices chosen as `id, key`, in the order of the key, as lines of a list."""
    few = chosen.subquery()
    query = (
        select(
            *(devices.c[name] for name in _OF_A_LINE),
            people.c.name.label("person_name"),
            few.c.key.label("sort_key"),
            an_identifier("serial"),
            an_identifier("imei"),
        )
        .join(few, few.c.id == devices.c.id)
        .outerjoin(people, people.c.id == devices.c.person_id)
    )
    return connection.execute(
        query.order_by(
            *((few.c.key.desc(), few.c.id.desc()) if descending else (few.c.key, few.c.id))
        )
    ).all()


def an_identifier(kind: str) -> ColumnElement[Any]:
    """The first identifier of a kind, as a column of `devices`."""
    query = select(func.min(identifiers.c.value)).where(
        identifiers.c.device_id == devices.c.id, identifiers.c.kind == kind
    )
    return query.scalar_subquery().label(kind)


def _normal(given: Iterable[str]) -> set[str]:
    """Every form that the written identifiers may be kept in."""
    return {
        value for text in given for kind in IdentifierKind if (value := check_one(kind, text)[0])
    }


def table(
    connection: Connection, selection: Selection, now: datetime, names: Sequence[str], masked: bool
) -> pl.DataFrame:
    """A selection as text columns, one per attribute; `masked` keeps of personal devices'
    identifiers the last four characters.
    """
    query = (
        select(*columns(names, now, masked, moving(connection) if "cohorts" in names else {}))
        .select_from(devices)
        .outerjoin(people, people.c.id == devices.c.person_id)
    )
    query = (
        query.outerjoin(orders, func.lower(orders.c.name) == func.lower(devices.c.order_name))
        .where(matching(selection, now))
        .order_by(devices.c.id)
    )
    rows = [tuple(row) for row in connection.execute(query)]
    return pl.DataFrame(rows, schema=dict.fromkeys(names, pl.String), orient="row")


def unknown_identifiers(connection: Connection, given: Sequence[str]) -> list[str]:
    """Those of the written identifiers that no device has."""
    if not given:
        return []
    known = set(
        connection.execute(
            select(identifiers.c.value).where(identifiers.c.value.in_(_normal(given)))
        ).scalars()
    )
    return [text for text in given if not _normal([text]) & known]


def ids(connection: Connection, selection: Selection, now: datetime) -> list[int]:
    """The devices of a selection by number."""
    return list(
        connection.execute(
            select(devices.c.id).where(matching(selection, now)).order_by(devices.c.id)
        ).scalars()
    )


def some(connection: Connection, condition: ColumnElement[bool], limit: int) -> Sequence[Line]:
    """`id, name, platform, model, site, serial` of the first devices that fit."""
    query = select(
        devices.c.id,
        devices.c.name,
        devices.c.platform,
        devices.c.model,
        devices.c.site,
        an_identifier("serial"),
    )
    return connection.execute(query.where(condition).order_by(devices.c.id).limit(limit)).all()


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
    if not selections:
        return []
    return list(
        connection.execute(
            select(
                *(func.count().filter(matching(selection, now)) for selection in selections)
            ).select_from(devices)
        ).one()
    )


def one(connection: Connection, device_id: int, lock: bool = False) -> Line | None:
    """One device with its person, or None; `lock` holds its row until the end of the
    transaction.
    """
    query = select(
        devices, people.c.name.label("person_name"), people.c.user_name.label("person_user_name")
    ).outerjoin(people, people.c.id == devices.c.person_id)
    if lock:
        query = query.with_for_update(of=devices)
    return connection.execute(query.where(devices.c.id == device_id)).one_or_none()


def identifiers_of(connection: Connection, device_id: int) -> Sequence[Line]:
    """`kind, value, given` of one device."""
    query = select(identifiers.c.kind, identifiers.c.value, identifiers.c.given).where(
        identifiers.c.device_id == device_id
    )
    return connection.execute(query.order_by(identifiers.c.kind.desc(), identifiers.c.value)).all()


def cohorts_of(connection: Connection, device_id: int, now: datetime) -> Sequence[Line]:
    """`id, name` of the cohorts that one device is in now."""
    names = (
        select(in_cohorts(now, moving(connection)).label("names"))
        .where(devices.c.id == device_id)
        .subquery()
    )
    return connection.execute(
        select(cohorts.c.id, cohorts.c.name)
        .join(names, cohorts.c.name == func.any(names.c.names))
        .order_by(func.lower(cohorts.c.name))
    ).all()


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


def facet_counts(connection: Connection, now: datetime) -> dict[str, dict[str, int]]:
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


def active_holds(connection: Connection, device_id: int) -> Sequence[Line]:
    """The device's holds that nobody has ended, past ones too."""
    return connection.execute(
        select(holds)
        .where(holds.c.device_id == device_id, holds.c.ended_at.is_(None))
        .order_by(holds.c.until_on)
    ).all()


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


def naming_facts(connection: Connection, selection: Selection, now: datetime) -> pl.DataFrame:
    """What naming templates can speak of, for the devices of the selection: `device_id`, `name`,
    `name_basis` and NAMING_FIELDS.
    """
    special = {
        "serial": an_identifier("serial"),
        "imei": an_identifier("imei"),
        "person": people.c.user_name,
        "person_department": people.c.department,
        "person_site": people.c.site,
    }
    chosen = [
        special[name].label(name) if name in special else devices.c[name] for name in NAMING_FIELDS
    ]
    query = select(devices.c.id, devices.c.name, devices.c.name_basis, *chosen).outerjoin(
        people, people.c.id == devices.c.person_id
    )
    rows = connection.execute(query.where(matching(selection, now)).order_by(devices.c.id)).all()
    schema = {
        "device_id": pl.Int64,
        "name": pl.String,
        "name_basis": pl.String,
        **dict.fromkeys(NAMING_FIELDS, pl.String),
    }
    return pl.DataFrame([tuple(row) for row in rows], schema=schema, orient="row")


def names_in_use(connection: Connection, except_ids: Sequence[int] = ()) -> set[str]:
    """Lower-case names of all devices that are not retired, without those of the given devices."""
    query = select(func.lower(devices.c.name)).where(
        devices.c.name.is_not(None), devices.c.stage != Stage.RETIRED
    )
    if except_ids:
        query = query.where(devices.c.id.not_in(except_ids))
    return set(connection.execute(query).scalars())


def name_is_free(connection: Connection, name: str, device_id: int) -> bool:
    """Whether no other device that is not retired has the name."""
    taken = (
        func.lower(devices.c.name) == name.lower(),
        devices.c.stage != Stage.RETIRED,
        devices.c.id != device_id,
        devices.c.name.is_not(None),
    )
    return connection.execute(select(devices.c.id).where(*taken).limit(1)).one_or_none() is None


# ---- the one door for changes
# -------------------------------------------------------------------------------

#: Columns that a patch may set; each is put back by a revert.
PATCHABLE = (
    *FIELDS,
    "stage",
    "stage_at",
    "flag",
    "os_version",
    "ownership_basis",
    "person_id",
    "name_basis",
    "manual",
    "enrolled_at",
    "last_seen_at",
    "details",
)


_PATCH = """
WITH p AS ({source}),
old AS (
    -- In order of id, so that two changes of overlapping sets wait for each other instead of
    -- deadlocking.
    SELECT d.id, to_jsonb(d) AS row, p.patch FROM devices d JOIN p ON p.device_id = d.id
        ORDER BY d.id FOR UPDATE OF d
), new AS (
    UPDATE devices d SET {assignments}
        FROM old, LATERAL jsonb_populate_record(NULL::devices, old.row ||
        (old.patch - 'identifiers' - 'given_away')) AS n
    WHERE d.id = old.id RETURNING d.id, to_jsonb(d) AS row
)
INSERT INTO journal_effects (entry_id, device_id, before, after)
-- Read back from the row, so that a revert compares like with like whatever form the patch had.
SELECT %(entry)s::bigint, old.id,
    coalesce(changed.before, '{{}}'), coalesce(changed.after, '{{}}')
FROM old JOIN new ON new.id = old.id CROSS JOIN LATERAL (
    SELECT jsonb_object_agg(key, old.row -> key) AS before,
        jsonb_object_agg(key, CASE WHEN key IN ('identifiers', 'given_away') THEN old.patch -> key
            ELSE new.row -> key END) AS after
    FROM jsonb_object_keys(old.patch) AS key
    WHERE key IN ('identifiers', 'given_away') OR (old.row -> key) IS DISTINCT FROM (new.row -> key)
) AS changed
"""
_PATCH_IDENTIFIERS = """
WITH p AS ({source})
INSERT INTO identifiers (device_id, kind, value, maker, given)
SELECT p.device_id, i.kind, i.value, i.maker, i.given
FROM p, jsonb_to_recordset(p.patch -> 'identifiers') AS i (kind text, value text, maker text,
    given text)
"""
# A serial number is unique within its maker, so it follows the maker of its device.
_PATCH_MAKERS = """
WITH p AS ({source})
UPDATE identifiers i SET maker = lower(d.maker) FROM p JOIN devices d ON d.id = p.device_id
WHERE i.device_id = d.id AND i.kind = 'serial' AND d.maker IS NOT NULL AND i.maker <> lower(d.maker)
"""
_ONE_PATCH = sql.SQL("SELECT %(device)s::bigint AS device_id, %(patch)s::jsonb AS patch")
_PATCH_TABLE = sql.SQL("SELECT device_id, patch FROM patches")


def _write_patches(
    connection: Connection,
    entry_id: int,
    keys: Iterable[str],
    source: sql.SQL,
    values: Mapping[str, Any],
) -> None:
    columns = sorted(key for key in keys if key in PATCHABLE)
    assert set(keys) <= {*PATCHABLE, "identifiers", "given_away"}, keys
    # A patch that only adds identifiers sets the note to itself.
    assignments = sql.SQL(", ").join(
        sql.SQL("{0} = n.{0}").format(sql.Identifier(name)) for name in columns or ["note"]
    )
    with raw(connection).cursor() as cursor:
        cursor.execute(
            sql.SQL(_PATCH).format(source=source, assignments=assignments),
            {**values, "entry": entry_id},
        )
        if "identifiers" in keys:
            cursor.execute(sql.SQL(_PATCH_IDENTIFIERS).format(source=source), values)
        if "maker" in keys:
            cursor.execute(sql.SQL(_PATCH_MAKERS).format(source=source), values)
    if "device" in values:
        settle_one(connection, values["device"], keys)
    else:
        settle(connection, "SELECT device_id AS id FROM patches", keys)


def patch_one(
    connection: Connection, entry_id: int, device_id: int, patch: Mapping[str, Any]
) -> None:
    """Set fields of one device and record before and after under the journal entry; keys as in
    `apply_patches`.
    """
    _write_patches(
        connection,
        entry_id,
        set(patch),
        _ONE_PATCH,
        {"device": device_id, "patch": json.dumps(patch)},
    )


def apply_patches(connection: Connection, entry_id: int, patches: pl.DataFrame) -> None:
    """Set fields of many devices at once and record before and after under the journal entry.

    patches: `device_id`, `patch`, JSON of field → new value; the key `identifiers` adds `[{kind,
    value, maker, given}]`.
    """
    bulk.temporary(
        connection, "patches", "device_id bigint PRIMARY KEY, patch jsonb NOT NULL", patches
    )
    apply_patch_table(connection, entry_id)


def apply_patch_table(connection: Connection, entry_id: int) -> None:
    """The same for patches that already stand in the temporary table `patches`."""
    with raw(connection).cursor() as cursor:
        cursor.execute("SELECT DISTINCT key FROM patches, jsonb_object_keys(patch) AS key")
        keys = {cast(str, row[0]) for row in cursor.fetchall()}
    if keys:
        _write_patches(connection, entry_id, keys, _PATCH_TABLE, {})


def merge_devices(
    connection: Connection, entry_id: int, merges: pl.DataFrame, now: datetime
) -> None:
    """Let each device take over the identifiers of another, which is retired by it.

    merges: `device_id, other_id`. The effect on the other device keeps what it gave, under
    `given_away`, for a revert.
    """
    if merges.height == 0:
        return
    bulk.temporary(
        connection,
        "merges",
        "device_id bigint, other_id bigint PRIMARY KEY",
        merges.select("device_id", "other_id").unique("other_id"),
    )
    with raw(connection).cursor() as cursor:
        cursor.execute("DROP TABLE IF EXISTS patches")
        cursor.execute(
            """
            CREATE TEMP TABLE patches ON COMMIT DROP AS
            SELECT m.other_id AS device_id,
                jsonb_build_object('stage', 'retired', 'stage_at', %s::timestamptz, 'given_away',
                jsonb_build_object(
                'to', m.device_id, 'identifiers',
                    (SELECT jsonb_agg(jsonb_build_object('kind', i.kind, 'value', i.value, 'maker',
                    i.maker))
                    FROM identifiers i WHERE i.device_id = m.other_id))) AS patch
            FROM merges m
            """,
            [now],
        )
    apply_patch_table(connection, entry_id)
    with raw(connection).cursor() as cursor:
        cursor.execute(
            "UPDATE identifiers i SET device_id = m.device_id FROM merges m WHERE i.device_id ="
            " m.other_id"
        )
    settle(
        connection,
        "SELECT device_id AS id FROM merges UNION SELECT other_id FROM merges",
        {"identifiers"},
    )
