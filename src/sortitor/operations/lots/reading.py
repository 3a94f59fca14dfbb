"""Reading lots: pages, rows, notes, and files to take out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import polars as pl

from sortitor.core import lots as core
from sortitor.core.columns import PROBLEM, template_headers
from sortitor.core.errors import Conflict
from sortitor.core.vocabulary import Platform, Verdict
from sortitor.operations.context import Context
from sortitor.operations.lots.checking import known, manner
from sortitor.operations.lots.veil import veiled_groups, veiled_rows
from sortitor.store import lots as store
from sortitor.store import people
from sortitor.store.engine import Connection
from sortitor.store.lots import HeadRow, ListedRow, NoteGroupRow


def one(ctx: Context, lot_id: int) -> HeadRow:
    """One lot without its content."""
    with ctx.reading() as connection:
        return known(connection, lot_id)


def content(ctx: Context, lot_id: int) -> tuple[HeadRow, bytes]:
    """The lot and its file, byte for byte."""
    with ctx.reading() as connection:
        lot, content = known(connection, lot_id), store.content(connection, lot_id)
    if lot.content_bytes and not content:
        raise Conflict(
            "file_gone",
            "The file was let go after its time; the rows of the lot are still here.",
            "Ask the supplier for it.",
        )
    return lot, content


def page(
    ctx: Context,
    after: Sequence[Any] | None,
    limit: int,
    status: str | None,
    query: str | None = None,
    sort: str = "id",
    descending: bool = True,
) -> list[ListedRow]:
    """Lots after the key `(sort value, id)`."""
    with ctx.reading() as connection:
        return store.page(connection, after, limit, status, query, sort, descending)


def rows(
    ctx: Context, lot_id: int, verdict: str | None, code: str | None, after: int, limit: int
) -> Sequence[store.LotRow]:
    """Rows of a lot in order."""
    with ctx.reading() as connection:
        lot = known(connection, lot_id)
        found = store.rows(connection, lot_id, verdict, code, after, limit)
        found = with_kept_values(ctx, connection, lot, found)
        return with_people(connection, veiled_rows(ctx, connection, lot, found))


def with_kept_values(
    ctx: Context, connection: Connection, lot: HeadRow, rows: Sequence[store.LotRow]
) -> list[store.LotRow]:
    """The rows with the values that are kept of their cells."""
    if not rows:
        return []
    each = [{**row.cells, **(row.edited or {})} for row in rows]
    headers = dict.fromkeys(header for cells in each for header in cells)
    frame = pl.DataFrame(
        {header: [cells.get(header) for cells in each] for header in headers},
        schema=dict.fromkeys(headers, pl.String),
    )
    meaning = {header: header for header in headers if header not in lot.headers} | lot.columns
    said = manner(connection, lot)
    said = replace(said, dates={**lot.understanding.get("orders", {}), **said.dates})
    values = core.kept_values(frame, meaning, said, ctx.now.date())
    return [replace(row, kept=kept) for row, kept in zip(rows, values, strict=True)]


def with_people(connection: Connection, rows: Sequence[store.LotRow]) -> list[store.LotRow]:
    """The rows with people by name where they would change hands."""
    pairs = [(row.changes or {}).get("person_id") for row in rows]
    numbers = {int(number) for pair in pairs if pair for number in pair.values() if number}
    names = people.names(connection, numbers)

    def named(row: store.LotRow) -> store.LotRow:
        pair = (row.changes or {}).get("person_id")
        if not pair:
            return row
        person = {side: names.get(int(number)) if number else None for side, number in pair.items()}
        others = {field: one for field, one in (row.changes or {}).items() if field != "person_id"}
        return replace(row, changes={**others, "person": person})

    return [named(row) for row in rows]


def note_groups(ctx: Context, lot_id: int) -> list[NoteGroupRow]:
    """The notes of a lot, grouped, most frequent first."""
    with ctx.reading() as connection:
        lot = known(connection, lot_id)
        return veiled_groups(ctx, lot, store.note_groups(connection, lot_id))


def takeout(ctx: Context, lot_id: int, verdicts: Sequence[Verdict]) -> tuple[HeadRow, pl.DataFrame]:
    """The lot, and its rows of these verdicts in the shape of the original, edits included, with
    what is the matter at the end.
    """
    with ctx.reading() as connection:
        lot = known(connection, lot_id)
        found = [
            row
            for verdict in verdicts
            for row in store.rows(connection, lot_id, verdict, None, 0, 10_000_000)
        ]
        found = veiled_rows(ctx, connection, lot, found)
    found.sort(key=lambda row: row.row)
    added = dict.fromkeys(
        header for row in found for header in row.edited or {} if header not in lot.headers
    )
    headers = [header for header in (*lot.headers, *added) if header != PROBLEM]
    values = {
        header: [{**row.cells, **(row.edited or {})}.get(header) for row in found]
        for header in headers
    }
    problems = [core.problems_of(row.notes or []) for row in found]
    return lot, pl.DataFrame(
        {**values, PROBLEM: problems}, schema=dict.fromkeys([*headers, PROBLEM], pl.String)
    )


def template(platform: Platform) -> list[str]:
    """The headers of a file that imports without a mapping."""
    return template_headers(platform)
