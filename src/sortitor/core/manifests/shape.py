"""What a file becomes, and how to read it where it leaves a choice."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import polars as pl

from sortitor.core import columns
from sortitor.core.cells import plain_header
from sortitor.core.errors import BadInput, TooLarge
from sortitor.core.identifiers import check_one, kind_of
from sortitor.core.vocabulary import IdentifierKind

MAX_COLUMNS = 300
MAX_ROWS = 2_000_000
MAX_CELLS = 60_000_000
MAX_CELL_BYTES = 1_000_000
EXTRA_CELLS = "(cells beyond the header)"
#: Where a row stood, when several sheets are read together.
SHEET_PLACE = "(sheet and row)"
#: Titles, addresses and dates may stand above the headers, so many lines at most.
_LOOKED_THROUGH = 30


@dataclass(frozen=True, slots=True)
class Reading:
    """How to read a file; what is left out, the content decides.

    sheet:      the sheet's name; `sheets` takes several together
    header_row: the headers' line, counted from 1; 0: the file has none
    encoding:   a text's encoding, one of ENCODINGS
    """

    sheet: str | None = None
    header_row: int | None = None
    encoding: str | None = None
    sheets: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Remark:
    """What is to be said of a file: of all of it, of one column, or of some rows.

    rows: their numbers as ranges `(first, last)`; none: the file or the column as a whole
    """

    code: str
    column: str = ""
    given: str | None = None
    rows: tuple[tuple[int, int], ...] = ()


@dataclass(frozen=True, slots=True)
class Manifest:
    """`cells`: one text column per header, as a spreadsheet shows it; `numbers`: each row's number
    in the file.

    layout:  how it was read (comma, semicolon, tab, pipe, workbook, json, paste)
    sheets:  those of a workbook
    above:   the lines above the rows as `(number, cells)`, the headers' among them
    remarks: what is to be said of the file
    """

    headers: tuple[str, ...]
    cells: pl.DataFrame
    numbers: pl.Series
    layout: str
    encoding: str = ""
    sheet: str | None = None
    sheets: tuple[str, ...] = ()
    header_row: int = 1
    above: tuple[tuple[int, tuple[str, ...]], ...] = ()
    remarks: tuple[Remark, ...] = ()


def reading_of(kept: Mapping[str, Any]) -> Reading:
    """A reading as it was kept as JSON."""
    return Reading(
        kept.get("sheet"),
        kept.get("header_row"),
        kept.get("encoding"),
        tuple(kept.get("sheets", ())),
    )


def remarks_of(kept: Iterable[Mapping[str, Any]]) -> tuple[Remark, ...]:
    """Remarks as they were kept as JSON."""
    return tuple(
        Remark(
            one["code"],
            one["column"],
            one["given"],
            tuple((first, last) for first, last in one["rows"]),
        )
        for one in kept
    )


def lines_above(kept: Iterable[Sequence[Any]]) -> tuple[tuple[int, tuple[str, ...]], ...]:
    """The lines above the rows as they were kept as JSON."""
    return tuple((number, tuple(cells)) for number, cells in kept)


def ranges(numbers: Sequence[int]) -> tuple[tuple[int, int], ...]:
    """Ascending numbers as ranges `(first, last)`."""
    found: list[tuple[int, int]] = []
    for number in numbers:
        if found and found[-1][1] == number - 1:
            found[-1] = (found[-1][0], number)
        else:
            found.append((number, number))
    return tuple(found)


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


def header_place(first_rows: Sequence[Sequence[str | None]]) -> tuple[int | None, int]:
    """`(place, score)` of the most likely header line among the first rows: the one whose cells
    mean most. None where the rows begin without headers.

    Without any meaning, the first line that has as many cells as most lines.
    """
    widths = [sum(1 for cell in row if cell and cell.strip()) for row in first_rows]
    counted = Counter(width for width in widths if width)
    usual = max(counted, key=lambda width: (counted[width], width), default=0)
    best, best_score = 0, 0
    for place, row in enumerate(first_rows[:_LOOKED_THROUGH]):
        score = _title_score(row, usual)
        if score > best_score:
            best, best_score = place, score
    if best_score == 0 and first_rows:
        best = next(place for place, width in enumerate(widths) if width >= usual)
        if _is_data(first_rows[best]):
            return None, 0
    return best, best_score


def _title_score(row: Sequence[str | None], usual: int) -> int:
    """How much a line looks like headers."""
    cells = [cell.strip() if cell else "" for cell in row]
    filled = [cell for cell in cells if cell]
    # A line of one cell is a title, unless the whole file has one column.
    if (
        not filled
        or (len(filled) == 1 and len(cells) > 1 and usual > 1)
        or len(cells) > MAX_COLUMNS
    ):
        return 0
    known: dict[str, int] = {}
    for cell in filled:
        if len(cell) <= 80 and len(re.findall(r"\d", cell)) < 4:
            for column, much in columns.meanings(cell).items():
                known[column] = max(known.get(column, 0), much)
    numbers = any(column in columns.IDENTIFIER_COLUMNS for column in known)
    if not numbers and len(known) == 1 and len(filled) * 2 <= usual:
        return 0
    values = sum(1 for cell in filled if len(re.findall(r"\d", cell)) >= 4)
    return max(len(known) * 2 + numbers - values, 0)


def _is_data(row: Sequence[str | None]) -> bool:
    """Whether a line has numbers of a device rather than titles."""
    for cell in row:
        text = (cell or "").strip()
        if not re.search(r"\d", text):
            continue
        kind = kind_of(text)
        if kind is not IdentifierKind.SERIAL and check_one(kind, text)[0]:
            return True
        if re.fullmatch(r"(?=.*\d.*\d)[A-Z0-9][A-Z0-9\-/]{5,}", text):
            return True
    return False


def nameless(width: int) -> list[str]:
    """Headers for a file that has none."""
    return [f"column {place}" for place in range(1, width + 1)]


def trimmed(cells: pl.DataFrame, titles: Sequence[str] | None) -> tuple[pl.DataFrame, list[Remark]]:
    """Without columns that have neither title nor cells, and without a second table that stands
    beside the first, behind such a column.
    """
    empty = [
        not (titles is not None and titles[place].strip())
        and not cells[name].str.contains(r"\S").fill_null(False).any()
        for place, name in enumerate(cells.columns)
    ]
    groups: list[list[str]] = [[]]
    for name, is_empty in zip(cells.columns, empty, strict=True):
        if is_empty:
            groups.append([])
        else:
            groups[-1].append(name)
    groups = [group for group in groups if group]
    if not any(empty):
        return cells, []
    kept = [name for group in groups for name in group]
    remarks: list[Remark] = []
    if len(groups) > 1 and titles is not None:
        kept, remarks = _without_beside(cells, groups)
    return cells.select(kept), remarks


def _without_beside(cells: pl.DataFrame, groups: list[list[str]]) -> tuple[list[str], list[Remark]]:
    def numbers(group: list[str]) -> set[str]:
        known = {column for name in group for column in columns.meanings(name)}
        return known.intersection(columns.IDENTIFIER_COLUMNS)

    def rows(group: list[str]) -> int:
        filled = cells.select(pl.any_horizontal(pl.col(group).str.contains(r"\S").fill_null(False)))
        return int(filled.to_series().sum())

    numbered = [group for group in groups if numbers(group)]
    if not numbered:
        return [name for group in groups for name in group], []
    most = max(numbered, key=rows)
    kept: list[str] = []
    beside: list[str] = []
    for group in groups:
        other = rows(group) * 5 < rows(most) * 4 or bool(numbers(group) & numbers(most))
        (beside if other and group is not most else kept).extend(group)
    remarks = [Remark("table_beside", given=", ".join(beside))] if beside else []
    return kept, remarks


def check_width(width: int) -> None:
    """Raise TooLarge for more columns than are read."""
    if width > MAX_COLUMNS:
        raise TooLarge(
            "too_many_columns",
            f"The file has {width:,} columns; at most {MAX_COLUMNS} are read.",
            "Delete the columns that are not needed and export again.",
        )


def _check_lengths(cells: pl.DataFrame, first_number: int) -> None:
    """Raise TooLarge for a cell that no person has written."""
    for header in cells.columns:
        lengths = cells[header].str.len_bytes()
        longest = lengths.max()
        if isinstance(longest, int) and longest > MAX_CELL_BYTES:
            place = lengths.arg_max() or 0
            raise TooLarge(
                "cell_too_long",
                f"Row {place + first_number} has {longest:,} bytes in one cell; at most"
                f" {MAX_CELL_BYTES:,} are read.",
                "A missing quotation mark may have joined many lines; correct that row.",
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
    _check_lengths(cells, first_number)
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
