"""Workbooks of any size (Office Open XML, ECMA-376), given out as they are written: the first bytes
go with the first part of the table, and nobody holds more than a part.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from html import escape
from typing import IO
from zipfile import ZIP_DEFLATED, ZipFile

import polars as pl

#: What a sheet may be called with its number, holds beside its heads, and what a cell holds.
_NAME_CHARACTERS = 28
_SHEET_ROWS = 1_048_575
_CELL_CHARACTERS = 32_767
#: A sheet stays below what an archive of the old kind holds, which every reader takes.
_SHEET_BYTES = 1_500_000_000
#: More takes much longer and gives little: what repeats most is the marks around the cells.
_COMPRESSION = 2

_BEGIN = '<?xml version="1.0" encoding="UTF-8" standalone="yes"?>\n'
_MAIN = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
_PACKAGE = "http://schemas.openxmlformats.org/package/2006"
_OFFICE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
_TYPE = "application/vnd.openxmlformats-officedocument.spreadsheetml"
_TEXT, _HEAD = 1, 2
#: Every cell is text (49: `@`), so that no digit is lost and nothing is taken for a formula.
_STYLES = (
    f'{_BEGIN}<styleSheet xmlns="{_MAIN}"><fonts count="2"><font><sz val="11"/><name'
    ' val="Calibri"/></font><font><b/><sz val="11"/><name val="Calibri"/></font></fonts><fills'
    ' count="2"><fill><patternFill patternType="none"/></fill><fill><patternFill'
    ' patternType="gray125"/></fill></fills><borders count="1"><border><left/><right/><top/>'
    '<bottom/><diagonal/></border></borders><cellStyleXfs count="1"><xf numFmtId="0" fontId="0"'
    ' fillId="0" borderId="0"/></cellStyleXfs><cellXfs count="3"><xf numFmtId="0" fontId="0"'
    ' fillId="0" borderId="0" xfId="0"/><xf numFmtId="49" fontId="0" fillId="0" borderId="0"'
    ' xfId="0" applyNumberFormat="1"/><xf numFmtId="49" fontId="1" fillId="0" borderId="0"'
    ' xfId="0" applyNumberFormat="1" applyFont="1"/></cellXfs><cellStyles count="1"><cellStyle'
    ' name="Normal" xfId="0" builtinId="0"/></cellStyles></styleSheet>'
)
_RELATIONS = (
    f'{_BEGIN}<Relationships xmlns="{_PACKAGE}/relationships"><Relationship Id="rId1"'
    f' Type="{_OFFICE}/officeDocument" Target="xl/workbook.xml"/></Relationships>'
)
#: The heads stay in sight, and columns are wide enough for a serial number.
_SHEET_BEGIN = (
    f'{_BEGIN}<worksheet xmlns="{_MAIN}"><sheetViews><sheetView workbookViewId="0"><pane'
    ' ySplit="1" topLeftCell="A2" activePane="bottomLeft" state="frozen"/></sheetView></sheetViews>'
    '<cols><col min="1" max="{columns}" width="18" customWidth="1"/></cols><sheetData>'
)
_SHEET_END = b"</sheetData></worksheet>"

#: What XML cannot say is written as its number (ECMA-376 part 1, 22.9.2.19), and so is what looks
#: like such a number.
_LOOKS_WRITTEN = r"_(x[0-9A-Fa-f]{4}_)"
_UNSAYABLE = [*(set(map(chr, range(32))) - {"\t", "\n"}), "\ufffe", "\uffff"]
_ESCAPES = {
    "&": "&amp;",
    "<": "&lt;",
    ">": "&gt;",
    **{one: f"_x{ord(one):04X}_" for one in sorted(_UNSAYABLE)},
}


class _Outbox:
    """Where the archive is written; what lies in it is taken away as it comes."""

    def __init__(self) -> None:
        self._pieces: list[bytes] = []

    def write(self, piece: bytes) -> int:
        """Keep a piece."""
        self._pieces.append(bytes(piece))
        return len(piece)

    def flush(self) -> None:
        """Nothing is held back."""

    def close(self) -> None:
        """Nothing is open."""

    def taken(self) -> bytes:
        """All that came since the last time."""
        taken = b"".join(self._pieces)
        self._pieces.clear()
        return taken


def workbook_of(parts: Iterator[pl.DataFrame], name: str) -> Iterator[bytes]:
    """The file of a table (text columns) that comes in parts, at least one; on more sheets than one
    where there are too many rows.
    """
    book = _Book()
    for part in parts:
        yield book.add(part)
    yield book.end(name)


class _Book:
    """The archive as far as it is written; what it gives is not kept."""

    def __init__(self) -> None:
        self._outbox = _Outbox()
        self._archive = ZipFile(self._outbox, "w", ZIP_DEFLATED, compresslevel=_COMPRESSION)
        self._sheet: IO[bytes] | None = None
        self._sheets = self._rows = self._bytes = 0

    def add(self, part: pl.DataFrame) -> bytes:
        """The rows of a part, on the next sheet where this one is full."""
        rest = part
        while rest.height or self._sheet is None:
            sheet = self._sheet_for(part.columns)
            piece = rest.head(_SHEET_ROWS - self._rows)
            self._bytes += sheet.write(_rows_of(piece, self._rows + 2))
            self._rows += piece.height
            rest = rest.slice(piece.height)
        return self._outbox.taken()

    def end(self, name: str) -> bytes:
        """What stands around the sheets, and the list of all."""
        self._close_sheet()
        for path, content in _around(self._sheets, name).items():
            self._archive.writestr(path, content)
        self._archive.close()
        return self._outbox.taken()

    def _sheet_for(self, columns: Sequence[str]) -> IO[bytes]:
        is_full = self._rows == _SHEET_ROWS or self._bytes > _SHEET_BYTES
        if self._sheet is not None and not is_full:
            return self._sheet
        self._close_sheet()
        self._sheets, self._rows = self._sheets + 1, 0
        self._sheet = self._archive.open(f"xl/worksheets/sheet{self._sheets}.xml", "w")
        self._bytes = self._sheet.write(_heads_of(columns))
        return self._sheet

    def _close_sheet(self) -> None:
        if self._sheet is not None:
            self._sheet.write(_SHEET_END)
            self._sheet.close()


def _heads_of(columns: Sequence[str]) -> bytes:
    heads = pl.DataFrame(
        [columns], schema=[f"{place}" for place in range(len(columns))], orient="row"
    )
    begin = _SHEET_BEGIN.format(columns=max(len(columns), 1))
    return begin.encode() + _rows_of(heads, 1, _HEAD)


def _rows_of(frame: pl.DataFrame, first: int, style: int = _TEXT) -> bytes:
    """The rows as XML, from the number `first` on; nothing is written of empty cells."""
    if not frame.height:
        return b""
    number = pl.int_range(first, first + frame.height).cast(pl.String)
    cells = [
        pl.when(pl.col(column) != "")
        .then(
            pl.concat_str(
                pl.lit(f'<c r="{_letters(place)}'),
                number,
                pl.lit(f'" s="{style}" t="inlineStr"><is><t xml:space="preserve">'),
                _escaped(pl.col(column)),
                pl.lit("</t></is></c>"),
            )
        )
        .otherwise(pl.lit(""))
        for place, column in enumerate(frame.columns)
    ]
    row = pl.concat_str(pl.lit('<row r="'), number, pl.lit('">'), *cells, pl.lit("</row>"))
    return str(frame.select(row.str.join()).item()).encode()


def _escaped(text: pl.Expr) -> pl.Expr:
    shown = text.str.head(_CELL_CHARACTERS).str.replace_all(_LOOKS_WRITTEN, "_x005F_${1}")
    return shown.str.replace_many(_ESCAPES)


def _letters(place: int) -> str:
    """What a column is called: A, …, Z, AA, …"""
    letters, rest = "", place + 1
    while rest:
        rest, letter = divmod(rest - 1, 26)
        letters = chr(ord("A") + letter) + letters
    return letters


def _around(sheets: int, name: str) -> dict[str, str]:
    """The other files of the archive."""
    numbers = range(1, sheets + 1)
    called = name[:_NAME_CHARACTERS].capitalize()
    named = "".join(
        f'<sheet name="{escape(called if n == 1 else f"{called} {n}")}" sheetId="{n}"'
        f' r:id="rId{n}"/>'
        for n in numbers
    )
    related = "".join(
        f'<Relationship Id="rId{n}" Type="{_OFFICE}/worksheet" Target="worksheets/sheet{n}.xml"/>'
        for n in numbers
    )
    typed = "".join(
        f'<Override PartName="/xl/worksheets/sheet{n}.xml" ContentType="{_TYPE}.worksheet+xml"/>'
        for n in numbers
    )
    return {
        "xl/workbook.xml": (
            f'{_BEGIN}<workbook xmlns="{_MAIN}" xmlns:r="{_OFFICE}"><sheets>{named}</sheets>'
            "</workbook>"
        ),
        "xl/_rels/workbook.xml.rels": (
            f'{_BEGIN}<Relationships xmlns="{_PACKAGE}/relationships">{related}<Relationship'
            f' Id="rId{sheets + 1}" Type="{_OFFICE}/styles" Target="styles.xml"/></Relationships>'
        ),
        "xl/styles.xml": _STYLES,
        "_rels/.rels": _RELATIONS,
        "[Content_Types].xml": (
            f'{_BEGIN}<Types xmlns="{_PACKAGE}/content-types"><Default Extension="rels"'
            ' ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default'
            ' Extension="xml" ContentType="application/xml"/><Override PartName="/xl/workbook.xml"'
            f' ContentType="{_TYPE}.sheet.main+xml"/>{typed}<Override PartName="/xl/styles.xml"'
            f' ContentType="{_TYPE}.styles+xml"/></Types>'
        ),
    }
