"""Whatever befalls a file, no device comes of what is no number, and no damaged row is taken
without a word.
"""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass

from hypothesis import given
from hypothesis import strategies as st
from tests.corpus.cases import book
from tests.identifiers import imei
from tests.workbooks import TODAY

from sortitor.core import lots
from sortitor.core.manifests import read_table

HEADERS = ["Serial", "IMEI", "Model", "Purchase date", "Site"]
PLACEHOLDERS = [
    "unbekannt",
    "n/a",
    "-",
    "0",
    "k.A.",
    "brak",
    "TBC",
    "xxxxx",
    "不明",
    "see box",
    "folgt",
]
WORDS = ["see delivery note", "Charger", "Spare battery pack", "siehe Rechnung 12", "by courier"]
DAMAGED = ["#N/A", "#REF!", "3.56938E+14", "12-Mar", "=A1&B1", "#####"]
LINES = [
    ["TOTAL", "", "", "", ""],
    ["Total: 40", "40", "", "", ""],
    ["Page 2 of 3", "", "", "", ""],
    ["PAGE2OF3", "", "", "", ""],
    ["Carton 2 of 4", "", "", "", ""],
    ["00340123450000000018", "", "", "", ""],
    ["Phones for the crew", "", "", "", ""],
    ["-----", "-----", "-----", "-----", "-----"],
    ["Seriennummer", "IMEI", "Modell", "Kaufdatum", "Standort"],
    ["Serial", "IMEI", "Model", "Purchase date", "Site"],
    ["Received by: ____", "", "", "", ""],
    ["Mit freundlichen Grüßen", "", "", "", ""],
]


@dataclass
class Row:
    """One row as it is written, whether it was damaged, and its true numbers."""

    cells: list[str]
    damaged: bool
    numbers: set[str]


@st.composite
def rows(draw: st.DrawFn) -> list[Row]:
    """Rows of a table, some of them damaged."""
    made = []
    first = draw(st.integers(0, 10_000))
    for number in range(first, first + draw(st.integers(1, 14))):
        serial, phone = f"R58M{number:06d}", imei(number)
        cells = [serial, phone, "Mate 3", "2025-03-12", "Nordhafen"]
        kind = draw(st.sampled_from(["", "", "", "serial", "both", "imei", "date", "line", "two"]))
        numbers = {serial, phone}
        if kind == "line":
            cells, numbers = list(draw(st.sampled_from(LINES))), set()
        elif kind == "serial":
            cells[0] = draw(st.sampled_from(PLACEHOLDERS + WORDS + DAMAGED))
            numbers = {phone}
        elif kind == "both":
            cells[0] = draw(st.sampled_from(PLACEHOLDERS + WORDS + DAMAGED))
            cells[1] = draw(st.sampled_from(PLACEHOLDERS + DAMAGED))
            numbers = set()
        elif kind == "imei":
            cells[1] = draw(st.sampled_from([*PLACEHOLDERS, *DAMAGED, phone[:11], phone + phone]))
            numbers = {serial}
        elif kind == "two":
            separator = draw(st.sampled_from([" ", "/", " / ", " and ", "\n", "; "]))
            cells[0] = f"{serial}{separator}R58N{number:06d}"
            numbers = {phone}
        elif kind == "date":
            wrong = ["01/02/2025", "1.1.1900", "2099-01-01", "gestern", "45717", "n/a", "03/2027"]
            cells[3] = draw(st.sampled_from(wrong))
        made.append(Row(cells, bool(kind), numbers))
    return made


def written(form: str, table: list[Row]) -> bytes:
    """The table as a file."""
    grid = [HEADERS, *(row.cells for row in table)]
    if form == "xlsx":
        return book(("A", [[cell or None for cell in row] for row in grid]))
    buffer = io.StringIO()
    csv.writer(buffer, delimiter={"csv": ",", "semicolon": ";", "tab": "\t"}[form]).writerows(grid)
    return buffer.getvalue().encode()


@given(rows(), st.sampled_from(["csv", "semicolon", "tab", "xlsx"]))
def test_no_damaged_row_becomes_a_device_without_a_note(table: list[Row], form: str) -> None:
    manifest = read_table(written(form, table))
    prepared = lots.prepare(manifest, lots.meaning_of(manifest)[0], {}, TODAY)
    decided = lots.decide(prepared, lots.nothing_known())
    added = decided.rows.filter(decided.rows["verdict"] == "add")["row"].to_list()
    noted = set(decided.notes["row"])
    found: dict[int, set[str]] = {}
    for row, value in decided.keys.select("row", "value").rows():
        found.setdefault(row, set()).add(value)
    at: dict[int, Row] = {}
    line = 2
    for row in table:
        at[line] = row
        line += 1 + (sum(cell.count("\n") for cell in row.cells) if form != "xlsx" else 0)
    numbers = manifest.numbers.to_list()
    # A text file's rows are counted, not its lines.
    by_number = dict(zip(numbers, table, strict=True)) if len(numbers) == len(table) else at
    for number in added:
        row = by_number[number]
        assert found[number] <= row.numbers, (row, found[number])
        assert not row.damaged or number in noted, (row, decided.notes)
