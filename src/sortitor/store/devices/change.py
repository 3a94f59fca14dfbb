"""The one door for changing devices: each change with its effect on the journal."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property, lru_cache
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
    SELECT d.id, {kept} FROM devices d JOIN p ON p.device_id = d.id{seen}
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
{check}
"""

#: The first device that would go from one stage to another that does not follow it.
_CHECK: LiteralString = """SELECT id, old.name, old.stage, new.stage FROM old JOIN new USING (id)
WHERE NOT old.stage || '>' || new.stage = ANY (%(steps)s) ORDER BY id LIMIT 1"""
_NOTHING_TO_CHECK: LiteralString = "SELECT WHERE false"

#: What a device is to have, where each has a patch that may set the column or not.
_IF_SET: LiteralString = "CASE WHEN {patch} ? {1} THEN n.{0} ELSE old.{0} END"
#: Whatever leads out of being dormant, the day of retirement is gone with it.
_IF_DORMANT: LiteralString = "CASE WHEN {stage} = 'dormant' THEN {day} END"

#: What the journal keeps of a column, as it was and as the row has it now: nothing where both are
#: the same. Of what stands beside the device, what the patch says.
_EFFECT = """CASE WHEN old.{0} IS DISTINCT FROM new.{0}
    THEN jsonb_build_object({1}, {side}.{0}) ELSE '{{}}' END"""
_EFFECT_BESIDE = """CASE WHEN {patch} ? {1}
    THEN jsonb_build_object({1}, {told}) ELSE '{{}}' END"""

#: Keys of a patch that are no columns of a device.
_NOT_OF_THE_ROW = ("identifiers", "given_away")
#: Fields that somebody decides by hand with this change, beside those decided before.
_BY_HAND = "by_hand"
_MANUAL: LiteralString = """CASE WHEN old.manual @> n.by_hand THEN old.manual
    ELSE old.manual || n.by_hand END"""

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
SELECT old.id, i.kind, i.value, i.maker, i.given
FROM old, jsonb_to_recordset({patch} -> 'identifiers') AS i (kind text, value text, maker text,
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

#: Where the devices of a change stand, and what is for each of them alone.
_ONE: LiteralString = "SELECT %(device)s::bigint AS device_id"
_MANY: LiteralString = "SELECT * FROM patches"


#: Whether an entry is taken back → the steps from stage to stage that it may take.
_STEPS = {
    reverting: [f"{before}>{after}" for before, after in steps(reverting)]
    for reverting in (False, True)
}


def _wrong_stage(device_id: int, name: str | None, before: str, after: str) -> Conflict:
    return wrong_stage(name or f"Device no. {device_id}", Stage(before), Stage(after))


@dataclass(frozen=True)
class _Writing:
    """How the statement is written that sets some keys.

    It names the columns: taking whole rows apart and putting them together again as JSON takes
    twice as long.
    """

    keys: frozenset[str]
    #: What `p` has for each device alone: columns of these names, or a whole `patch`, which may
    #: leave keys out. The rest is in one patch for all.
    apart: frozenset[str]

    def __post_init__(self) -> None:
        assert self.keys <= {*PATCHABLE, *_NOT_OF_THE_ROW, _BY_HAND}, self.keys

    @cached_property
    def sighted(self) -> bool:
        return bool({_SEEN, _ENROLLED} & self.keys)

    @cached_property
    def columns(self) -> list[str]:
        # A patch that only adds identifiers sets the note to itself.
        columns = self.keys & set(PATCHABLE) or {"note"}
        columns |= {"retire_on"} if "stage" in self.keys else set()
        columns |= {"manual"} if _BY_HAND in self.keys else set()
        return sorted(columns | ({_SEEN, _ENROLLED} if self.sighted else set()))

    @property
    def own(self) -> list[str]:
        return [name for name in self.columns if name != _SEEN]

    @cached_property
    def patch(self) -> sql.SQL:
        # What is the same for all is read once.
        return sql.SQL('old."new patch"' if "patch" in self.apart else "%(patch)s::jsonb")

    def filled(self, form: LiteralString, name: str, **parts: sql.Composable) -> sql.Composed:
        return sql.SQL(form).format(
            sql.Identifier(name),
            sql.Literal(name),
            new=sql.Identifier(f"new {name}"),
            patch=self.patch,
            **parts,
        )

    def each(self, form: LiteralString, names: Iterable[str]) -> sql.Composed:
        return sql.SQL(", ").join(self.filled(form, name) for name in names)

    def if_sighted(self, text: LiteralString) -> sql.SQL:
        return sql.SQL(text if self.sighted else "")

    def said(self, name: str) -> sql.Composed:
        """What the change says of a column."""
        if "patch" in self.apart:
            return self.filled(_IF_SET, name)
        if name in self.apart:
            return self.filled("old.{new}", name)
        return self.filled("n.{0}" if name in self.keys else "old.{0}", name)

    def wanted(self, name: str) -> sql.Composed:
        """What a column is to have."""
        value = self.said(name)
        if name == "retire_on" and "stage" in self.keys:
            value = self.filled(_IF_DORMANT, name, stage=self.said("stage"), day=value)
        if name == "manual" and _BY_HAND in self.keys:
            value = self.filled(_MANUAL, name)
        return value + self.filled(" AS {0}", name)

    def effect(self, side: LiteralString) -> sql.Composed:
        """What the journal keeps of one side, before or after."""
        parts = [self.filled(_EFFECT, name, side=sql.Identifier(side)) for name in self.columns]
        told: LiteralString = "NULL::jsonb" if side == "old" else "{patch} -> {1}"
        parts += [
            self.filled(_EFFECT_BESIDE, name, told=self.filled(told, name))
            for name in _NOT_OF_THE_ROW
            if name in self.keys
        ]
        return sql.SQL(" || ").join(parts)

    def statement(self, source: LiteralString) -> bytes:
        apart = (self.filled(", p.{0} AS {new}", name) for name in sorted(self.apart))
        beside = (self.filled(form, key) for key, form in _BESIDE.items() if key in self.keys)
        types = {name: TYPES[name] for name in self.columns} | {_BY_HAND: TYPES["manual"]}
        typed = (self.filled("{0} {type}", n, type=sql.SQL(of)) for n, of in types.items())
        made = sql.SQL(_PATCH).format(
            source=sql.SQL(source),
            patch=self.patch,
            kept=self.each("d.{0}", sorted({*self.own, "name", "stage"}))
            + self.if_sighted(f", s.{_SEEN}")
            + sql.SQL("").join(apart),
            seen=self.if_sighted(_WITH_SIGHTINGS),
            held=self.if_sighted(", s"),
            typed=sql.SQL(", ").join(typed),
            wanted=sql.SQL(", ").join(map(self.wanted, self.columns)),
            assignments=self.each("{0} = w.{0}", self.own) + self.if_sighted(_SEEN_ON),
            returned=self.each("d.{0}", self.own) + self.if_sighted(f", w.{_SEEN}"),
            before=self.effect("old"),
            after=self.effect("new"),
            beside=sql.SQL("").join(beside) + self.if_sighted(_SIGHTED),
            check=sql.SQL(_CHECK if "stage" in self.keys else _NOTHING_TO_CHECK),
        )
        return made.as_bytes()


@lru_cache(maxsize=256)
def _patching(keys: frozenset[str], source: LiteralString, apart: frozenset[str]) -> bytes:
    """The statement that sets these keys; written once for every set of them."""
    return _Writing(keys, apart).statement(source)


def _write_patches(
    connection: Connection,
    entry_id: int,
    keys: Collection[str],
    source: LiteralString,
    values: Mapping[str, Any],
    apart: Collection[str] = (),
    reverting: bool = False,
) -> None:
    statement = _patching(frozenset(keys), source, frozenset(apart))
    with raw(connection).cursor() as cursor:
        cursor.execute(statement, {**values, "entry": entry_id, "steps": _STEPS[reverting]})
        if wrong := cursor.fetchone():
            raise _wrong_stage(*cast("tuple[int, str | None, str, str]", wrong))


def patch_one(
    connection: Connection, entry_id: int, device_id: int, patch: Mapping[str, Any]
) -> None:
    """Set fields of one device and record before and after under the journal entry.

    patch: field → new value; the key `identifiers` adds `[{kind, value, maker, given}]`, `by_hand`
    the fields that somebody decides with it.
    """
    values = {"device": device_id, "patch": to_json(patch).decode()}
    _write_patches(connection, entry_id, set(patch), _ONE, values)
    settle_one(connection, device_id, set(patch))


def patch_frame(
    connection: Connection,
    entry_id: int,
    frame: pl.DataFrame,
    patch: Mapping[str, Any] | None = None,
) -> None:
    """The same for many devices at once.

    frame: `device_id`, and columns of fields that each device gets its own value of. patch: what
    all of them get.
    """
    patch = patch or {}
    apart = [name for name in frame.columns if name != "device_id"]
    _stage(connection, frame, {name: TYPES[name] for name in apart})
    values = {"patch": to_json(patch).decode()}
    _write_many(connection, entry_id, {*apart, *patch}, apart, values)


def patch_each(
    connection: Connection, entry_id: int, patches: Mapping[int, Mapping[str, Any]]
) -> None:
    """The same for devices whose patches set different fields."""
    frame = pl.DataFrame(
        {"device_id": patches.keys(), "patch": [to_json(one).decode() for one in patches.values()]},
        schema={"device_id": pl.Int64, "patch": pl.String},
    )
    _stage(connection, frame, {"patch": "jsonb NOT NULL"})
    _write_many(connection, entry_id, {key for one in patches.values() for key in one})


def patch_table(connection: Connection, entry_id: int, reverting: bool = False) -> None:
    """The same for patches that already stand in the temporary table `patches`.

    `reverting` lets devices go back the way they came.
    """
    keys = bulk.keys_of(connection, "SELECT patch AS said FROM patches")
    _write_many(connection, entry_id, keys, reverting=reverting)


def _stage(connection: Connection, frame: pl.DataFrame, types: Mapping[str, str]) -> None:
    columns = ["device_id bigint PRIMARY KEY", *(f"{name} {kind}" for name, kind in types.items())]
    bulk.temporary(connection, "patches", ", ".join(columns), frame)


def _write_many(
    connection: Connection,
    entry_id: int,
    keys: Collection[str],
    apart: Collection[str] = ("patch",),
    values: Mapping[str, Any] | None = None,
    reverting: bool = False,
) -> None:
    if keys:
        _write_patches(connection, entry_id, keys, _MANY, values or {}, apart, reverting)
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
