"""Delimited text: RFC 4180 quoting; comma, semicolon, tab or pipe."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Sequence
from itertools import islice

import polars as pl

from sortitor.core.errors import BadInput
from sortitor.core.manifests import lines
from sortitor.core.manifests.shape import (
    EXTRA_CELLS,
    Manifest,
    Reading,
    Remark,
    check_width,
    header_place,
    made,
    nameless,
    trimmed,
    unique_headers,
)

_DELIMITERS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "pipe"}
_FIRST_LINES = 200

csv.field_size_limit(1_000_000)


def read(text: str, encoding: str, reading: Reading, remarks: Sequence[Remark] = ()) -> Manifest:
    """The table in a decoded text."""
    text, of_lines = _with_one_line_end(text)
    text = _unwrapped(text)
    delimiter = _delimiter(text)
    first = _first_rows(text, delimiter)
    if not first:
        raise BadInput("empty_file", "The file has no cell with a value.", "Export it again.")
    place, score = header_place([row for _, row in first])
    if reading.header_row is not None:
        place = next((i for i, (line, _) in enumerate(first) if line >= reading.header_row), 0)
        place = place if reading.header_row else None
    elif score == 0 and lines.is_list(text):
        # No header, one identifier a line: as if it had been pasted.
        return lines.read_identifiers(text)
    if place is None:
        return _headerless(text, delimiter, encoding, first, [*remarks, *of_lines])
    line, titles = first[place]
    check_width(len(titles))
    headers = unique_headers(titles)
    body = text if line == 1 else text.split("\n", line - 1)[line - 1]
    cells = _cells(body, delimiter, headers, line)
    named = [*titles, *([EXTRA_CELLS] if cells.width > len(titles) else [])]
    cells, beside = trimmed(cells, named)
    return made(
        cells,
        line + 1,
        layout=_DELIMITERS[delimiter],
        encoding=encoding,
        header_row=line,
        above=tuple((number, tuple(row)) for number, row in first[: place + 1]),
        remarks=(*remarks, *of_lines, *beside),
    )


def columns_of_paste(text: str) -> bool | None:
    """Whether a paste is a piece of a spreadsheet (several lines with tabs, or titles above), and
    then whether it has titles; None: it is none.
    """
    shown, _ = _with_one_line_end(text)
    first = _first_rows(shown, _delimiter(shown))
    place, score = header_place([row for _, row in first]) if first else (None, 0)
    if place is not None and score > 0:
        return True
    told = [line for line in shown.split("\n") if line.strip()]
    tabbed = sum("\t" in line for line in told)
    return False if len(told) > 1 and tabbed > len(told) / 2 else None


def _headerless(
    text: str,
    delimiter: str,
    encoding: str,
    first: list[tuple[int, list[str]]],
    remarks: list[Remark],
) -> Manifest:
    width = max(len(row) for _, row in first)
    check_width(width)
    headers = nameless(width)
    # The reader takes a line of headers off.
    cells = _cells(delimiter.join(headers) + "\n" + text, delimiter, headers, 1)
    return made(
        cells,
        1,
        layout=_DELIMITERS[delimiter],
        encoding=encoding,
        header_row=0,
        remarks=(*remarks, Remark("no_headers")),
    )


def _with_one_line_end(text: str) -> tuple[str, list[Remark]]:
    """Lines that end as they do on other machines end as they do here."""
    alone = text.count("\r") - text.count("\r\n")
    if not alone:
        return text, []
    if "\n" not in text:
        return text.replace("\r", "\n"), []
    remark = Remark("mixed_line_ends", given=f"{alone:,} lone carriage returns")
    plain = text.replace("\r\n", "\n")
    delimiter = _delimiter(plain.replace("\r", "\n"))
    counts = Counter(
        line.count(delimiter) for line in plain.replace("\r", "\n").splitlines() if line
    )
    usual = counts.most_common(1)[0][0] if counts else 0
    # A line end between whole rows; inside of a row it is a line break in a cell.
    whole = all(
        piece.count(delimiter) == usual
        for line in plain.split("\n")
        if "\r" in line
        for piece in line.split("\r")
        if piece
    )
    return plain.replace("\r", "\n" if whole else " "), [remark]


def _unwrapped(text: str) -> str:
    """Rows that were put into quotation marks as a whole."""
    head = [line for line in text[:100_000].split("\n")[:20] if line.strip()]
    wrapped = re.compile(r'"(?:[^"]|"")*[,;\t|](?:[^"]|"")*"\s*')
    if len(head) < 2 or not all(wrapped.fullmatch(line) for line in head):
        return text
    inner = (line.strip() for line in text.split("\n"))
    return "\n".join(line[1:-1].replace('""', '"') if line else "" for line in inner)


def _first_rows(text: str, delimiter: str) -> list[tuple[int, list[str]]]:
    """`(line, cells)` of the first records that are not empty; the line is where the record begins,
    from 1.
    """
    reader = csv.reader(io.StringIO(text), delimiter=delimiter)
    rows, line = [], 1
    try:
        for record in islice(reader, 40):
            if any(record):
                rows.append((line, record))
            line = reader.line_num + 1
    except csv.Error as error:
        if not rows:
            raise BadInput(
                "header_unreadable",
                f"The first line cannot be read as headers: {error}.",
                "Export the file again as CSV.",
            ) from error
    return rows


def _delimiter(text: str) -> str:
    """The separator that splits the first 200 lines most consistently into most cells."""
    if said := re.match(r"sep=([,;\t|])\s*\n", text):
        return said[1]
    head = "\n".join(text[:200_000].split("\n")[:_FIRST_LINES])
    best, best_score = ",", (0.0, 0)
    for delimiter in _DELIMITERS:
        try:
            lengths = Counter(
                len(row) for row in csv.reader(io.StringIO(head), delimiter=delimiter) if row
            )
        except csv.Error:
            continue
        length, times = max(
            lengths.items(), key=lambda item: (item[0] > 1, item[1]), default=(1, 0)
        )
        score = (times / max(1, lengths.total()), length) if length > 1 else (0.0, 0)
        if score > best_score:
            best, best_score = delimiter, score
    return best


def _cells(body: str, delimiter: str, headers: list[str], line: int) -> pl.DataFrame:
    # The quick reader takes quotes inside bare cells amiss (5" becomes an open quote), so it reads
    # only what has none.
    if _has_stray_quotes(body, delimiter):
        return _tolerant_cells(body, delimiter, headers, line)
    try:
        frame = pl.read_csv(body.encode(), separator=delimiter, infer_schema=False, quote_char='"')
    except pl.exceptions.PolarsError:
        # A row longer than the header: the tolerant reader keeps what is too much in a column of
        # its own.
        return _tolerant_cells(body, delimiter, headers, line)
    if frame.width != len(headers):
        return _tolerant_cells(body, delimiter, headers, line)
    return frame.rename(dict(zip(frame.columns, headers, strict=True)))


def _has_stray_quotes(body: str, delimiter: str) -> bool:
    """Whether a quotation mark stands where RFC 4180 has none: inside a bare cell, or without its
    partner.
    """
    if '"' not in body:
        return False
    ends = re.escape(delimiter) + r"\r\n"
    return body.count('"') % 2 == 1 or '"' in re.sub(
        rf'(?:(?<=[{ends}])|^)"(?:[^"]|"")*"(?=[{ends}]|$)', "", body
    )


def _tolerant_cells(body: str, delimiter: str, headers: list[str], line: int) -> pl.DataFrame:
    """Every record as text, however long; surplus cells joined in the column EXTRA_CELLS."""
    width = len(headers)
    rows: list[list[str | None]] = []
    reader = csv.reader(io.StringIO(body), delimiter=delimiter, strict=True)
    began = 1
    try:
        for record in reader:
            cells: list[str | None] = [cell or None for cell in record[:width]]
            cells += [None] * (width - len(cells))
            rows.append([*cells, delimiter.join(record[width:]) or None])
            began = reader.line_num + 1
    except csv.Error as error:
        raise BadInput(
            "unreadable_row",
            f"The row that begins on line {line + began - 1} cannot be read: {error}.",
            "A quotation mark is missing, or one too many, in that row.",
        ) from error
    columns = list(zip(*rows[1:], strict=True)) or [() for _ in range(width + 1)]
    if not any(columns[width]):
        columns, names = columns[:width], headers
    else:
        names = [*headers, EXTRA_CELLS]
    return pl.DataFrame(
        {
            name: pl.Series(list(column), dtype=pl.String)
            for name, column in zip(names, columns, strict=True)
        }
    )
