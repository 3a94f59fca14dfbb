"""What a file becomes, and how to read it where it leaves a choice."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import polars as pl

from sortitor.core import columns
from sortitor.core.cells import plain_header
from sortitor.core.errors import BadInput, TooLarge

MAX_COLUMNS = 300
MAX_ROWS = 2_000_000
MAX_CELLS = 60_000_000
EXTRA_CELLS = "(cells beyond the header)"
#: Titles, addresses and dates may stand above the headers, so many lines at most.
_LOOKED_THROUGH = 30


@dataclass(frozen=True, slots=True)
class Reading:
    """`sheet` by its name and `header_row` counted from 1; None lets the content decide."""

    sheet: str | None = None
    header_row: int | None = None


@dataclass(frozen=True, slots=True)
class Manifest:
    """`cells`: one text column per header, exactly as given; `numbers`: each row's number in the
    file.

    `layout` says how it was read (comma, semicolon, tab, pipe, workbook, json, paste); `sheets` are
    those of a workbook.
    """

    headers: tuple[str, ...]
    cells: pl.DataFrame
    numbers: pl.Series
    layout: str
    encoding: str = ""
    sheet: str | None = None
    sheets: tuple[str, ...] = ()
    header_row: int = 1


def unique_headers(headers: Sequence[str]) -> list[str]:
    """Headers trimmed, empty ones named, repeated ones numbered, so that every cell has one
    place.
    """
    seen: Counter[str] = Counter()
    result = []
    for place, header in enumerate(headers, start=1):
        name = plain_header(header.strip()) or f"column {place}"
        seen[name] += 1
        result.append(name if seen[name] == 1 else f"{name} {seen[name]}")
    return (
        result
        if len(set(result)) == len(result)
        else [f"{name} ({i})" for i, name in enumerate(result, 1)]
    )


def header_place(first_rows: Sequence[Sequence[str | None]]) -> tuple[int, int]:
    """`(place, score)` of the most likely header line among the first rows: the one whose cells
    mean most.

    Without any meaning, the first line that has as many cells as most lines.
    """
    best, best_score = 0, 0
    for place, row in enumerate(first_rows[:_LOOKED_THROUGH]):
        cells = [cell or "" for cell in row]
        known = (
            columns.understand(unique_headers(cells))
            if any(cells) and len(cells) <= MAX_COLUMNS
            else {}
        )
        # A line of one cell is a title, unless the whole file has one column.
        score = (
            len(known) * 2 + any(column in columns.IDENTIFIER_COLUMNS for column in known.values())
            if sum(map(bool, cells)) > 1 or len(cells) == 1
            else 0
        )
        if score > best_score:
            best, best_score = place, score
    if best_score == 0 and first_rows:
        widths = Counter(sum(map(bool, row)) for row in first_rows)
        usual = max(widths, key=lambda width: (widths[width], width))
        best = next(place for place, row in enumerate(first_rows) if sum(map(bool, row)) >= usual)
    return best, best_score


def check_width(width: int) -> None:
    """Raise TooLarge for more columns than are read."""
    if width > MAX_COLUMNS:
        raise TooLarge(
            "too_many_columns",
            f"The file has {width:,} columns; at most {MAX_COLUMNS} are read.",
            "Delete the columns that are not needed and export again.",
        )


def made(cells: pl.DataFrame, first_number: int, **how: object) -> Manifest:
    """The manifest of these cells, empty rows left out.

    Raises BadInput without rows, TooLarge with too many.
    """
    if cells.height > MAX_ROWS or cells.height * cells.width > MAX_CELLS:
        raise TooLarge(
            "too_many_rows",
            f"The file has {cells.height:,} rows in {cells.width} columns; at most {MAX_ROWS:,}"
            f" rows and {MAX_CELLS:,} cells are read at once.",
            "Split the file.",
        )
    numbers = pl.Series("row", range(first_number, cells.height + first_number), dtype=pl.Int64)
    # Most rows have something in their first column, and need no second look.
    filled = cells.to_series(0).str.contains(r"\S").fill_null(False)
    if not filled.all():
        filled = cells.select(
            pl.any_horizontal(pl.all().str.contains(r"\S").fill_null(False))
        ).to_series()
        cells, numbers = cells.filter(filled), numbers.filter(filled)
    if cells.height == 0:
        raise BadInput(
            "no_rows",
            "The file has a header line but no rows.",
            "Export the file again with its rows.",
        )
    return Manifest(tuple(cells.columns), cells, numbers, **how)  # type: ignore[arg-type]
