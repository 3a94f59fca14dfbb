"""Workbooks: XLSX (ECMA-376) and ODS (ISO/IEC 26300), with limits that hold before anything is
expanded.
"""

from __future__ import annotations

import io
import lzma
import re
import zipfile
import zlib
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import polars as pl

from sortitor.core import columns
from sortitor.core.errors import BadInput, TooLarge, Unsupported
from sortitor.core.manifests.shape import (
    MAX_CELLS,
    MAX_COLUMNS,
    MAX_ROWS,
    SHEET_PLACE,
    Manifest,
    Reading,
    Remark,
    check_width,
    header_place,
    made,
    nameless,
    ranges,
    trimmed,
    unique_headers,
)
from sortitor.core.manifests.workbooks import SheetFacts, facts_of, place_of

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
    """The sheet asked for, else the visible one whose headers mean most; several together where
    they are asked for.
    """
    if content.startswith(_OLD_WORKBOOK):
        raise Unsupported(
            "old_workbook",
            "This is a workbook in the format before 2007, or a protected one.",
            "Save it without a password as XLSX, ODS or CSV.",
        )
    _check_archive(content)
    import fastexcel  # slow to load, and only workbooks need it

    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        facts = facts_of(archive)
    wanted = reading.sheets or ((reading.sheet,) if reading.sheet is not None else ())
    try:
        book = fastexcel.read_excel(content)
        names = tuple(book.sheet_names)
        for name in wanted:
            if name not in names:
                raise BadInput(
                    "unknown_sheet",
                    f"The workbook has no sheet {name!r}; it has {', '.join(names)}.",
                    "Choose one of them.",
                )
        grids = {name: _grid(book, name, facts.get(name)) for name in names}
    except fastexcel.FastExcelError as error:
        raise Unsupported(
            "unreadable_workbook",
            f"The workbook cannot be read: {str(error).splitlines()[0]}.",
            "Save it again as XLSX, or as CSV in UTF-8.",
        ) from error
    return _chosen(grids, facts, wanted, reading)


def _chosen(
    grids: dict[str, _Grid], facts: dict[str, SheetFacts], wanted: Sequence[str], reading: Reading
) -> Manifest:
    """The sheets that are wanted; else the visible one that means most, with a word on the others
    that have rows.
    """
    filled = {name: grid for name, grid in grids.items() if grid.cells.height}
    hidden = [name for name in filled if facts.get(name, _NOTHING).hidden]
    remarks = []
    if wanted:
        chosen = [name for name in wanted if name in filled]
    else:
        visible = {name: grid for name, grid in filled.items() if name not in hidden}
        # The first of those that mean most: max keeps the order of the sheets.
        chosen = sorted(visible, key=lambda name: visible[name].sense, reverse=True)[:1]
        others = [
            f"{name} ({grid.rows:,})"
            for name, grid in visible.items()
            if name not in chosen and grid.means_devices
        ]
        if others:
            remarks.append(Remark("other_sheets", given=", ".join(others)))
        devices = [f"{name} ({filled[name].rows:,})" for name in hidden]
        if devices:
            remarks.append(Remark("hidden_sheets", given=", ".join(devices)))
    if not chosen:
        raise BadInput(
            "no_rows",
            "No sheet of the workbook has any cells."
            if not hidden
            else f"Only hidden sheets of the workbook have cells: {', '.join(hidden)}.",
            "Export the file again with its rows."
            if not hidden
            else "Choose one of them if it is meant.",
        )
    parts = [_table(filled[name], name, reading) for name in chosen]
    whole = parts[0] if len(parts) == 1 else _together(parts)
    return replace(whole, sheets=tuple(grids), remarks=(*whole.remarks, *remarks))


@dataclass(slots=True)
class _Grid:
    """A sheet's cells as they are shown; rows and columns are counted from `origin`."""

    cells: pl.DataFrame
    facts: SheetFacts
    origin: tuple[int, int] = (1, 1)
    place: int | None = None
    score: int = 0

    def __post_init__(self) -> None:
        if self.cells.height:
            self.place, self.score = header_place(self.cells.head(40).rows())

    @property
    def rows(self) -> int:
        """How many rows there are below the headers."""
        return self.cells.height - 1 - (self.place if self.place is not None else -1)

    @property
    def sense(self) -> tuple[int, bool]:
        return self.score, self.rows > 0

    @property
    def means_devices(self) -> bool:
        """Whether its headers speak of devices' numbers."""
        if self.place is None:
            return False
        titles = [cell or "" for cell in self.cells.row(self.place)]
        return self.rows > 0 and any(
            column in columns.IDENTIFIER_COLUMNS
            for title in titles
            for column in columns.meanings(title)
        )


def _table(grid: _Grid, sheet: str, reading: Reading) -> Manifest:
    first_row, first_column = grid.origin
    place = grid.place
    if reading.header_row is not None:
        place = reading.header_row - first_row if reading.header_row else None
        place = min(max(place, 0), grid.cells.height - 1) if place is not None else None
    rows = grid.cells.rows()[: (place + 1 if place is not None else 0)][-_ABOVE:]
    last = first_row + (place if place is not None else -1)
    above = tuple(
        (number, tuple(cell or "" for cell in row))
        for number, row in enumerate(rows, last - len(rows) + 1)
    )
    titles = [cell or "" for cell in grid.cells.row(place)] if place is not None else None
    body = grid.cells if place is None else grid.cells.slice(place + 1)
    headers = unique_headers(titles) if titles is not None else nameless(body.width)
    filled_down = _filled_down(body, grid, place, headers)
    cells, remarks = trimmed(
        filled_down[0].rename(dict(zip(body.columns, headers, strict=True))), titles
    )
    if not cells.width or not cells.height:
        raise BadInput(
            "no_rows",
            f"The sheet {sheet} has no rows.",
            "Choose another sheet, or export the file again.",
        )
    column_names = dict(enumerate(headers, first_column))
    remarks = [*remarks, *filled_down[1], *_of_facts(grid.facts, column_names, last, cells.columns)]
    if titles is None:
        remarks.append(Remark("no_headers"))
    return made(
        cells,
        last + 1,
        layout="workbook",
        sheet=sheet,
        header_row=last if titles is not None else 0,
        above=above,
        remarks=tuple(remarks),
    )


#: Lines above the rows that are kept to be shown.
_ABOVE = 30
_NOTHING = SheetFacts()


def _filled_down(
    body: pl.DataFrame, grid: _Grid, place: int | None, headers: Sequence[str]
) -> tuple[pl.DataFrame, list[Remark]]:
    """Cells that were merged over several rows say the same for each of them."""
    first_row, first_column = grid.origin
    start = first_row + (place + 1 if place is not None else 0)
    remarks = []
    for top, left, bottom, right in grid.facts.merged:
        column = left - first_column
        if bottom == top or left != right or top < start or not 0 <= column < body.width:
            continue
        name, places = (
            body.columns[column],
            range(top - start, min(bottom - start + 1, body.height)),
        )
        if len(places) < 2:
            continue
        value = body[name][places[0]]
        rest = pl.Series(list(places[1:]), dtype=pl.UInt32)
        body = body.with_columns(body[name].clone().scatter(rest, value))
        if value is not None:
            remarks.append(Remark("filled_down", headers[column], value, ((top + 1, bottom),)))
    return body, remarks


def _of_facts(
    facts: SheetFacts, names: dict[int, str], last: int, kept: Sequence[str]
) -> list[Remark]:
    remarks = []
    hidden = ranges([row for row in facts.hidden_rows if row > last])
    if hidden:
        remarks.append(Remark("hidden_row", rows=hidden))
    columns_hidden = [names[place] for place in facts.hidden_columns if names.get(place) in kept]
    if columns_hidden:
        remarks.append(Remark("hidden_columns", given=", ".join(columns_hidden)))
    by_column: dict[str, list[int]] = {}
    for row, column in sorted(facts.zeros):
        if row > last and names.get(column) in kept:
            by_column.setdefault(names[column], []).append(row)
    remarks += [Remark("zeros_shown", name, None, ranges(rows)) for name, rows in by_column.items()]
    return remarks


def _together(parts: Sequence[Manifest]) -> Manifest:
    """Several sheets as one table; each row keeps a word on where it stood."""
    frames, start, remarks = [], 2, []
    for part in parts:
        place = [f"{part.sheet} · {number}" for number in part.numbers]
        frames.append(part.cells.with_columns(pl.Series(SHEET_PLACE, place)))
    cells = pl.concat(frames, how="diagonal")
    numbers = []
    for part in parts:
        shift = start - int(part.numbers[0])
        numbers.append(part.numbers + shift)
        remarks += [
            replace(
                remark, rows=tuple((first + shift, last + shift) for first, last in remark.rows)
            )
            for remark in part.remarks
        ]
        start = int(numbers[-1][-1]) + 1
    counted = ", ".join(f"{part.sheet} ({part.cells.height:,})" for part in parts)
    check_width(cells.width)
    return Manifest(
        tuple(cells.columns),
        cells,
        pl.concat(numbers),
        "workbook",
        sheet=parts[0].sheet,
        header_row=parts[0].header_row,
        above=parts[0].above,
        remarks=(*remarks, Remark("sheets_together", given=counted)),
    )


def _grid(book: Any, name: str, facts: SheetFacts | None) -> _Grid:
    """Every cell of a sheet as text, as a spreadsheet shows it."""
    try:
        loaded = book.load_sheet(name, header_row=None, dtypes="string")
    except ValueError:
        # A sheet of charts has no cells.
        return _Grid(pl.DataFrame(), facts or SheetFacts())
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
    if not frame.width:
        return _Grid(pl.DataFrame(), facts or SheetFacts())
    frame = frame.cast(pl.String)
    if facts is None:
        return _Grid(frame, SheetFacts())
    return _Grid(_as_shown(frame, facts), facts, facts.origin)


def _as_shown(frame: pl.DataFrame, facts: SheetFacts) -> pl.DataFrame:
    """Errors, yes and no, formulas without a result and lost zeros as a person sees them."""
    first_row, first_column = facts.origin
    by_column: dict[int, dict[int, str]] = {}
    for (row, column), text in {**facts.shown, **facts.zeros}.items():
        place = (row - first_row, column - first_column)
        if 0 <= place[0] < frame.height and 0 <= place[1] < frame.width:
            by_column.setdefault(place[1], {})[place[0]] = text
    for column, texts in by_column.items():
        name = frame.columns[column]
        places = pl.Series(list(texts), dtype=pl.UInt32)
        cells = frame[name].clone().scatter(places, pl.Series(list(texts.values())))
        frame = frame.with_columns(cells.alias(name))
    return frame


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
            if "xl/workbook.bin" in names:
                raise Unsupported(
                    "binary_workbook",
                    "This is a binary workbook (XLSB).",
                    "Save it as XLSX, ODS or CSV.",
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
_ROW = re.compile(rb'<(?:\w+:)?row\b[^<>]*?\br="(\d{1,9})"')
_FILLED = re.compile(rb'<(?:\w+:)?c\b[^<>]*?\br="([A-Z]{1,3})(\d{1,9})"[^<>]*?(?<!/)>')


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
        return self._last_row * max(map(place_of, self._columns), default=1)


def _check_filled(archive: zipfile.ZipFile, member: zipfile.ZipInfo) -> None:
    """Raise TooLarge when cells that hold something, not only a format, reach too far."""
    rows, columns, far, tail = 1, 1, "", b""
    with archive.open(member) as stream:
        while piece := stream.read(1 << 20):
            for letters, row in _FILLED.findall(tail + piece):
                if int(row) > rows or place_of(letters) > columns:
                    rows, columns = max(rows, int(row)), max(columns, place_of(letters))
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
