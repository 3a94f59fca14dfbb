"""Reading lots: pages, rows, notes, and files to take out."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from sortitor.core import lots as core
from sortitor.core.columns import PROBLEM, template_headers
from sortitor.core.vocabulary import Platform, Verdict
from sortitor.operations.context import Context, must
from sortitor.store import lots as store
from sortitor.store.engine import Line


def one(ctx: Context, lot_id: int) -> Line:
    """One lot without its content."""
    with ctx.reading() as connection:
        return must(store.one(connection, lot_id), "lot", lot_id)


def content(ctx: Context, lot_id: int) -> tuple[Line, bytes]:
    """The lot and its file, byte for byte."""
    with ctx.reading() as connection:
        return must(store.one(connection, lot_id), "lot", lot_id), store.content(connection, lot_id)


def page(
    ctx: Context, before: int | None, limit: int, status: str | None, query: str | None = None
) -> Sequence[Line]:
    """Lots, newest first."""
    with ctx.reading() as connection:
        return store.page(connection, before, limit, status, query)


def rows(
    ctx: Context, lot_id: int, verdict: str | None, code: str | None, after: int, limit: int
) -> Sequence[store.LotRow]:
    """Rows of a lot in order."""
    with ctx.reading() as connection:
        must(store.one(connection, lot_id), "lot", lot_id)
        return store.rows(connection, lot_id, verdict, code, after, limit)


def note_groups(ctx: Context, lot_id: int) -> Sequence[Line]:
    """The notes of a lot, grouped, most frequent first."""
    with ctx.reading() as connection:
        must(store.one(connection, lot_id), "lot", lot_id)
        return store.note_groups(connection, lot_id)


def takeout(ctx: Context, lot_id: int, verdicts: Sequence[Verdict]) -> tuple[Line, pl.DataFrame]:
    """The lot, and its rows of these verdicts in the shape of the original, edits included, with
    what is the matter at the end.
    """
    with ctx.reading() as connection:
        lot = must(store.one(connection, lot_id), "lot", lot_id)
        found = [
            row
            for verdict in verdicts
            for row in store.rows(connection, lot_id, verdict, None, 0, 10_000_000)
        ]
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
