"""The one door for changing devices: each change with its effect on the journal."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from datetime import datetime
from functools import lru_cache
from typing import Any, LiteralString, cast

import polars as pl
from psycopg import sql
from pydantic_core import to_json
from sqlalchemy import Connection
from sqlalchemy.dialects import postgresql

from sortitor.core.columns import FIELDS
from sortitor.core.errors import Conflict
from sortitor.core.lifecycle import steps, wrong_stage
from sortitor.core.vocabulary import Stage
from sortitor.store import bulk
from sortitor.store.engine import raw
from sortitor.store.settling import settle, settle_one
from sortitor.store.tables import devices, sightings

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
    "retire_on",
    "details",
)

_PATCH = """
WITH p AS ({source}),
old AS (
    -- In order of id, so that two changes of overlapping sets wait for each other instead of
    -- deadlocking.
    SELECT d.id, {kept}, p.patch FROM devices d JOIN p ON p.device_id = d.id{seen}
        ORDER BY d.id FOR UPDATE OF d{held}
), wanted AS (
    SELECT old.id, {wanted}
    FROM old, LATERAL jsonb_to_record({patch}) AS n ({typed})
), new AS (
    UPDATE devices d SET {assignments} FROM wanted w WHERE d.id = w.id RETURNING d.id, {returned}
), noted AS (
    INSERT INTO journal_effects (entry_id, device_id, before, after)
    SELECT %(entry)s::bigint, old.id, {before}, {after} FROM old JOIN new ON new.id = old.id
){beside}
-- The first device that would go from one stage to another that does not follow it.
SELECT id, name, stage, patch ->> 'stage' FROM old
WHERE patch ? 'stage' AND NOT stage || '>' || (patch ->> 'stage') = ANY (%(steps)s)
ORDER BY id LIMIT 1
"""

_WANTED: LiteralString = "CASE WHEN old.patch ? {1} THEN n.{0} ELSE old.{0} END AS {0}"
#: Whatever leads out of being dormant, the day of retirement is gone with it.
_WANTED_DAY: LiteralString = """CASE WHEN CASE WHEN old.patch ? 'stage' THEN n.stage
    ELSE old.stage END = 'dormant' THEN CASE WHEN old.patch ? {1} THEN n.{0} ELSE old.{0} END
    END AS {0}"""

#: What the journal keeps of a column, as it was and as the row has it now: nothing where both are
#: the same. Of what stands beside the device, what the patch says.
_EFFECT = """CASE WHEN old.{0} IS DISTINCT FROM new.{0}
    THEN jsonb_build_object({1}, {2}.{0}) ELSE '{{}}' END"""
_EFFECT_BESIDE = """CASE WHEN old.patch ? {0}
    THEN jsonb_build_object({0}, {1}) ELSE '{{}}' END"""

#: Keys of a patch that are no columns of a device.
_NOT_OF_THE_ROW = ("identifiers", "given_away")

#: A device's last sign of life stands in a table of its own; its day, with the device, depends on
#: both.
_SEEN, _ENROLLED = "last_seen_at", "enrolled_at"
_SEEN_ON: LiteralString = (
    ", seen_on = day_here(coalesce(w.last_seen_at, w.enrolled_at, d.created_at))"
)
_WITH_SIGHTINGS = " JOIN sightings s ON s.device_id = d.id"
_SIGHTED: LiteralString = """, sighted AS (
UPDATE sightings s SET last_seen_at = w.last_seen_at FROM wanted w WHERE s.device_id = w.id
)"""

#: Key of a patch → what is written beside the device.
_BESIDE = {
    "identifiers": """, identified AS (
INSERT INTO identifiers (device_id, kind, value, maker, given)
SELECT p.device_id, i.kind, i.value, i.maker, i.given
FROM p, jsonb_to_recordset(p.patch -> 'identifiers') AS i (kind text, value text, maker text,
    given text)
)""",
    # A serial number is unique within its maker, so it follows the maker of its device.
    "maker": """, made AS (
UPDATE identifiers i SET maker = lower(new.maker) FROM new
WHERE i.device_id = new.id AND i.kind = 'serial' AND i.maker <> lower(new.maker)
)""",
}

_HOLD = """
SELECT count(*) FROM
    (SELECT id FROM devices WHERE id = ANY(%s::bigint[]) ORDER BY id FOR UPDATE) AS held
"""


def hold(connection: Connection, ids: pl.Series) -> None:
    """Hold devices until the transaction ends, in one order for all."""
    raw(connection).execute(_HOLD, [ids.to_list()])


_DIALECT = postgresql.dialect()  # type: ignore[no-untyped-call]
#: Column → its type, as it is read of JSON.
TYPES: dict[str, LiteralString] = {
    name: (sightings if name == _SEEN else devices).c[name].type.compile(_DIALECT)
    for name in (*PATCHABLE, "created_at")
}

_ONE_PATCH: LiteralString = "SELECT %(device)s::bigint AS device_id, %(patch)s::jsonb AS patch"

_PATCH_TABLE: LiteralString = "SELECT device_id, patch FROM patches"

_ONE_FOR_ALL: LiteralString = "SELECT device_id, %(patch)s::jsonb AS patch FROM patches"


#: Whether an entry is taken back → the steps from stage to stage that it may take.
_STEPS = {
    reverting: [f"{before}>{after}" for before, after in steps(reverting)]
    for reverting in (False, True)
}


def _wrong_stage(device_id: int, name: str | None, before: str, after: str) -> Conflict:
    return wrong_stage(name or f"Device no. {device_id}", Stage(before), Stage(after))


@lru_cache(maxsize=256)
def _patching(keys: frozenset[str], source: LiteralString) -> bytes:
    """The statement that sets these keys; written once for every set of them.

    It names the columns: taking whole rows apart and putting them together again as JSON takes
    twice as long.
    """
    assert keys <= {*PATCHABLE, *_NOT_OF_THE_ROW}, keys
    # A patch that only adds identifiers sets the note to itself.
    columns = sorted(keys & set(PATCHABLE)) or ["note"]
    if "stage" in keys and "retire_on" not in columns:
        columns.append("retire_on")
    sighted = bool({_SEEN, _ENROLLED} & keys)
    if sighted:
        columns = sorted({*columns, _SEEN, _ENROLLED})
    own = [name for name in columns if name != _SEEN]
    beside = sorted(keys & set(_NOT_OF_THE_ROW))

    def if_sighted(text: LiteralString) -> sql.SQL:
        return sql.SQL(text if sighted else "")

    def each(
        form: LiteralString, names: Iterable[str], joint: LiteralString = ", "
    ) -> sql.Composed:
        lines = [sql.SQL(form).format(sql.Identifier(name), sql.Literal(name)) for name in names]
        return sql.SQL(joint).join(lines)

    def effect(side: LiteralString) -> sql.Composed:
        parts = [
            sql.SQL(_EFFECT).format(sql.Identifier(name), sql.Literal(name), sql.Identifier(side))
            for name in columns
        ]
        for name in beside:
            value = "NULL::jsonb" if side == "old" else "old.patch -> {0}"
            told = sql.SQL(value).format(sql.Literal(name))
            parts.append(sql.SQL(_EFFECT_BESIDE).format(sql.Literal(name), told))
        return sql.SQL(" || ").join(parts)

    made = sql.SQL(_PATCH).format(
        source=sql.SQL(source),
        # What is the same for all is read once.
        patch=sql.SQL("old.patch" if source == _PATCH_TABLE else "%(patch)s::jsonb"),
        kept=each("d.{0}", sorted({*own, "name", "stage"})) + if_sighted(f", s.{_SEEN}"),
        seen=if_sighted(_WITH_SIGHTINGS),
        held=if_sighted(", s"),
        typed=sql.SQL(", ").join(
            sql.SQL("{} {}").format(sql.Identifier(name), sql.SQL(TYPES[name])) for name in columns
        ),
        wanted=sql.SQL(", ").join(
            sql.SQL(_WANTED_DAY if name == "retire_on" and "stage" in keys else _WANTED).format(
                sql.Identifier(name), sql.Literal(name)
            )
            for name in columns
        ),
        assignments=each("{0} = w.{0}", own) + if_sighted(_SEEN_ON),
        returned=each("d.{0}", own) + if_sighted(f", w.{_SEEN}"),
        before=effect("old"),
        after=effect("new"),
        beside=sql.SQL("").join(sql.SQL(_BESIDE[key]) for key in _BESIDE if key in keys)
        + if_sighted(_SIGHTED),
    )
    return made.as_bytes()


def _write_patches(
    connection: Connection,
    entry_id: int,
    keys: Collection[str],
    source: LiteralString,
    values: Mapping[str, Any],
    reverting: bool = False,
) -> None:
    statement = _patching(frozenset(keys), source)
    with raw(connection).cursor() as cursor:
        cursor.execute(statement, {**values, "entry": entry_id, "steps": _STEPS[reverting]})
        if wrong := cursor.fetchone():
            raise _wrong_stage(*cast("tuple[int, str | None, str, str]", wrong))


def patch_one(
    connection: Connection, entry_id: int, device_id: int, patch: Mapping[str, Any]
) -> None:
    """Set fields of one device and record before and after under the journal entry.

    patch: field → new value; the key `identifiers` adds `[{kind, value, maker, given}]`.
    """
    values = {"device": device_id, "patch": to_json(patch).decode()}
    _write_patches(connection, entry_id, set(patch), _ONE_PATCH, values)
    settle_one(connection, device_id, set(patch))


def patch_each(
    connection: Connection, entry_id: int, patches: Mapping[int, Mapping[str, Any]]
) -> None:
    """The same for many devices at once, each with its own patch."""
    frame = pl.DataFrame(
        {"device_id": patches.keys(), "patch": [to_json(one).decode() for one in patches.values()]},
        schema={"device_id": pl.Int64, "patch": pl.String},
    )
    patch_frame(connection, entry_id, frame, {key for one in patches.values() for key in one})


def patch_frame(
    connection: Connection, entry_id: int, patches: pl.DataFrame, keys: Collection[str]
) -> None:
    """The same for a frame of `device_id` and `patch`, JSON with some of these keys."""
    bulk.temporary(
        connection, "patches", "device_id bigint PRIMARY KEY, patch jsonb NOT NULL", patches
    )
    _write_many(connection, entry_id, keys, _PATCH_TABLE)


def patch_all(
    connection: Connection, entry_id: int, device_ids: pl.Series, patch: Mapping[str, Any]
) -> None:
    """The same for many devices that get one patch."""
    bulk.temporary(
        connection, "patches", "device_id bigint PRIMARY KEY", device_ids.to_frame("device_id")
    )
    values = {"patch": to_json(patch).decode()}
    _write_many(connection, entry_id, patch, _ONE_FOR_ALL, values)


def patch_table(connection: Connection, entry_id: int, reverting: bool = False) -> None:
    """The same for patches that already stand in the temporary table `patches`.

    `reverting` lets devices go back the way they came.
    """
    with raw(connection).cursor() as cursor:
        cursor.execute("SELECT DISTINCT key FROM patches, jsonb_object_keys(patch) AS key")
        keys = {cast(str, row[0]) for row in cursor.fetchall()}
    _write_many(connection, entry_id, keys, _PATCH_TABLE, reverting=reverting)


def _write_many(
    connection: Connection,
    entry_id: int,
    keys: Collection[str],
    source: LiteralString,
    values: Mapping[str, Any] | None = None,
    reverting: bool = False,
) -> None:
    if keys:
        _write_patches(connection, entry_id, keys, source, values or {}, reverting)
        settle(connection, "SELECT device_id AS id FROM patches", keys)


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
    patch_table(connection, entry_id)
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
