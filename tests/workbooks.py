"""Small workbooks for tests, as suppliers send them."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Sequence
from datetime import date
from typing import Any
from xml.sax.saxutils import escape

import xlsxwriter

Grid = Sequence[Sequence[Any]]

#: The day on which the tests' files are read.
TODAY = date(2026, 11, 26)


def xlsx(*sheets: tuple[str, Grid], merged_title: str = "") -> bytes:
    """A workbook; numbers are written as numbers, dates as dates, text as text."""
    buffer = io.BytesIO()
    with xlsxwriter.Workbook(
        buffer, {"in_memory": True, "strings_to_numbers": False, "strings_to_formulas": False}
    ) as book:
        day = book.add_format({"num_format": "dd.mm.yyyy"})
        for name, grid in sheets:
            sheet = book.add_worksheet(name)
            top = 0
            if merged_title:
                sheet.merge_range(0, 0, 0, 3, merged_title)
                top = 2
            for y, row in enumerate(grid, top):
                for x, cell in enumerate(row):
                    if isinstance(cell, date):
                        sheet.write_datetime(y, x, cell, day)
                    elif cell is not None:
                        sheet.write(y, x, cell)
    return buffer.getvalue()


def ods(grid: Grid, extra: str = "") -> bytes:
    """An OpenDocument spreadsheet of text cells; `extra` is put behind the rows."""
    rows = "".join(
        "<table:table-row>"
        + "".join(
            "<table:table-cell"
            f' office:value-type="string"><text:p>{escape(str(cell))}</text:p></table:table-cell>'
            for cell in row
        )
        + "</table:table-row>"
        for row in grid
    )
    content = (
        '<?xml version="1.0"?><office:document-content'
        ' xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" '
        'xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0"'
        ' xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0">'
        "<office:body><office:spreadsheet><table:table"
        f' table:name="Sheet1">{rows}{extra}</table:table></office:spreadsheet></office:body>'
        "</office:document-content>"
    )
    kind = "application/vnd.oasis.opendocument.spreadsheet"
    listing = (
        "<manifest:manifest"
        ' xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"><manifest:file-entry'
        f' manifest:full-path="/" manifest:media-type="{kind}"/></manifest:manifest>'
    )
    return archive(
        {
            "mimetype": kind.encode(),
            "content.xml": content.encode(),
            "META-INF/manifest.xml": listing.encode(),
        }
    )


def archive(members: dict[str, bytes]) -> bytes:
    """A zip archive."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as made:
        for name, content in members.items():
            # OpenDocument wants its type first and uncompressed.
            made.writestr(
                name, content, zipfile.ZIP_STORED if name == "mimetype" else zipfile.ZIP_DEFLATED
            )
    return buffer.getvalue()


def bomb(megabytes: int) -> bytes:
    """A workbook whose one sheet expands to so much."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as made:
        made.writestr("xl/workbook.xml", "<workbook/>")
        with made.open("xl/worksheets/sheet1.xml", "w", force_zip64=True) as sheet:
            for _ in range(megabytes):
                sheet.write(b" " * 1_000_000)
    return buffer.getvalue()
