"""Frames in and out of PostgreSQL by COPY, on the connection of the transaction."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from itertools import islice
from typing import Any, LiteralString, cast

import polars as pl
from psycopg import ClientCursor, sql
from psycopg.abc import Buffer
from sqlalchemy import Connection, Select

from sortitor.store.engine import raw

_SLICE_ROWS = 50_000


def copy_in(
    connection: Connection,
    table: str,
    frame: pl.DataFrame,
    tell: Callable[[int], None] | None = None,
) -> None:
    """Append the frame to the table; its columns carry the table's names.

    `tell` hears of rows as they go.
    """
    names = sql.SQL(", ").join(map(sql.Identifier, frame.columns))
    statement = sql.SQL("COPY {} ({}) FROM STDIN (FORMAT csv)").format(sql.Identifier(table), names)
    with raw(connection).cursor() as cursor, cursor.copy(statement) as copy:
        for part in frame.iter_slices(_SLICE_ROWS):
            # "necessary" quotes an empty text and leaves a missing one bare, which is how COPY
            # tells them apart.
            copy.write(part.write_csv(include_header=False, quote_style="necessary"))
            if tell is not None:
                tell(part.height)


def copy_out(connection: Connection, query: Select[Any], names: Sequence[str]) -> pl.DataFrame:
    """A query's rows as text columns of these names: by COPY, which neither the database nor the
    driver turns into values first.

    It is read whole before anything is done with it: a backend that writes to somebody who does not
    read cannot be cancelled.
    """
    compiled = query.compile(
        dialect=connection.dialect, compile_kwargs={"render_postcompile": True}
    )
    # COPY takes no values beside its statement: the driver writes them into it.
    statement = f"COPY ({compiled}) TO STDOUT (FORMAT csv)".encode()
    with (
        ClientCursor(raw(connection)) as cursor,
        cursor.copy(statement, compiled.params) as copy,
    ):
        rows = iter(copy)
        parts = [_as_frame(list(islice(rows, _SLICE_ROWS)), names)]
        while lines := list(islice(rows, _SLICE_ROWS)):
            parts.append(_as_frame(lines, names))
    return pl.concat(parts)


def _as_frame(lines: Sequence[Buffer], names: Sequence[str]) -> pl.DataFrame:
    """What COPY wrote, one row to a piece; a missing value is bare, an empty text is quoted."""
    if not lines:
        return pl.DataFrame(schema=dict.fromkeys(names, pl.String))
    return pl.read_csv(b"".join(lines), has_header=False, new_columns=names, infer_schema=False)


def move(
    reading: Connection, connection: Connection, query: str, table: str, columns: Sequence[str]
) -> None:
    """Append a query's rows to a table. Where another server gives them, they are written as they
    come, and nobody holds them.
    """
    names = ", ".join(columns)
    if reading is connection:
        raw(connection).execute(f"INSERT INTO {table} ({names}) {query}")
        return
    with (
        raw(reading).cursor() as asked,
        raw(connection).cursor() as cursor,
        asked.copy(f"COPY ({query}) TO STDOUT") as rows,
        cursor.copy(f"COPY {table} ({names}) FROM STDIN") as copy,
    ):
        for row in rows:
            copy.write(row)


def temporary(connection: Connection, name: str, columns: str, frame: pl.DataFrame) -> None:
    """A table that lives as long as the transaction, filled with the frame and analysed."""
    with raw(connection).cursor() as cursor:
        cursor.execute(
            f"DROP TABLE IF EXISTS {name}; CREATE TEMP TABLE {name} ({columns}) ON COMMIT DROP"
        )
        copy_in(connection, name, frame)
        cursor.execute(f"ANALYZE {name}")


def read_frame(
    connection: Connection, query: str, schema: Mapping[str, Any], values: Sequence[Any] = ()
) -> pl.DataFrame:
    """The query's rows as a frame of this schema."""
    with raw(connection).cursor() as cursor:
        cursor.execute(query, values)
        return pl.DataFrame(cursor.fetchall(), schema=dict(schema), orient="row")


_ANOTHER_KEY: LiteralString = """
SELECT ARRAY(SELECT jsonb_object_keys(said)) FROM ({source}) AS s
WHERE said - %(known)s::text[] <> '{{}}' LIMIT 1
"""


def keys_of(connection: Connection, source: LiteralString, **values: Any) -> set[str]:
    """The keys of many JSON objects, the `said` of a query. Mostly all have the same ones: to look
    for another is several times quicker than to list everyone's.
    """
    statement = _ANOTHER_KEY.format(source=source)
    known: set[str] = set()
    while more := raw(connection).execute(statement, {**values, "known": list(known)}).fetchone():
        known |= set(cast("list[str]", more[0]))
    return known


def with_room(connection: Connection) -> None:
    """Let this transaction sort and join in memory what would otherwise spill to disk: it moves
    many rows at once.
    """
    raw(connection).execute("SET LOCAL work_mem = '256MB'")
