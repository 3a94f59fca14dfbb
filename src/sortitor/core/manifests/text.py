"""Delimited text: RFC 4180 quoting; comma, semicolon, tab or pipe; UTF-8, UTF-16 or
Windows-1252.
"""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from itertools import islice

import polars as pl

from sortitor.core.errors import BadInput, Unsupported
from sortitor.core.manifests import lines
from sortitor.core.manifests.shape import (
    EXTRA_CELLS,
    Manifest,
    Reading,
    check_width,
    header_place,
    made,
    unique_headers,
)

_DELIMITERS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "pipe"}
_UTF_16 = {b"\xff\xfe": "utf-16-le", b"\xfe\xff": "utf-16-be"}
#: What Windows-1252 leaves undefined; a text that has these is something else.
_UNDEFINED = re.compile(rb"[\x81\x8d\x8f\x90\x9d]")
_CONTROL = bytes({*range(0x20)} - {*b"\t\n\v\f\r\x1b"})
_FIRST_LINES = 200

csv.field_size_limit(1_000_000)


def decode(content: bytes) -> tuple[str, str]:
    """The text and its encoding: by its byte order mark, else UTF-8, else Windows-1252.

    Raises Unsupported for what is no text.
    """
    for mark, name in _UTF_16.items():
        if content.startswith(mark) and not content.startswith(mark + b"\0\0"):
            try:
                return content[2:].decode(name), "UTF-16"
            except UnicodeDecodeError as error:
                raise Unsupported(
                    "wrong_encoding",
                    f"The file begins as UTF-16 text but is none at byte {error.start + 2:,}.",
                    "Save it as CSV in UTF-8.",
                ) from error
    # Counting what is left without them is quicker than searching for them.
    if len(content.translate(None, _CONTROL)) < len(content):
        place = next(place for place, byte in enumerate(content) if byte in _CONTROL)
        line, what = (
            content.count(b"\n", 0, place) + 1,
            "NUL byte" if content[place] == 0 else "control character",
        )
        raise Unsupported(
            "not_text",
            f"Line {line} has a {what} (at byte {place:,}): this is not a text file.",
            "Export the file as CSV or as a workbook.",
        )
    try:
        return content.decode("utf-8-sig"), "UTF-8"
    except UnicodeDecodeError as error:
        place = error.start
    if undefined := _UNDEFINED.search(content):
        line = content.count(b"\n", 0, undefined.start()) + 1
        raise Unsupported(
            "wrong_encoding",
            f"Line {line} is neither UTF-8 nor Windows-1252 (byte {undefined[0][0]:#04x} at"
            f" {undefined.start():,}).",
            "Save the file as CSV in UTF-8.",
        )
    return content.decode("cp1252"), "Windows-1252"


def read(text: str, encoding: str, reading: Reading) -> Manifest:
    """The table in a decoded text."""
    if "\n" not in text:
        # Lines that end as they did on old machines.
        text = text.replace("\r", "\n")
    delimiter = _delimiter(text)
    first = _first_rows(text, delimiter)
    place, score = header_place([row for _, row in first])
    if reading.header_row is not None:
        place = next((i for i, (line, _) in enumerate(first) if line >= reading.header_row), 0)
    elif score == 0 and lines.is_list(text):
        # No header, one identifier a line: as if it had been pasted.
        return lines.read_identifiers(text)
    line, titles = first[place]
    check_width(len(titles))
    headers = unique_headers(titles)
    body = text if line == 1 else text.split("\n", line - 1)[line - 1]
    cells = _cells(body, delimiter, headers, line)
    return made(cells, line + 1, layout=_DELIMITERS[delimiter], encoding=encoding, header_row=line)


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
    head = "\n".join(text[:200_000].splitlines()[:_FIRST_LINES])
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
