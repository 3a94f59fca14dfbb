"""Tables as files to take away: CSV and XLSX."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import polars as pl
from fastapi import Response
from fastapi.responses import StreamingResponse

from sortitor.api.http.workbooks import workbook_of
from sortitor.core.cells import FORMULA, harmless

CSV = "text/csv; charset=utf-8"
_BYTE_ORDER_MARK = b"\xef\xbb\xbf"
XLSX = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"


def as_file(frame: pl.DataFrame, name: str, form: Literal["csv", "xlsx"]) -> Response:
    """The frame (text columns) as a file; in a workbook every cell is text, so that no digit is
    lost.
    """
    content, media = _written(iter([frame]), name, form)
    return Response(b"".join(content), media_type=media, headers=_named(name, form))


def as_streamed(
    parts: Iterator[pl.DataFrame], name: str, form: Literal["csv", "xlsx"]
) -> StreamingResponse:
    """The same of a large table that comes in parts, at least one; nobody holds the whole."""
    content, media = _written(parts, name, form)
    return StreamingResponse(content, media_type=media, headers=_named(name, form))


def _written(
    parts: Iterator[pl.DataFrame], name: str, form: Literal["csv", "xlsx"]
) -> tuple[Iterator[bytes], str]:
    return (_csv_of(parts), CSV) if form == "csv" else (workbook_of(parts, name), XLSX)


def _named(name: str, form: str) -> dict[str, str]:
    return {"Content-Disposition": f'attachment; filename="{name}.{form}"'}


def _csv_of(parts: Iterator[pl.DataFrame]) -> Iterator[bytes]:
    """With a byte order mark, so that spreadsheets read other scripts aright."""
    first = True
    for part in parts:
        safe = part.with_columns(pl.all().str.replace(FORMULA, "'$0")) if part.height else part
        safe = safe.rename({name: harmless(name) for name in safe.columns})
        text = safe.write_csv(line_terminator="\r\n", include_header=first)
        yield (_BYTE_ORDER_MARK if first else b"") + text.encode()
        first = False
