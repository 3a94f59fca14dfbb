"""Workbooks of any size, written by a process of their own: the service answers others meanwhile,
and holds no more than a part.

    python -m sortitor.api.http.workbooks FILE NAME < rows.csv
"""

from __future__ import annotations

import csv
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import IO, BinaryIO

import polars as pl

from sortitor.core.errors import Unavailable

#: Nothing that a cell holds is taken for a number, a formula or a link.
ALL_TEXT = {
    "strings_to_formulas": False,
    "strings_to_numbers": False,
    "strings_to_urls": False,
}
SHEET_NAME = 31
COLUMN_PIXELS = 130
#: What a sheet holds beside its heads (ECMA-376).
_SHEET_ROWS = 1_048_575
_PIECE = 1 << 20


def workbook_of(parts: Iterator[pl.DataFrame], name: str) -> Iterator[bytes]:
    """The file of a table that comes in parts; it is whole before anything of it is given. Raises
    Unavailable where it cannot be written.
    """
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "book.xlsx"
        _write_apart(parts, path, name)
        # It stays readable until it is closed, and is gone then, whoever is cut off.
        return _pieces(path.open("rb"))


def _pieces(file: BinaryIO) -> Iterator[bytes]:
    with file:
        while piece := file.read(_PIECE):
            yield piece


def _write_apart(parts: Iterator[pl.DataFrame], path: Path, name: str) -> None:
    command = [sys.executable, "-m", __name__, str(path), name]
    with subprocess.Popen(command, stdin=subprocess.PIPE, cwd="/") as writer:
        assert writer.stdin is not None
        try:
            with suppress(BrokenPipeError):
                _tell(writer.stdin, parts)
                writer.stdin.close()
            failed = writer.wait()
        finally:
            writer.kill()
    if failed:
        raise Unavailable("no_workbook", "The workbook could not be written.", "Take it as CSV.")


def _tell(pipe: IO[bytes], parts: Iterator[pl.DataFrame]) -> None:
    for place, part in enumerate(parts):
        text = part.write_csv(include_header=place == 0, quote_style="necessary")
        pipe.write(text.encode())


def write(rows: Iterator[list[str]], path: Path, name: str) -> None:
    """Write rows, the first of which is the heads, with every cell as text; on more sheets than one
    where there are too many.
    """
    import xlsxwriter  # only files need it

    heads = next(rows)
    options = {**ALL_TEXT, "constant_memory": True, "tmpdir": str(path.parent)}
    with xlsxwriter.Workbook(str(path), options) as book:
        as_text = book.add_format({"num_format": "@"})
        bold = book.add_format({"bold": True, "num_format": "@"})
        place = _SHEET_ROWS
        number = 0
        for row in _at_least_one(rows):
            if place == _SHEET_ROWS:
                number, place = number + 1, 0
                called = name[: SHEET_NAME - 3].capitalize()
                sheet = book.add_worksheet(called if number == 1 else f"{called} {number}")
                sheet.freeze_panes(1, 0)
                sheet.set_column_pixels(0, len(heads) - 1, COLUMN_PIXELS)
                for column, head in enumerate(heads):
                    sheet.write_string(0, column, head, bold)
            place += 1
            for column, cell in enumerate(row):
                if cell:
                    sheet.write_string(place, column, cell, as_text)


def _at_least_one(rows: Iterator[list[str]]) -> Iterator[list[str]]:
    """A table without rows has its heads."""
    first = next(rows, None)
    yield [] if first is None else first
    yield from rows


if __name__ == "__main__":
    csv.field_size_limit(1 << 30)
    sys.stdin.reconfigure(encoding="utf-8", newline="")  # type: ignore[union-attr]
    write(csv.reader(sys.stdin), Path(sys.argv[1]), sys.argv[2])
