"""Tables as files to take away: CSV and XLSX."""

from __future__ import annotations

import io
from typing import Literal

import polars as pl
from fastapi import Response

from sortitor.core.cells import FORMULA, harmless

#: Nothing that a cell holds is taken for a number, a formula or a link.
_ALL_TEXT = {
    "strings_to_formulas": False,
    "strings_to_numbers": False,
    "strings_to_urls": False,
}
_SHEET_NAME = 31
_COLUMN_PIXELS = 130
XLSX = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"


def as_file(frame: pl.DataFrame, name: str, form: Literal["csv", "xlsx"]) -> Response:
    """The frame (text columns) as a file; in a workbook every cell is text, so that no digit is
    lost.
    """
    content, media = _csv(frame) if form == "csv" else (_workbook(frame, name), XLSX)
    return Response(
        content,
        media_type=media,
        headers={"Content-Disposition": f'attachment; filename="{name}.{form}"'},
    )


def _csv(frame: pl.DataFrame) -> tuple[bytes, str]:
    """With a byte order mark, so that spreadsheets read other scripts aright."""
    safe = frame.with_columns(pl.all().str.replace(FORMULA, "'$0")) if frame.height else frame
    safe = safe.rename({name: harmless(name) for name in safe.columns})
    text = safe.write_csv(line_terminator="\r\n")
    return b"\xef\xbb\xbf" + text.encode(), "text/csv; charset=utf-8"


def _workbook(frame: pl.DataFrame, name: str) -> bytes:
    import xlsxwriter  # only files need it

    buffer = io.BytesIO()
    with xlsxwriter.Workbook(buffer, _ALL_TEXT) as book:
        frame.write_excel(
            book,
            worksheet=name[:_SHEET_NAME].capitalize(),
            dtype_formats={pl.String: "@"},
            header_format={"bold": True, "num_format": "@"},
            column_widths=_COLUMN_PIXELS,
            freeze_panes=(1, 0),
            autofilter=False,
        )
    return buffer.getvalue()
