"""Workbooks: XLSX (ECMA-376) and ODS (ISO/IEC 26300), with limits that hold before anything is
expanded.
"""

from __future__ import annotations

import io
import lzma
import re
import zipfile
import zlib
from typing import Any

import polars as pl

from sortitor.core.errors import BadInput, TooLarge, Unsupported
from sortitor.core.manifests.shape import (
    MAX_CELLS,
    MAX_COLUMNS,
    MAX_ROWS,
    Manifest,
    Reading,
    check_width,
    header_place,
    made,
    unique_headers,
)

_EXPANDED_BYTES = 1_500_000_000
_MEMBERS = 2_000
#: A cell of a workbook holds 32,767 characters at most (ECMA-376); a run of so many bytes without
#: a mark of XML is none.
_LONGEST_RUN = 1_000_000
_OLD_WORKBOOK = b"\xd0\xcf\x11\xe0"
_ODS = b"application/vnd.oasis.opendocument.spreadsheet"
_REPEATED = re.compile(rb'number-(?:rows|columns)-repeated="(\d+)"')
#: An office suite repeats the empty rest of a sheet; no more than this is believed.
_REPEATED_CELLS = 1_048_576


def is_archive(content: bytes) -> bool:
    """Whether this is a workbook, old or new, or another archive."""
    return content.startswith((b"PK\x03\x04", b"PK\x05\x06", _OLD_WORKBOOK))


def read(content: bytes, reading: Reading) -> Manifest:
    """The sheet asked for, else the one whose headers mean most."""
    if content.startswith(_OLD_WORKBOOK):
        raise Unsupported(
            "old_workbook",
            "This is a workbook in the format before 2007, or a protected one.",
            "Save it without a password as XLSX, ODS or CSV.",
        )
    _check_archive(content)
    import fastexcel  # slow to load, and only workbooks need it

    try:
        book = fastexcel.read_excel(content)
        names = tuple(book.sheet_names)
        if reading.sheet is not None and reading.sheet not in names:
            raise BadInput(
                "unknown_sheet",
                f"The workbook has no sheet {reading.sheet!r}; it has {', '.join(names)}.",
                "Choose one of them.",
            )
        grids = {
            name: _grid(book, name)
            for name in ([reading.sheet] if reading.sheet is not None else names)
        }
    except fastexcel.FastExcelError as error:
        raise Unsupported(
            "unreadable_workbook",
            f"The workbook cannot be read: {str(error).splitlines()[0]}.",
            "Save it again as XLSX, or as CSV in UTF-8.",
        ) from error
    places = {
        name: header_place(grid.head(40).rows()) for name, grid in grids.items() if grid.height
    }
    if not places:
        raise BadInput(
            "no_rows",
            "No sheet of the workbook has any cells.",
            "Export the file again with its rows.",
        )
    # The first of those that mean most: max keeps the order of the sheets.
    sheet = max(places, key=lambda name: (places[name][1], grids[name].height > 1))
    place = reading.header_row - 1 if reading.header_row is not None else places[sheet][0]
    grid = grids[sheet]
    titles = [cell or "" for cell in grid.row(min(place, grid.height - 1))]
    check_width(len(titles))
    cells = grid.slice(place + 1).rename(
        dict(zip(grid.columns, unique_headers(titles), strict=True))
    )
    # A column without title and without cells is not one.
    cells = cells.select(
        name
        for name, title in zip(cells.columns, titles, strict=True)
        if title.strip() or cells[name].null_count() < cells.height
    )
    if not cells.width:
        raise BadInput(
            "no_rows",
            f"The sheet {sheet} has no rows.",
            "Choose another sheet, or export the file again.",
        )
    return made(
        cells, place + 2, layout="workbook", sheet=sheet, sheets=names, header_row=place + 1
    )


def _grid(book: Any, name: str) -> pl.DataFrame:
    """Every cell of a sheet as text; numbers without loss as far as the file holds them."""
    loaded = book.load_sheet(name, header_row=None, dtypes="string")
    if loaded.width > MAX_COLUMNS:
        check_width(loaded.width)
    if loaded.total_height > MAX_ROWS:
        raise TooLarge(
            "too_many_rows",
            f"The sheet {name} has {loaded.total_height:,} rows; at most {MAX_ROWS:,} are read at"
            " once.",
            "Split the file.",
        )
    frame: pl.DataFrame = loaded.to_polars()
    return frame.cast(pl.String) if frame.width else frame


def _check_archive(content: bytes) -> None:
    """Refuse what is no workbook, and what would expand beyond the limit, by unpacking in small
    pieces and keeping none.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            members = archive.infolist()
            names = {member.filename for member in members}
            ods = (
                "mimetype" in names
                and "content.xml" in names
                and archive.read("mimetype").startswith(_ODS)
            )
            if not ods and "xl/workbook.xml" not in names:
                raise Unsupported(
                    "not_a_workbook",
                    "The file is an archive but neither an XLSX nor an ODS workbook.",
                    "Unpack it, and give the file inside.",
                )
            if (
                len(members) > _MEMBERS
                or sum(member.file_size for member in members) > _EXPANDED_BYTES
            ):
                raise _too_large()
            for member in members:
                _expand(archive, member, ods)
    except (
        zipfile.BadZipFile,
        zipfile.LargeZipFile,
        zlib.error,
        lzma.LZMAError,
        NotImplementedError,
        RuntimeError,
        EOFError,
        OSError,
        ValueError,
    ) as error:
        raise Unsupported(
            "unreadable_workbook",
            f"The workbook is damaged or protected: {error}.",
            "Save it again without a password as XLSX or CSV.",
        ) from error


def _expand(archive: zipfile.ZipFile, member: zipfile.ZipInfo, ods: bool) -> None:
    extent = _Extent()
    is_sheet = re.match(r"xl/worksheets/[^/]+\.xml$", member.filename, re.IGNORECASE) is not None
    is_text = member.filename.lower().endswith(".xml")
    tail, repeated, run, total = b"", 0, 0, 0
    with archive.open(member) as stream:
        while piece := stream.read(1 << 20):
            total += len(piece)
            if total > _EXPANDED_BYTES:
                raise _too_large()
            run = _run(piece, run) if is_text else 0
            if run > _LONGEST_RUN:
                raise _too_large()
            if ods and member.filename == "content.xml":
                for found in _REPEATED.finditer(tail + piece):
                    repeated += int(found[1]) if int(found[1]) < _REPEATED_CELLS // 64 else 0
                    if int(found[1]) > _REPEATED_CELLS or repeated > MAX_ROWS * 4:
                        raise _too_large()
            if is_sheet:
                extent.see(tail + piece)
            tail = piece[-64:]
    if is_sheet and extent.cells > MAX_CELLS:
        _check_filled(archive, member)


def _run(piece: bytes, run: int) -> int:
    """How long the longest piece of text without a mark of XML is, or the one that goes on."""
    first = piece.find(b"<")
    if first < 0:
        return run + len(piece)
    longest = max(map(len, piece.split(b"<")))
    return max(run + first, longest if longest > _LONGEST_RUN else len(piece) - piece.rfind(b"<"))


_COLUMN = re.compile(rb'\br="([A-Z]{1,3})\d')
_ROW = re.compile(rb'<(?:\w+:)?row\b[^>]*?\br="(\d{1,9})"')
_FILLED = re.compile(rb'<(?:\w+:)?c\b[^>]*?\br="([A-Z]{1,3})(\d{1,9})"[^>]*?(?<!/)>')


class _Extent:
    """How far the cells of a sheet reach: a reader lays all of that out."""

    def __init__(self) -> None:
        self._columns: set[bytes] = set()
        self._last_row = 1

    def see(self, text: bytes) -> None:
        """A part of the sheet; parts overlap."""
        self._columns.update(_COLUMN.findall(text))
        for found in _ROW.findall(text):
            self._last_row = max(self._last_row, int(found))

    @property
    def cells(self) -> int:
        """Rows times columns, empty ones too."""
        return self._last_row * max(map(_place_of, self._columns), default=1)


def _place_of(letters: bytes) -> int:
    """A column's place from its letters: A is 1, Z 26, AA 27."""
    place = 0
    for letter in letters:
        place = place * 26 + letter - 64
    return place


def _check_filled(archive: zipfile.ZipFile, member: zipfile.ZipInfo) -> None:
    """Raise TooLarge when cells that hold something, not only a format, reach too far."""
    rows, columns, far, tail = 1, 1, "", b""
    with archive.open(member) as stream:
        while piece := stream.read(1 << 20):
            for letters, row in _FILLED.findall(tail + piece):
                if int(row) > rows or _place_of(letters) > columns:
                    rows, columns = max(rows, int(row)), max(columns, _place_of(letters))
                    far = f"{letters.decode()}{int(row)}"
            tail = piece[-64:]
    if rows * columns > MAX_CELLS:
        raise TooLarge(
            "expands_too_far",
            f"A sheet of the workbook reaches to the cell {far}: {rows * columns:,} cells, of which"
            f" at most {MAX_CELLS:,} are read at once.",
            "Delete what stands alone far from the table, or save the table as CSV.",
        )


def _too_large() -> TooLarge:
    return TooLarge(
        "expands_too_far",
        "The workbook would expand beyond what is read at once.",
        "Save only the sheet that matters, as CSV.",
    )
