"""The one door for changing devices: each change with its effect on the journal."""

from __future__ import annotations

import json
from collections.abc import Collection, Mapping
from datetime import datetime
from functools import lru_cache
from typing import Any, LiteralString, cast

import polars as pl
from psycopg import sql
from sqlalchemy import (
    Connection,
)

from sortitor.core.columns import FIELDS
from sortitor.core.errors import Conflict
from sortitor.core.lifecycle import steps, wrong_stage
from sortitor.core.vocabulary import Stage
from sortitor.store import bulk
from sortitor.store.cohorts import (
    refresh_memberships,
    refresh_memberships_of_one,
)
from sortitor.store.engine import raw

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
), noted AS (
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
){beside}
-- The first device that would go from one stage to another that does not follow it.
SELECT id, row ->> 'name', row ->> 'stage', patch ->> 'stage' FROM old
WHERE patch ? 'stage' AND NOT row ->> 'stage' || '>' || (patch ->> 'stage') = ANY (%(steps)s)
ORDER BY id LIMIT 1
"""

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
UPDATE identifiers i SET maker = lower(new.row ->> 'maker') FROM new
WHERE i.device_id = new.id AND i.kind = 'serial' AND i.maker <> lower(new.row ->> 'maker')
)""",
}

_ONE_PATCH: LiteralString = "SELECT %(device)s::bigint AS device_id, %(patch)s::jsonb AS patch"

_PATCH_TABLE: LiteralString = "SELECT device_id, patch FROM patches"


#: Whether an entry is taken back → the steps from stage to stage that it may take.
_STEPS = {
    reverting: [f"{before}>{after}" for before, after in steps(reverting)]
    for reverting in (False, True)
}


def _wrong_stage(device_id: int, name: str | None, before: str, after: str) -> Conflict:
    return wrong_stage(name or f"Device {device_id}", Stage(before), Stage(after))


@lru_cache(maxsize=256)
def _patching(keys: frozenset[str], source: LiteralString) -> bytes:
    """The statement that sets these keys; written once for every set of them."""
    assert keys <= {*PATCHABLE, "identifiers", "given_away"}, keys
    columns = sorted(key for key in keys if key in PATCHABLE)
    # A patch that only adds identifiers sets the note to itself.
    assignments = sql.SQL(", ").join(
        sql.SQL("{0} = n.{0}").format(sql.Identifier(name)) for name in columns or ["note"]
    )
    beside = sql.SQL("").join(sql.SQL(_BESIDE[key]) for key in _BESIDE if key in keys)
    made = sql.SQL(_PATCH).format(source=sql.SQL(source), assignments=assignments, beside=beside)
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
    """Set fields of one device and record before and after under the journal entry; keys as in
    `apply_patches`.
    """
    values = {"device": device_id, "patch": json.dumps(patch)}
    _write_patches(connection, entry_id, set(patch), _ONE_PATCH, values)
    refresh_memberships_of_one(connection, device_id, set(patch))


def apply_patches(connection: Connection, entry_id: int, patches: pl.DataFrame) -> None:
    """Set fields of many devices at once and record before and after under the journal entry.

    patches: `device_id`, `patch`, JSON of field → new value; the key `identifiers` adds `[{kind,
    value, maker, given}]`.
    """
    bulk.temporary(
        connection, "patches", "device_id bigint PRIMARY KEY, patch jsonb NOT NULL", patches
    )
    apply_patch_table(connection, entry_id)


def apply_patch_table(connection: Connection, entry_id: int, reverting: bool = False) -> None:
    """The same for patches that already stand in the temporary table `patches`.

    `reverting` lets devices go back the way they came.
    """
    with raw(connection).cursor() as cursor:
        cursor.execute("SELECT DISTINCT key FROM patches, jsonb_object_keys(patch) AS key")
        keys = {cast(str, row[0]) for row in cursor.fetchall()}
    if keys:
        _write_patches(connection, entry_id, keys, _PATCH_TABLE, {}, reverting)
        refresh_memberships(connection, "SELECT device_id AS id FROM patches", keys)


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
    refresh_memberships(
        connection,
        "SELECT device_id AS id FROM merges UNION SELECT other_id FROM merges",
        {"identifiers"},
    )
