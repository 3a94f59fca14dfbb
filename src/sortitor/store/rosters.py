"""What sources say of devices: beside what they said before, and which device of the fleet each
line is.
"""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass
from datetime import datetime
from typing import cast

import polars as pl
from sqlalchemy import Connection, select

from sortitor.core.rosters import DEVICE_COLUMNS, NUMBERS
from sortitor.store import bulk
from sortitor.store.engine import raw
from sortitor.store.tables import identifiers, roster_devices

_VALUES = (*DEVICE_COLUMNS[1:], "extra")
_NAMES = ", ".join(_VALUES)
_TOLD = "t." + ", t.".join(_VALUES)
_KEPT = "r." + ", r.".join(_VALUES)

#: Each number of each line, with the maker that a serial number is unique within.
_NUMBERS = "\n    UNION ALL ".join(
    f"SELECT key, '{kind.value}' AS kind, {column} AS value,"  # noqa: S608
    f" {'lower(maker)' if column == 'serial' else 'NULL'} AS maker"
    f" FROM {{lines}} WHERE {column} IS NOT NULL"
    for column, kind in NUMBERS.items()
)
#: The device that shares most numbers with a line is meant by it; of several the first.
_MATCH = f"""
WITH numbers AS (
    {_NUMBERS}
), shared AS (
    SELECT n.key, i.device_id, count(*) AS hits FROM numbers n
    JOIN identifiers i ON i.value = n.value AND i.kind = n.kind
        AND (n.maker IS NULL OR i.maker = '' OR i.maker = n.maker)
    GROUP BY n.key, i.device_id
)
SELECT DISTINCT ON (key) key, device_id FROM shared ORDER BY key, hits DESC, device_id
"""  # noqa: S608


@dataclass(frozen=True, slots=True)
class Moved:
    """What a run says beside what was said before."""

    added: int
    changed: int
    gone: int
    #: How many the roster held before.
    known: int


def stage(
    connection: Connection,
    source_id: int,
    devices: pl.DataFrame,
    gone: pl.DataFrame,
    whole: bool,
    tell: Callable[[int], None] | None = None,
) -> Moved:
    """Put what a run said (DEVICE_SCHEMA) beside what is kept; gives what that would change."""
    bulk.with_room(connection)
    others = ", ".join(f"{name} text" for name in DEVICE_COLUMNS[1:])
    run = raw(connection).execute
    run("DROP TABLE IF EXISTS told")
    columns = f'key text COLLATE "C", {others}, extra jsonb'
    run(f"CREATE TEMP TABLE told ({columns}) ON COMMIT DROP")
    bulk.copy_in(connection, "told", devices, tell)
    run("ANALYZE told")
    bulk.temporary(connection, "told_gone", 'key text COLLATE "C"', gone.select("key"))
    return _compared(connection, source_id, whole)


_GONE = {
    True: "NOT EXISTS (SELECT FROM told t WHERE t.key = r.key)",
    False: (
        "EXISTS (SELECT FROM told_gone g WHERE g.key = r.key)"
        " AND NOT EXISTS (SELECT FROM told t WHERE t.key = r.key)"
    ),
}


def _compared(connection: Connection, source_id: int, whole: bool) -> Moved:
    found = raw(connection).execute(
        f"""
        SELECT (SELECT count(*) FROM told t LEFT JOIN roster_devices r
                ON r.source_id = %(source)s AND r.key = t.key WHERE r.key IS NULL),
            (SELECT count(*) FROM told t JOIN roster_devices r
                ON r.source_id = %(source)s AND r.key = t.key
                WHERE ({_TOLD}) IS DISTINCT FROM ({_KEPT})),
            (SELECT count(*) FROM roster_devices r
                WHERE r.source_id = %(source)s AND {_GONE[whole]}),
            (SELECT count(*) FROM roster_devices r WHERE r.source_id = %(source)s)
        """,  # noqa: S608 - the columns are named above
        {"source": source_id},
    )
    return Moved(*cast("tuple[int, int, int, int]", found.fetchone()))


def merge(connection: Connection, source_id: int, whole: bool, now: datetime) -> None:
    """Make what was staged the roster of a source but for its new lines, which `write` adds once
    their devices are there; whoever reads meanwhile sees the former one.
    """
    run = raw(connection).execute
    values = {"source": source_id, "now": now}
    run(
        f"DELETE FROM roster_devices r WHERE r.source_id = %(source)s AND {_GONE[whole]}",  # noqa: S608
        values,
    )
    run(
        f"""
        UPDATE roster_devices r SET ({_NAMES}, device_id, changed_at) = ({_TOLD}, NULL, %(now)s)
        FROM told t WHERE r.source_id = %(source)s AND r.key = t.key
            AND ({_TOLD}) IS DISTINCT FROM ({_KEPT})
        """,  # noqa: S608
        values,
    )
    _match(connection)


def _match(connection: Connection) -> None:
    """Find the devices of what was staged."""
    run = raw(connection).execute
    run("DROP TABLE IF EXISTS matched")
    run("CREATE TEMP TABLE matched ON COMMIT DROP AS" + _MATCH.format(lines="told"))
    run("ANALYZE matched")


def write(connection: Connection, source_id: int, now: datetime, made_devices: bool) -> None:
    """Add the new lines, and give every line its device; `made_devices`: since `merge`."""
    run = raw(connection).execute
    values = {"source": source_id, "now": now}
    if made_devices:
        _match(connection)
    run(
        f"""
        INSERT INTO roster_devices (source_id, key, {_NAMES}, device_id, changed_at)
        SELECT %(source)s, t.key, {_TOLD}, m.device_id, %(now)s
        FROM told t LEFT JOIN matched m ON m.key = t.key
        LEFT JOIN roster_devices r ON r.source_id = %(source)s AND r.key = t.key
        WHERE r.key IS NULL ORDER BY t.key
        """,  # noqa: S608
        values,
    )
    run(
        "UPDATE roster_devices r SET device_id = m.device_id FROM matched m"
        " WHERE r.source_id = %(source)s AND r.key = m.key AND r.device_id IS NULL",
        values,
    )


def news(connection: Connection, source_id: int, now: datetime) -> pl.DataFrame:
    """The lines that are new or were changed at this moment and are no device of the fleet, as
    DEVICE_COLUMNS and `supplier`: what was known as unknown before is no news.
    """
    names = ", ".join(f"t.{name}" for name in DEVICE_COLUMNS) + ", t.extra ->> 'reseller'"
    return bulk.read_frame(
        connection,
        f"SELECT {names} FROM told t LEFT JOIN roster_devices r ON r.source_id = %s"  # noqa: S608
        " AND r.key = t.key LEFT JOIN matched m ON m.key = t.key WHERE m.device_id IS NULL"
        " AND (r.key IS NULL OR r.changed_at = %s) ORDER BY t.key",
        dict.fromkeys((*DEVICE_COLUMNS, "supplier"), pl.String),
        [source_id, now],
    )


def match_news(connection: Connection, source_id: int) -> None:
    """Give the lines without a device the one that is theirs by now."""
    run = raw(connection).execute
    run("DROP TABLE IF EXISTS nameless, matched")
    run(
        f"CREATE TEMP TABLE nameless ON COMMIT DROP AS SELECT key, maker,"  # noqa: S608
        f" {', '.join(NUMBERS)} FROM roster_devices"
        f" WHERE source_id = {int(source_id)} AND device_id IS NULL"
    )
    run("ANALYZE nameless")
    run("CREATE TEMP TABLE matched ON COMMIT DROP AS" + _MATCH.format(lines="nameless"))
    run(
        "UPDATE roster_devices r SET device_id = m.device_id FROM matched m"
        " WHERE r.source_id = %s AND r.key = m.key",
        [source_id],
    )


def called(connection: Connection, source_id: int, keys: Collection[str]) -> list[int]:
    """The devices that a source says under these keys, or that have them as serial numbers."""
    said = select(roster_devices.c.device_id).where(
        roster_devices.c.source_id == source_id,
        roster_devices.c.device_id.is_not(None),
        roster_devices.c.key.in_(list(keys)),
    )
    serial = select(identifiers.c.device_id).where(
        identifiers.c.kind == "serial", identifiers.c.value.in_([key.upper() for key in keys])
    )
    return sorted(connection.execute(said.union(serial)).scalars())


def match_again(connection: Connection, after_entry: int) -> None:
    """Look for the device of every line that has none, and of those whose device was merged, taken
    away or given other numbers by entries after `after_entry`.
    """
    run = raw(connection).execute
    run(
        """
        UPDATE roster_devices r SET device_id = NULL
        FROM (SELECT DISTINCT device_id FROM journal_effects WHERE entry_id > %s
                AND (after IS NULL OR after ?| ARRAY['identifiers', 'given_away', 'maker'])
            UNION SELECT d.id FROM journal_creations c
                JOIN journal j ON j.reverts = c.entry_id AND j.id > %s
                JOIN LATERAL generate_series(c.first_device_id, c.last_device_id) AS d (id)
                    ON true) moved
        WHERE r.device_id = moved.device_id
        """,
        [after_entry, after_entry],
    )
    for row in run("SELECT id FROM sources ORDER BY id").fetchall():
        match_news(connection, cast("tuple[int]", row)[0])
