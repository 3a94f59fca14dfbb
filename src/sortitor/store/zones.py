"""Days where the organisation is: its time zone is the engine's, and written into statements as a
constant, so that the database works out once what does not change from row to row.
"""

from __future__ import annotations

from datetime import date, datetime
from typing import Any, TypeAlias

from sqlalchemy import ColumnElement, Date, DateTime, Dialect, Text, cast, func
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql.compiler import SQLCompiler

Moment: TypeAlias = "datetime | ColumnElement[Any]"
_NAME = "organisation_zone"


def set_zone(dialect: Dialect, zone: str) -> None:
    """From now on days of this engine begin and end in this zone, a name of the IANA database."""
    setattr(dialect, _NAME, zone)


class _Zone(ColumnElement[str]):
    inherit_cache = True
    type = Text()


@compiles(_Zone)
def _written(element: _Zone, compiler: SQLCompiler, **_: Any) -> str:
    return "'" + str(getattr(compiler.dialect, _NAME, "UTC")).replace("'", "''") + "'"


def day_of(moment: Moment) -> ColumnElement[date]:
    """The day of a moment where the organisation is."""
    return cast(func.timezone(_Zone(), moment), Date)


def start_of(day: ColumnElement[Any]) -> ColumnElement[datetime]:
    """The moment at which a day begins there."""
    return func.timezone(_Zone(), cast(day, DateTime), type_=DateTime(timezone=True))
