"""What a workbook says of its cells beside their values: number formats, errors, formulas without
a result, hidden rows and sheets, merged cells (ECMA-376 part 1; ISO/IEC 26300-3).

The values themselves come from the reader in sheets.py, which knows nothing of these. Only cells
that need a second look are looked at, by patterns over the packed text: a sheet of a million rows
takes seconds.
"""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from decimal import Decimal, InvalidOperation
from html import unescape
from posixpath import join, normpath
from typing import IO
from xml.etree import ElementTree

from sortitor.core.numerals import number_in

#: Parts of a workbook that are read whole.
_PART_BYTES = 20_000_000
_PIECE = 4_000_000
#: Cells of a sheet that are looked at once more, at most.
_MOST = 500_000
_FIFTEEN_DIGITS = Decimal(10) ** 15
_ODS_BYTES = 120_000_000


@dataclass(slots=True)
class SheetFacts:
    """Places are `(row, column)` counted from 1, as a person counts them.

    origin:  the first row and column that have a value
    shown:   what a cell shows where its value does not say it
    zeros:   cells whose format shows zeros that the value has lost
    merged:  merged areas `(first row, first column, last row, last column)`
    """

    hidden: bool = False
    origin: tuple[int, int] = (1, 1)
    shown: dict[tuple[int, int], str] = field(default_factory=dict)
    zeros: dict[tuple[int, int], str] = field(default_factory=dict)
    hidden_rows: list[int] = field(default_factory=list)
    hidden_columns: list[int] = field(default_factory=list)
    merged: list[tuple[int, int, int, int]] = field(default_factory=list)


def facts_of(archive: zipfile.ZipFile) -> dict[str, SheetFacts]:
    """Sheet name → its facts. Damaged parts say nothing."""
    if "content.xml" in archive.namelist():
        return _ods(archive)
    return _xlsx(archive)


def place_of(letters: bytes) -> int:
    """A column's place from its letters: A is 1, Z 26, AA 27."""
    place = 0
    for letter in letters.upper():
        place = place * 26 + letter - 64
    return place


# XLSX


def _xlsx(archive: zipfile.ZipFile) -> dict[str, SheetFacts]:
    padded = _padded_formats(_part(archive, "xl/styles.xml"))
    paths = _relations(_part(archive, "xl/_rels/workbook.xml.rels"))
    found = {}
    for attributes in re.findall(rb"<(?:\w+:)?sheet\s([^<>]*)>", _part(archive, "xl/workbook.xml")):
        given = _attributes(attributes)
        path = paths.get(next((v for k, v in given.items() if k.endswith(":id")), ""), "")
        facts = SheetFacts(hidden=given.get("state", "visible") != "visible")
        if path in archive.namelist():
            with archive.open(path) as stream:
                _scan(stream, facts, padded)
        found[unescape(given.get("name", ""))] = facts
    return found


def _part(archive: zipfile.ZipFile, name: str) -> bytes:
    try:
        with archive.open(name) as stream:
            return stream.read(_PART_BYTES)
    except KeyError:
        return b""


def _attributes(text: bytes) -> dict[str, str]:
    pairs = re.findall(rb"([\w:]+)\s*=\s*(?:\"([^\"]*)\"|'([^']*)')", text)
    return {name.decode(): (one or other).decode("utf-8", "replace") for name, one, other in pairs}


def _relations(text: bytes) -> dict[str, str]:
    found = {}
    for attributes in re.findall(rb"<(?:\w+:)?Relationship\s([^<>]*)>", text):
        given = _attributes(attributes)
        target = given.get("Target", "")
        path = target.lstrip("/") if target.startswith("/") else join("xl", target)
        found[given.get("Id", "")] = normpath(path)
    return found


def _padded_formats(styles: bytes) -> dict[bytes, int]:
    """Style number → how many digits its format shows at least: 000000 shows six."""
    formats = {}
    for attributes in re.findall(rb"<(?:\w+:)?numFmt\s([^<>]*)>", styles):
        given = _attributes(attributes)
        code = unescape(given.get("formatCode", ""))
        digits = re.fullmatch(r'(?:"[^"]*"|\\.|[\s\-]|\[[^\]]*\])*(0[0\s\-]*0)(?:;.*)?', code)
        if digits:
            formats[given.get("numFmtId", "")] = digits[1].count("0")
    cells = re.search(rb"<(?:\w+:)?cellXfs\b.*?</(?:\w+:)?cellXfs>", styles, re.DOTALL)
    styled = re.findall(rb"<(?:\w+:)?xf\s([^<>]*)>", cells[0]) if cells else []
    return {
        str(number).encode(): formats[given["numFmtId"]]
        for number, given in enumerate(map(_attributes, styled))
        if given.get("numFmtId") in formats
    }


_HIDDEN_ROW = re.compile(rb'<(?:\w+:)?row\b(?=[^<>]*\bhidden="(?:1|true)")[^<>]*\br="(\d{1,7})"')
_HIDDEN_COLUMNS = re.compile(rb'<(?:\w+:)?col\b(?=[^<>]*\bhidden="(?:1|true)")([^<>]*)>')
_MERGED = re.compile(
    rb'<(?:\w+:)?mergeCell\b[^<>]*\bref="([A-Z]{1,3})(\d{1,7}):([A-Z]{1,3})(\d{1,7})"'
)
#: A cell with a value or a formula. Groups: its attributes, its contents.
_CELL = rb"<(?:\w+:)?c\b([^<>]*)(?<!/)>"
_MARKED = re.compile(
    rb'<(?:\w+:)?c\b(?=[^<>]*\bt="[eb]")([^<>]*)(?<!/)>(.{0,4000}?)</(?:\w+:)?c>', re.DOTALL
)
_FORMULA = re.compile(
    _CELL + rb"<(?:\w+:)?f\b[^<>]*(?:/>|>([^<]*)</(?:\w+:)?f>)\s*"
    rb"(?:<(?:\w+:)?v\s*/>|<(?:\w+:)?v>\s*</(?:\w+:)?v>)?\s*</(?:\w+:)?c>"
)
_LONG = re.compile(
    _CELL + rb"(?:<(?:\w+:)?f\b[^<>]*(?:/>|>[^<]*</(?:\w+:)?f>))?\s*<(?:\w+:)?v[^<>]*>"
    rb"\s*(-?\d{16,}(?:\.\d+)?|-?\d+(?:\.\d+)?[eE]\+?\d+)\s*<"
)
_VALUE = re.compile(rb"<(?:\w+:)?v[^<>]*>([^<]*)<")
_PLACE = re.compile(rb'\br="([A-Z]{1,3})(\d{1,7})"')
_FILLED = re.compile(rb'<(?:\w+:)?c\b[^<>]*?\br="([A-Z]{1,3})(\d{1,7})"[^<>]*(?<!/)>')
_TEXT = re.compile(rb'\bt="(?:s|str|inlineStr|d)"')


def _scan(stream: IO[bytes], facts: SheetFacts, padded: dict[bytes, int]) -> None:
    zeros = _styled(padded)
    first_row, first_column = 0, 16_384
    for text in _pieces(stream):
        filled = _FILLED.findall(text)
        if filled:
            first_row = first_row or int(filled[0][1])
            first_column = min(
                first_column, *map(place_of, {letters for letters, _ in filled}), 16_384
            )
        facts.hidden_rows += map(int, _HIDDEN_ROW.findall(text))
        for attributes in _HIDDEN_COLUMNS.findall(text):
            given = _attributes(attributes)
            first, last = (number_in(given.get(end, "")) for end in ("min", "max"))
            if first is not None and last is not None:
                facts.hidden_columns += range(first, min(last, 16_384) + 1)
        for letters, row, to_letters, to_row in _MERGED.findall(text):
            area = (int(row), place_of(letters), int(to_row), place_of(to_letters))
            facts.merged.append(area)
        for (row, column), shown in _second_looks(text):
            if len(facts.shown) < _MOST:
                facts.shown[row, column] = shown
        if zeros is not None:
            for attributes, style, value in zeros.findall(text):
                place = _place(attributes)
                digits = value.decode().rjust(padded[style], "0")
                if place and len(digits) > len(value) and len(facts.zeros) < _MOST:
                    facts.zeros[place] = digits
    facts.origin = (first_row or 1, first_column if first_row else 1)


def _styled(padded: dict[bytes, int]) -> re.Pattern[bytes] | None:
    if not padded:
        return None
    styles = b"|".join(padded)
    return re.compile(
        rb'<(?:\w+:)?c\b((?=[^<>]*\bs="('
        + styles
        + rb')")(?![^<>]*\bt="(?:s|str|inlineStr|b|e|d)")[^<>]*)'
        rb"(?<!/)>(?:<(?:\w+:)?f\b[^<>]*(?:/>|>[^<]*</(?:\w+:)?f>))?\s*<(?:\w+:)?v[^<>]*>(\d+)<"
    )


def _pieces(stream: IO[bytes]) -> Iterator[bytes]:
    """The sheet in pieces that end where a row ends."""
    rest = b""
    while piece := stream.read(_PIECE):
        text = rest + piece
        end = text.rfind(b"</", 0, text.rfind(b"row>") + 1)
        if end < 0:
            rest = text
            continue
        end = text.index(b">", end) + 1
        yield text[:end]
        rest = text[end:]
    yield rest


def _place(attributes: bytes) -> tuple[int, int] | None:
    found = _PLACE.search(attributes)
    return (int(found[2]), place_of(found[1])) if found else None


def _second_looks(text: bytes) -> Iterator[tuple[tuple[int, int], str]]:
    """Cells whose value does not say what a person sees."""
    for attributes, contents in _MARKED.findall(text):
        place, value = _place(attributes), _VALUE.search(contents)
        if place is None:
            continue
        told = value[1].decode("utf-8", "replace").strip() if value else "#N/A"
        if b't="b"' in attributes:
            told = "TRUE" if told == "1" else "FALSE"
        yield place, unescape(told)
    for attributes, formula in _FORMULA.findall(text):
        if place := _place(attributes):
            yield place, "=" + unescape(formula.decode("utf-8", "replace"))[:200]
    for attributes, value in _LONG.findall(text):
        place = _place(attributes)
        if place and not _TEXT.search(attributes):
            shown = _rounded(value.decode())
            if shown is not None:
                yield place, shown


# ODS

_OFFICE = "{urn:oasis:names:tc:opendocument:xmlns:office:1.0}"
_TABLE = "{urn:oasis:names:tc:opendocument:xmlns:table:1.0}"
_TEXT_NS = "{urn:oasis:names:tc:opendocument:xmlns:text:1.0}"
_STYLE = "{urn:oasis:names:tc:opendocument:xmlns:style:1.0}"


def _ods(archive: zipfile.ZipFile) -> dict[str, SheetFacts]:
    if archive.getinfo("content.xml").file_size > _ODS_BYTES:
        return {}
    found: dict[str, SheetFacts] = {}
    reader = _OdsReader(found)
    with archive.open("content.xml") as stream:
        try:
            for event, element in ElementTree.iterparse(stream, ("start", "end")):
                reader.see(event, element)
        except ElementTree.ParseError:
            return {}
    return found


class _OdsReader:
    """Follows rows and columns, which are told by how often they repeat."""

    def __init__(self, found: dict[str, SheetFacts]) -> None:
        self._found = found
        self._facts = SheetFacts()
        self._hidden_styles: set[str] = set()
        self._style = ""
        self._row = self._column = 0
        self._columns_seen = 0
        self._first: tuple[int, int] | None = None

    def see(self, event: str, element: ElementTree.Element) -> None:
        if event == "start":
            self._begin(element)
        else:
            self._end(element)

    def _begin(self, element: ElementTree.Element) -> None:
        if element.tag == _TABLE + "table":
            name = element.get(_TABLE + "name", "")
            hidden = element.get(_TABLE + "style-name", "") in self._hidden_styles
            self._facts = self._found.setdefault(name, SheetFacts(hidden=hidden))
            self._row = self._columns_seen = 0
            self._first = None
        elif element.tag == _TABLE + "table-row":
            self._column = 0
        elif element.tag == _STYLE + "style":
            self._style = element.get(_STYLE + "name", "")
        elif element.get(_TABLE + "display") == "false":
            self._hidden_styles.add(self._style)

    def _end(self, element: ElementTree.Element) -> None:
        if element.tag in (_TABLE + "table-cell", _TABLE + "covered-table-cell"):
            self._cell(element)
            element.clear()
        elif element.tag == _TABLE + "table-row":
            times = _times(element, "rows-repeated")
            if element.get(_TABLE + "visibility") in ("collapse", "filter"):
                rows = range(self._row + 1, self._row + 1 + min(times, 1_000))
                self._facts.hidden_rows += rows
            self._row += times
            element.clear()
        elif element.tag == _TABLE + "table-column":
            times = _times(element, "columns-repeated")
            if element.get(_TABLE + "visibility") in ("collapse", "filter"):
                first = self._columns_seen + 1
                self._facts.hidden_columns += range(first, first + min(times, 1_000))
            self._columns_seen += times
        elif element.tag == _TABLE + "table":
            self._facts.origin = self._first or (1, 1)

    def _cell(self, element: ElementTree.Element) -> None:
        times = _times(element, "columns-repeated")
        row, column = self._row + 1, self._column + 1
        self._column += times
        kind = element.get(_OFFICE + "value-type")
        if kind is not None:
            before = self._first or (row, column)
            self._first = (before[0], min(before[1], column))
        spans, across = _times(element, "rows-spanned"), _times(element, "columns-spanned")
        if spans > 1 or across > 1:
            self._facts.merged.append((row, column, row + spans - 1, column + across - 1))
        if kind is None or len(self._facts.shown) >= _MOST:
            return
        told = "".join(part.text or "" for part in element.iter(_TEXT_NS + "p")).strip()
        self._look(row, column, times, kind, element, told)

    def _look(
        self, row: int, column: int, times: int, kind: str, element: ElementTree.Element, told: str
    ) -> None:
        places = [(row, column + more) for more in range(min(times, 300))]
        formula = element.get(_TABLE + "formula")
        shown = None
        if kind == "boolean":
            shown = "TRUE" if element.get(_OFFICE + "boolean-value") == "true" else "FALSE"
        elif told.startswith("#") or re.fullmatch(r"Err:\d{3}", told):
            shown = told
        elif formula is not None and not told and kind == "string":
            shown = "=" + formula.removeprefix("of:=")[:200]
        elif kind == "float":
            value = element.get(_OFFICE + "value", "")
            if (
                re.fullmatch(r"0\d+", told)
                and re.fullmatch(r"\d+", value)
                and told.lstrip("0") == value.lstrip("0")
            ):
                self._facts.zeros.update(dict.fromkeys(places, told))
            shown = _rounded(value)
        if shown is not None:
            self._facts.shown.update(dict.fromkeys(places, shown))


def _times(element: ElementTree.Element, what: str) -> int:
    """How often, or over how many: once where that is no number."""
    given = element.get(f"{_TABLE}number-{what}", "1")
    return 1 if (times := number_in(given)) is None else times


def _rounded(value: str) -> str | None:
    """A number of more digits than the 15 that a spreadsheet keeps, so that it shows; None for
    others.
    """
    try:
        number = Decimal(value)
    except InvalidOperation:
        return None
    is_long = number.is_finite() and number.copy_abs() >= _FIFTEEN_DIGITS
    return f"{number:.14E}" if is_long else None
