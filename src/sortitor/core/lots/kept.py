"""What would be kept of some rows' cells, to be shown beside them."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date

import polars as pl

from sortitor.core import columns, dates
from sortitor.core.lots.fields import DATES, check_field
from sortitor.core.lots.manner import Manner
from sortitor.core.lots.numbers import read_numbers
from sortitor.core.lots.spelling import spelled, spellings
from sortitor.core.vocabulary import IdentifierKind


def kept_values(
    cells: pl.DataFrame, meaning: Mapping[str, str], manner: Manner, today: date
) -> list[dict[str, str]]:
    """For each row: header → the value that is kept, where it is not the cell itself. `manner` says
    the order of dates, also as a column proved it.
    """
    found: list[dict[str, str]] = [{} for _ in range(cells.height)]
    for header, column in meaning.items():
        if header not in cells.columns:
            continue
        given = cells[header]
        kept = _kept(given, header, column, manner, today)
        for row, (cell, value) in enumerate(zip(given, kept, strict=True)):
            if value is not None and cell is not None and value != cell:
                found[row][header] = value
    return found


def _kept(
    given: pl.Series, header: str, column: str, manner: Manner, today: date
) -> list[str | None]:
    if column in columns.IDENTIFIER_COLUMNS:
        if column == IdentifierKind.FINGERPRINT.value:
            return [None] * given.len()
        trusted = pl.repeat(header in manner.trusted, given.len(), dtype=pl.Boolean, eager=True)
        read = read_numbers(IdentifierKind(column), given, trusted)
        values: list[str | None] = read.checked["value"].to_list()
        for place, more in read.more.rows():
            values[place] = f"{values[place]} {more}"
        return values
    if column in DATES:
        order = manner.dates.get(header)
        ends = column == "warranty_until"
        return dates.read_dates(given, today, ends=ends, order=order)[0]["value"].to_list()
    if column not in (*columns.FIELDS, "person"):
        return [None] * given.len()
    value = check_field(column, given)["value"]
    if column == "maker":
        names = value.drop_nulls().unique().to_list()
        value = spelled(
            value, spellings(names, manner.makers, manner.spellings.get("maker", {}))[0]
        )
    return value.to_list()
