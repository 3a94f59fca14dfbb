"""The journal: entries, their effects on devices, and taking an entry back."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, LiteralString, cast

from psycopg import sql
from psycopg.types.json import Jsonb
from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Connection,
    func,
    insert,
    literal,
    null,
    or_,
    select,
)
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.sql import Select

from sortitor.core.lifecycle import COUNTED
from sortitor.core.vocabulary import Ownership
from sortitor.store.bulk import keys_of, with_room
from sortitor.store.devices import patch_table
from sortitor.store.engine import raw
from sortitor.store.rows import among, number, read_all, read_one
from sortitor.store.settling import settle, share
from sortitor.store.tables import devices, journal, journal_creations, journal_effects

_MOST_REVISIONS = 100


_RECORD = insert(journal).returning(journal.c.id)


def record(connection: Connection, values: Mapping[str, Any]) -> int:
    """Write one entry and give its id."""
    return int(connection.execute(_RECORD, [values]).scalar_one())


@dataclass(frozen=True, slots=True)
class EntryRow:
    """One entry, with the number of the entry that reverted it."""

    id: int
    at: datetime
    recorded_at: datetime
    actor: str
    account_id: int | None
    request_id: str | None
    operation: str
    subject: str
    subject_id: int | None
    summary: str
    reason: str | None
    before: Any
    after: Any
    reverts: int | None
    reverted_by: int | None
    touches_devices: bool


@dataclass(frozen=True, slots=True)
class EffectRow:
    """What an entry did to one device; `before` None: created, `after` None: removed.

    `ownership` is whose the device is now, None where it is no longer there.
    """

    device_id: int
    before: dict[str, Any] | None
    after: dict[str, Any] | None
    ownership: Ownership | None


@dataclass(frozen=True, slots=True)
class TimelineRow:
    """An entry with what it did to one device."""

    id: int
    at: datetime
    actor: str
    operation: str
    summary: str
    reason: str | None
    subject: str
    subject_id: int | None
    before: dict[str, Any] | None
    after: dict[str, Any] | None
    reverted_by: int | None


def one(connection: Connection, entry_id: int) -> EntryRow | None:
    """One entry."""
    return read_one(connection, _entries().where(journal.c.id == entry_id), EntryRow)


def latest(connection: Connection) -> int:
    """The number of the newest entry; 0 before there is one."""
    return number(connection, select(func.coalesce(func.max(journal.c.id), 0)))


def of_subject(connection: Connection, subject: str, subject_id: int) -> list[EntryRow]:
    """The latest entries on one thing, newest first."""
    about = (journal.c.subject == subject, journal.c.subject_id == subject_id)
    query = _entries().where(*about).order_by(journal.c.id.desc()).limit(_MOST_REVISIONS)
    return read_all(connection, query, EntryRow)


@dataclass(frozen=True, slots=True)
class Wanted:
    """Which entries are asked for; what is None says nothing. From `since` on, before `before`."""

    operation: str | None = None
    actor: str | None = None
    person_id: int | None = None
    device_id: int | None = None
    since: datetime | None = None
    before: datetime | None = None


def page(
    connection: Connection,
    wanted: Wanted,
    after: int | None,
    limit: int,
    newest_first: bool = True,
) -> list[EntryRow]:
    """Entries in the order of their numbers, from the one after a number on."""
    number = journal.c.id
    in_order = number.desc() if newest_first else number
    query = select(number).order_by(in_order).limit(limit)
    if after is not None:
        query = query.where(number < after if newest_first else number > after)
    if wanted.operation:
        begun = filter(None, wanted.operation.split(","))
        query = query.where(
            or_(*(journal.c.operation.startswith(one, autoescape=True) for one in begun))
        )
    if wanted.actor:
        query = query.where(func.lower(journal.c.actor) == func.lower(wanted.actor))
    if wanted.since:
        query = query.where(journal.c.at >= wanted.since)
    if wanted.before:
        query = query.where(journal.c.at < wanted.before)
    if wanted.device_id is not None:
        query = query.where(_about("device", wanted.device_id, _on_device(wanted.device_id)))
    if wanted.person_id is not None:
        query = query.where(_about("person", wanted.person_id, _on_person(wanted.person_id)))
    # What an entry touched is looked up for those of the page alone.
    chosen = query.subquery()
    page = _entries().join(chosen, chosen.c.id == number).order_by(in_order)
    return read_all(connection, page, EntryRow)


def _about(subject: str, number: int, entries: Select[Any]) -> ColumnElement[bool]:
    """On the thing itself, or one of these; by number, so that none but they are read."""
    of_it = journal.alias("of_it")
    itself = select(of_it.c.id).where(of_it.c.subject == subject, of_it.c.subject_id == number)
    return journal.c.id.in_(itself.union(entries))


def _on_device(device_id: int) -> Select[Any]:
    """The entries that did something to a device."""
    single = select(journal_effects.c.entry_id).where(journal_effects.c.device_id == device_id)
    created = select(journal_creations.c.entry_id).where(
        journal_creations.c.first_device_id <= device_id,
        journal_creations.c.last_device_id >= device_id,
    )
    return select(single.union_all(created).subquery().c.entry_id)


def _on_person(person_id: int) -> Select[Any]:
    """The entries by which a device became a person's, or was so no longer."""
    number = str(person_id)
    sides = [journal_effects.c[side]["person_id"].astext == number for side in ("before", "after")]
    both = [select(journal_effects.c.entry_id).where(side) for side in sides]
    return select(both[0].union_all(both[1]).subquery().c.entry_id)


def _entries() -> Select[Any]:
    later = journal.alias("later")
    touched = or_(
        *(
            select(table.c.entry_id).where(table.c.entry_id == journal.c.id).exists()
            for table in (journal_effects, journal_creations)
        )
    )
    return select(
        journal, later.c.id.label("reverted_by"), touched.label("touches_devices")
    ).outerjoin(later, later.c.reverts == journal.c.id)


def effects(
    connection: Connection, entry_id: int, after_device: int, limit: int
) -> list[EffectRow]:
    """What one entry did, by device."""
    single = select(
        journal_effects.c.device_id, journal_effects.c.before, journal_effects.c.after
    ).where(journal_effects.c.entry_id == entry_id, journal_effects.c.device_id > after_device)
    first = func.greatest(journal_creations.c.first_device_id, after_device + 1)
    created = select(
        func.generate_series(first, func.least(journal_creations.c.last_device_id, first + limit)),
        null(),
        journal_creations.c.after,
    ).where(
        journal_creations.c.entry_id == entry_id, journal_creations.c.last_device_id > after_device
    )
    both = single.order_by(journal_effects.c.device_id).limit(limit).union_all(created).subquery()
    query = (
        select(both, devices.c.ownership)
        .outerjoin(devices, devices.c.id == both.c.device_id)
        .order_by(both.c.device_id)
        .limit(limit)
    )
    return read_all(connection, query, EffectRow)


def timeline(connection: Connection, device_id: int, limit: int = 200) -> list[TimelineRow]:
    """What happened to one device, newest first: the entry with the device's own before and
    after.
    """
    later = journal.alias("later")
    single = select(
        journal_effects.c.entry_id, journal_effects.c.before, journal_effects.c.after
    ).where(journal_effects.c.device_id == device_id)
    created = select(journal_creations.c.entry_id, null(), journal_creations.c.after).where(
        journal_creations.c.first_device_id <= device_id,
        journal_creations.c.last_device_id >= device_id,
    )
    effect = single.union_all(created).subquery()
    query = (
        select(
            journal.c.id,
            journal.c.at,
            journal.c.actor,
            journal.c.operation,
            journal.c.summary,
            journal.c.reason,
            journal.c.subject,
            journal.c.subject_id,
            effect.c.before,
            effect.c.after,
            later.c.id.label("reverted_by"),
        )
        .join(effect, effect.c.entry_id == journal.c.id)
        .outerjoin(later, later.c.reverts == journal.c.id)
        .order_by(journal.c.id.desc())
        .limit(limit)
    )
    return read_all(connection, query, TimelineRow)


@dataclass(frozen=True, slots=True)
class UndoingRow:
    """What happens to one device when an entry is taken back: remove, restore or left."""

    device_id: int
    name: str | None
    ownership: Ownership | None
    action: str
    after: dict[str, Any] | None
    patch: dict[str, Any]
    remark: str


@dataclass(frozen=True, slots=True)
class Undoing:
    """What taking an entry back would do to devices, and what it would leave and why."""

    removed: int
    restored: int
    left: int
    digest: str
    examples: list[UndoingRow]
    examples_total: int


#: What an effect tells beside a device's own columns.
_BESIDE = ("identifiers", "given_away")
#: Field → the one of which it says who decided: it goes back with that one alone.
_LEADS = {"ownership_basis": "ownership", "name_basis": "name", "manual": "person_id"}
_SAID: LiteralString = "SELECT after AS said FROM effects_of(%(entry)s) WHERE before IS NOT NULL"
# Most entries say the same of thousands of devices, of which most are still so: each such kind is
# judged once, and the devices of it are counted.
_KINDS = """
CREATE TEMP TABLE undoing_kinds ON COMMIT DROP AS
WITH effect AS (
    -- Of a device's columns those alone of which the entry speaks.
    SELECT e.device_id, e.before, e.after, d.id IS NOT NULL AS exists, {columns}
        -- A device that the entry created goes again only while nothing else happened to it.
        CASE WHEN e.before IS NULL THEN d.stage = 'awaited' AND NOT EXISTS (
            SELECT FROM journal_effects e2 JOIN journal j ON j.id = e2.entry_id
            WHERE e2.device_id = e.device_id AND e2.entry_id > %(entry)s AND j.reverts IS NULL
            AND NOT EXISTS (SELECT FROM journal r WHERE r.reverts = j.id)
        ) END AS untouched,
        -- A retired device's name may have been given to another since.
        CASE WHEN e.before ? 'name' THEN EXISTS (
            SELECT FROM devices o WHERE lower(o.name) = lower(e.before ->> 'name')
            AND o.stage <> 'retired' AND o.id <> e.device_id
        ) END AS name_taken,
        CASE WHEN e.before ->> 'stage' <> 'retired' AND e.after ->> 'stage' = 'retired'
            THEN EXISTS (SELECT FROM devices o WHERE lower(o.name) = lower(d.name)
            AND o.stage <> 'retired' AND o.id <> e.device_id) END AS name_gone
    FROM effects_of(%(entry)s) e LEFT JOIN devices d ON d.id = e.device_id
        LEFT JOIN sightings s ON s.device_id = d.id
), kind AS (
    SELECT before, after, exists, untouched, name_taken, name_gone,
        CASE WHEN exists AND before IS NOT NULL THEN {now} END AS now,
        before - %(beside)s::text[] AS old, after - %(beside)s::text[] AS given,
        array_agg(device_id) AS devices, sum(hashint8extended(device_id, 0)) AS devices_known_by
    FROM effect GROUP BY before, after, exists, untouched, name_taken, name_gone{named}
), judged AS MATERIALIZED (
    SELECT *,
        -- A field goes back only while it still holds what the entry gave it.
        CASE WHEN now = given AND given <> '{{}}' AND before ?& %(keys)s::text[]
            AND NOT after ? 'name' THEN old
        ELSE (SELECT jsonb_object_agg(key, before -> key)
            FROM jsonb_object_keys(given) AS key, coalesce(%(leads)s::jsonb ->> key, key) AS lead
            WHERE before IS NOT NULL AND (now -> key) IS NOT DISTINCT FROM (after -> key)
            AND (NOT given ? lead OR (now -> lead) IS NOT DISTINCT FROM (after -> lead))
            AND NOT (lead = 'name' AND coalesce(name_taken, false))) END AS patch,
        CASE WHEN now = given THEN NULL
        ELSE (SELECT array_agg(key ORDER BY key) FROM jsonb_object_keys(given) AS key
            WHERE before IS NOT NULL AND (now -> key)
                IS DISTINCT FROM (after -> key)) END AS changed_keys
    FROM kind
)
SELECT devices, devices_known_by, after,
    CASE WHEN NOT exists THEN 'left'
        WHEN before IS NULL THEN CASE WHEN untouched THEN 'remove' ELSE 'left' END
        WHEN changed_keys @> ARRAY['stage'] OR patch IS NULL AND NOT after ? 'identifiers'
            THEN 'left' ELSE 'restore' END AS action,
    CASE WHEN name_gone THEN coalesce(patch, '{{}}') || '{{"name": null}}'
        ELSE coalesce(patch, '{{}}') END AS patch,
    CASE WHEN NOT exists THEN 'no longer there'
        WHEN before IS NULL AND NOT untouched THEN 'changed or arrived since'
        WHEN changed_keys IS NOT NULL
            THEN 'changed since: ' || array_to_string(changed_keys, ', ')
        WHEN name_gone THEN 'its name has been given to another' ELSE '' END AS remark
FROM judged
"""
# The planner takes each device for a kind of its own, which it would sort, by one process alone.
_OF_FEW_KINDS = "SET LOCAL enable_sort = off; SET LOCAL parallel_tuple_cost = 0.01"
_AS_BEFORE = "SET LOCAL enable_sort TO DEFAULT; SET LOCAL parallel_tuple_cost TO DEFAULT"
# What all devices are known by is one number, in no order, and in no text, which for millions of
# devices would be longer than a text may be. It is the same however they fall into kinds: a device
# that is left, and goes on changing, changes nothing of what was shown.
_COUNTED = """
SELECT coalesce(sum(cardinality(devices)) FILTER (WHERE action = 'remove'), 0)::bigint,
    coalesce(sum(cardinality(devices)) FILTER (WHERE action = 'restore'), 0)::bigint,
    coalesce(sum(cardinality(devices)) FILTER (WHERE action = 'left'), 0)::bigint,
    coalesce(sum(cardinality(devices)), 0)::bigint,
    coalesce(sum(devices_known_by * jsonb_hash_extended(patch,
        hashtextextended(action || ' ' || remark, 0))), 0)::text
FROM undoing_kinds
"""
#: What stays as it is comes first: it is what the reader has to know.
_EXAMPLES = """
WITH shown AS MATERIALIZED (
    SELECT device_id, action, after, patch, remark FROM undoing_kinds,
        LATERAL (SELECT unnest(devices) AS device_id ORDER BY device_id LIMIT 50) AS first
    ORDER BY action <> 'left', remark = '', device_id LIMIT 50
)
SELECT u.device_id, d.name, d.ownership, action, after, patch, remark
FROM shown u LEFT JOIN devices d ON d.id = u.device_id
ORDER BY action <> 'left', remark = '', u.device_id
"""
_UNDOING = """
CREATE TEMP TABLE undoing ON COMMIT DROP AS
SELECT device_id, action, after, patch FROM undoing_kinds, unnest(devices) AS device_id;
ANALYZE undoing (device_id, action)
"""


#: What an entry may speak of, and the table (of `_KINDS`) that it stands in.
_STANDING = {**dict.fromkeys(devices.c.keys(), "d"), "last_seen_at": "s"}


def _kinds_of(keys: Sequence[str]) -> sql.Composed:
    """The statement for an entry that speaks of these fields."""
    names = [sql.Identifier(f"now_{key}") for key in keys]
    columns = [sql.Identifier(_STANDING[key], key) for key in keys]
    columns_named = [sql.SQL("{} AS {},").format(*one) for one in zip(columns, names, strict=True)]
    pairs = [sql.SQL("{}, {}").format(*one) for one in zip(keys, names, strict=True)]
    return sql.SQL(_KINDS).format(
        columns=sql.SQL(" ").join(columns_named),
        named=sql.SQL("").join(sql.SQL(", {}").format(name) for name in names),
        now=sql.SQL("jsonb_build_object({})").format(sql.SQL(", ").join(pairs)),
    )


def plan_undoing(connection: Connection, entry_id: int, lock: bool) -> Undoing:
    """Work out what reverting the entry does to its devices.

    `lock` holds the devices first, so that none moves between the plan and its carrying out, and
    leaves what happens to each in the temporary table `undoing`.
    """
    with_room(connection)
    with raw(connection).cursor() as cursor:
        if lock:
            # Counted, since nobody reads them.
            cursor.execute(
                "SELECT count(*) FROM (SELECT FROM devices d JOIN effects_of(%s) e"
                " ON e.device_id = d.id ORDER BY d.id FOR UPDATE OF d) AS held",
                [entry_id],
            )
        cursor.execute("DROP TABLE IF EXISTS undoing_kinds, undoing")
        said = keys_of(connection, _SAID, entry=entry_id)
        cursor.execute(_OF_FEW_KINDS)
        keys = sorted(said & _STANDING.keys())
        values = {"entry": entry_id, "beside": list(_BESIDE), "keys": keys, "leads": Jsonb(_LEADS)}
        cursor.execute(_kinds_of(keys), values)
        cursor.execute(_AS_BEFORE)
        if lock:
            cursor.execute(_UNDOING)
        cursor.execute(_COUNTED)
        counted = cast("tuple[int, int, int, int, str]", cursor.fetchone())
        removed, restored, left, total, digest = counted
        cursor.execute(_EXAMPLES)
        found = cast("list[tuple[Any, ...]]", cursor.fetchall())
    return Undoing(
        removed=removed,
        restored=restored,
        left=left,
        digest=digest,
        examples=[UndoingRow(*row) for row in found],
        examples_total=total,
    )


_GIVEN = """
SELECT DISTINCT d.person_id FROM journal_effects e JOIN devices d ON d.id = e.device_id
WHERE e.entry_id = %(entry)s AND d.person_id IS NOT NULL AND d.stage = ANY (%(counted)s)
    AND (e.before -> 'person_id' IS DISTINCT FROM e.after -> 'person_id'
        OR (e.after ? 'stage' AND NOT coalesce(e.before ->> 'stage', '') = ANY (%(counted)s)))
"""
_CONCERNED = """
SELECT DISTINCT person_id FROM (
    SELECT (e.before ->> 'person_id')::bigint AS person_id FROM journal_effects e
        WHERE e.entry_id = %(entry)s
    UNION ALL SELECT d.person_id FROM journal_effects e JOIN devices d ON d.id = e.device_id
        WHERE e.entry_id = %(entry)s AND e.before ? 'stage'
) x WHERE person_id IS NOT NULL
"""


def people_given(connection: Connection, entry_id: int) -> list[int]:
    """The people to whom an entry that was just written gave a device that counts."""
    return _people(connection, _GIVEN, entry_id)


def people_concerned(connection: Connection, entry_id: int) -> list[int]:
    """The people to whom taking an entry back may give a device."""
    return _people(connection, _CONCERNED, entry_id)


def _people(connection: Connection, statement: str, entry_id: int) -> list[int]:
    with raw(connection).cursor() as cursor:
        values = {"entry": entry_id, "counted": list(COUNTED)}
        cursor.execute(statement.encode(), values)
        return sorted(int(str(row[0])) for row in cursor.fetchall())


_CONCERNS_IDENTIFIERS = """
SELECT EXISTS (SELECT FROM undoing WHERE action = 'restore'
    AND (after ? 'identifiers' OR after ? 'given_away'))
"""
#: What a merged device gave away comes back to it, unless it went elsewhere since; what a device
#: was given goes.
_IDENTIFIERS_BACK = """
UPDATE identifiers i SET device_id = u.device_id
FROM undoing u, jsonb_to_recordset(u.after -> 'given_away' -> 'identifiers')
    AS g (kind text, value text, maker text)
WHERE u.action = 'restore' AND i.kind = g.kind AND i.value = g.value AND i.maker = g.maker
    AND i.device_id = (u.after -> 'given_away' ->> 'to')::bigint;
DELETE FROM identifiers i
USING undoing u, jsonb_to_recordset(u.after -> 'identifiers') AS a (kind text, value text)
WHERE u.action = 'restore' AND i.device_id = u.device_id AND i.kind = a.kind AND i.value = a.value
"""
#: Who has other identifiers since: also the device that had taken over those of a restored one.
_KNOWN_OTHERWISE = """
SELECT device_id AS id FROM undoing
WHERE action = 'restore' AND (after ? 'identifiers' OR after ? 'given_away')
UNION SELECT (after -> 'given_away' ->> 'to')::bigint FROM undoing
WHERE action = 'restore' AND after ? 'given_away'
"""


def undo(connection: Connection, entry_id: int, revert_id: int) -> None:
    """Carry out what `plan_undoing` put into `undoing`, in the same transaction, under the
    reverting entry.
    """
    with raw(connection).cursor() as cursor:
        cursor.execute(
            "INSERT INTO journal_effects (entry_id, device_id, before, after) SELECT %s, d.id,"
            " jsonb_strip_nulls(to_jsonb(d) - 'seen_on'), NULL FROM undoing u JOIN devices d"
            " ON d.id = u.device_id WHERE u.action = 'remove'",
            [revert_id],
        )
        cursor.execute(
            "DELETE FROM devices d USING undoing u WHERE u.action = 'remove' AND d.id = u.device_id"
        )
        cursor.execute(_CONCERNS_IDENTIFIERS)
        concerns_identifiers = cursor.fetchone() == (True,)
        if concerns_identifiers:
            cursor.execute(_IDENTIFIERS_BACK)
        cursor.execute("DROP TABLE IF EXISTS patches")
        cursor.execute(
            "CREATE TEMP TABLE patches ON COMMIT DROP AS SELECT device_id, patch FROM undoing WHERE"
            " action = 'restore' AND patch <> '{}';"
            " ALTER TABLE patches ADD PRIMARY KEY (device_id); ANALYZE patches (device_id)"
        )
    patch_table(connection, revert_id, reverting=True)
    if concerns_identifiers:
        settle(connection, _KNOWN_OTHERWISE, {"identifiers"})
    # Whoever works out members next finds no device that is gone by then.
    share(connection)
    with raw(connection).cursor() as cursor:
        cursor.execute(
            "UPDATE credentials SET revoked_at = NULL, revoked_by = NULL FROM undoing u WHERE"
            " revoked_by = %s AND u.device_id = credentials.device_id AND u.action = 'restore'",
            [entry_id],
        )
        cursor.execute(
            "UPDATE credentials SET revoked_at = now(), revoked_by = %s FROM undoing u WHERE"
            " granted_by = %s AND u.device_id = credentials.device_id AND u.action = 'restore'",
            [revert_id, entry_id],
        )


def touch(
    connection: Connection, entry_id: int, device_ids: Sequence[int], after: Mapping[str, Any]
) -> None:
    """Let an entry show in the timelines of devices none of whose fields it changed."""
    columns = ["entry_id", "device_id", "before", "after"]
    values = (literal(entry_id, BigInteger), devices.c.id, literal({}, JSONB))
    touched = select(*values, literal(dict(after), JSONB)).where(among(devices.c.id, device_ids))
    connection.execute(insert(journal_effects).from_select(columns, touched))
