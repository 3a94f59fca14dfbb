"""Days where the organisation is: its time zone is the engine's, and written into statements as a
constant, so that the database works out once what does not change from row to row.
"""

from __future__ import annotations

from datetime import date, datetime
from typing import Any, TypeAlias

from sqlalchemy import (
    ColumnElement,
    Connection,
    Date,
    Dialect,
    Text,
    cast,
    func,
    select,
    text,
)
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql.compiler import SQLCompiler

from sortitor.store.tables import installation

Moment: TypeAlias = "datetime | ColumnElement[Any]"
_NAME = "organisation_zone"


def set_zone(dialect: Dialect, zone: str) -> None:
    """From now on days of this engine begin and end in this zone, a name of the IANA database."""
    setattr(dialect, _NAME, zone)


class _Zone(ColumnElement[str]):
    type = Text()
    # Nothing in it differs from use to use: a statement with it is worked out once. An engine has
    # one zone, and keeps the statements that were worked out for it alone.
    _traverse_internals = []


@compiles(_Zone)
def _written(element: _Zone, compiler: SQLCompiler, **_: Any) -> str:
    return "'" + str(getattr(compiler.dialect, _NAME, "UTC")).replace("'", "''") + "'"


def day_of(moment: Moment) -> ColumnElement[date]:
    """The day of a moment where the organisation is."""
    return cast(func.timezone(_Zone(), moment), Date)


# In order of id, as whoever changes devices takes them: another service may be at work meanwhile.
_SEEN_ON = """
WITH moved AS (
    SELECT d.id, day_here(coalesce(s.last_seen_at, d.enrolled_at, d.created_at)) AS day
    FROM devices d JOIN sightings s ON s.device_id = d.id
    WHERE d.seen_on <> day_here(coalesce(s.last_seen_at, d.enrolled_at, d.created_at))
    ORDER BY d.id FOR UPDATE OF d
)
UPDATE devices d SET seen_on = m.day FROM moved m WHERE d.id = m.id
"""


def keep_days(connection: Connection, zone: str) -> int:
    """Let the days that devices were seen on be days of this zone: after another was set, and after
    an update that did not know it. Gives how many devices have another day now.
    """
    query = select(installation.c.value).where(installation.c.key == "zone")
    if connection.execute(query).scalar_one_or_none() == zone:
        return 0
    kept = insert(installation).values(key="zone", value=zone)
    kept = kept.on_conflict_do_update(index_elements=["key"], set_={"value": zone})
    connection.execute(kept)
    return connection.execute(text(_SEEN_ON)).rowcount
