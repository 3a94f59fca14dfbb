"""Tables as files to take away: CSV and XLSX."""

from __future__ import annotations

import io
import re
from typing import Literal

import polars as pl
from fastapi import Response

from sortitor.core.cells import RISKY

_FORMULA = "^[" + re.escape("".join(RISKY)) + "]"
XLSX = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"


def as_file(frame: pl.DataFrame, name: str, form: Literal["csv", "xlsx"]) -> Response:
    """The frame (text columns) as a file; in a workbook every cell is text, so that no digit is
    lost.
    """
    if form == "csv":
        # With a byte order mark, so that spreadsheets read other scripts aright.
        safe = frame.with_columns(pl.all().str.replace(_FORMULA, "'$0"))
        content, media = (
            b"\xef\xbb\xbf" + safe.write_csv(line_terminator="\r\n").encode(),
            "text/csv; charset=utf-8",
        )
    else:
        content, media = _workbook(frame), XLSX
    return Response(
        content,
        media_type=media,
        headers={"Content-Disposition": f'attachment; filename="{name}.{form}"'},
    )


def _workbook(frame: pl.DataFrame) -> bytes:
    import xlsxwriter  # only files need it

    buffer = io.BytesIO()
    with xlsxwriter.Workbook(
        buffer,
        {
            "constant_memory": True,
            "strings_to_formulas": False,
            "strings_to_numbers": False,
            "strings_to_urls": False,
        },
    ) as book:
        text, head = (
            book.add_format({"num_format": "@"}),
            book.add_format({"bold": True, "num_format": "@"}),
        )
        sheet = book.add_worksheet("Devices")
        sheet.set_column(0, max(0, frame.width - 1), 18, text)
        sheet.freeze_panes(1, 0)
        for place, name in enumerate(frame.columns):
            sheet.write_string(0, place, name, head)
        for number, row in enumerate(frame.iter_rows(), 1):
            for place, cell in enumerate(row):
                if cell is not None:
                    sheet.write_string(number, place, cell, text)
    return buffer.getvalue()
