"""Workbooks, as three programs write them: numbers and their formats, errors, hidden and merged
cells, several sheets.
"""

from __future__ import annotations

import io
from datetime import date
from pathlib import Path

import openpyxl
import pandas as pd
from openpyxl.styles import PatternFill
from tests.corpus.cases import I1, I2, I3, A, Case, N, R, book
from tests.corpus.words import S

from sortitor.core.manifests import Reading

#: Made by an office suite (see tools/office_files.py): no library writes quite what it writes.
OFFICE = Path(__file__).parent / "office"


def _formatted(code: str):  # type: ignore[no-untyped-def]
    def act(workbook: openpyxl.Workbook) -> None:
        for row in workbook.worksheets[0].iter_rows(min_row=2, max_col=1):
            row[0].number_format = code

    return act


def _hidden_rows(workbook: openpyxl.Workbook) -> None:
    sheet = workbook.worksheets[0]
    sheet.auto_filter.ref = "A1:B4"
    sheet.row_dimensions[3].hidden = True


def _hidden_sheet(workbook: openpyxl.Workbook) -> None:
    workbook["Old"].sheet_state = "hidden"


def _hidden_column(workbook: openpyxl.Workbook) -> None:
    workbook.worksheets[0].column_dimensions["B"].hidden = True


def _merged(workbook: openpyxl.Workbook) -> None:
    workbook.worksheets[0].merge_cells("B2:B4")


def _merged_title(workbook: openpyxl.Workbook) -> None:
    workbook.worksheets[0].merge_cells("A1:C1")
    workbook.worksheets[0]["A1"].fill = PatternFill("solid", fgColor="DDDDDD")


def _from_c4(workbook: openpyxl.Workbook) -> None:
    sheet = workbook.worksheets[0]
    for y, row in enumerate([["Serial", "IMEI"], [S[0], I1], [S[1], "#N/A"]], 4):
        for x, cell in enumerate(row, 3):
            sheet.cell(y, x, cell)


def pandas_book(frame: pd.DataFrame, engine: str) -> bytes:
    """A workbook as pandas writes it."""
    buffer = io.BytesIO()
    frame.to_excel(buffer, engine=engine, index=False)
    return buffer.getvalue()


def office(name: str) -> bytes:
    """A workbook that an office suite wrote."""
    return (OFFICE / name).read_bytes()


CASES: dict[str, Case] = {
    "numbers as numbers": Case(
        book(("A", [["Serial", "IMEI"], [123456, int(I1)], [123457, int(I2)]])),
        [A, A],
        keys={"123456", "123457", I1, I2},
    ),
    "a format shows zeros": Case(
        book(("A", [["Serial", "Site"], [123, "x"], [4567, "x"]]), act=_formatted("00000000")),
        [A, A],
        {"zeros_shown"},
        {"zeros_shown"},
        keys={"00000123", "00004567"},
    ),
    "a format in groups shows zeros": Case(
        book(("A", [["Serial", "Site"], [1234567, "x"]]), act=_formatted("0000-0000-00")),
        [A],
        {"zeros_shown"},
        keys={"0001234567"},
    ),
    "a format that shows no zeros": Case(
        book(("A", [["Serial", "Site"], [1234567, "x"]]), act=_formatted("#,##0")),
        [A],
        keys={"1234567"},
    ),
    "an EID as a number": Case(
        book(("A", [["EID", "Serial"], [89049032123451234512345678901235, S[0]]])),
        [R],
        {"scientific_notation"},
        keys={S[0]},
    ),
    "a serial number of 18 digits as a number": Case(
        book(("A", [["Serial", "Site"], [123456789012345678, "x"]])),
        [R],
        {"scientific_notation"},
        keys=set(),
    ),
    "yes and no": Case(
        book(("A", [["Serial", "Model"], [True, "x"], [S[0], False]])),
        [R, A],
        {"placeholder", "no_name"},
        keys={S[0]},
        values={"model": ["x", None]},
    ),
    "a fraction": Case(
        book(("A", [["Serial", "Model"], [0.5, "x"], [S[0], 0.5]])),
        [R, A],
        {"fraction", "no_name"},
        keys={S[0]},
    ),
    "errors": Case(
        book(
            (
                "A",
                [
                    ["Serial", "Model", "Note", "Colour"],
                    ["#N/A", "x", "y", "z"],
                    [S[0], "#REF!", "#VALUE!", "#DIV/0!"],
                ],
            )
        ),
        [R, A],
        {"cell_error", "cell_error_blank"},
        keys={S[0]},
        values={"model": ["x", None]},
    ),
    "formulas without a kept value": Case(
        book(("A", [["Serial", "Model"], ["=A9&B9", "x"], [S[0], "=VLOOKUP(A3,X:Y,2)"]])),
        [R, R],
        {"formula", "serial_characters"},
        keys={S[0]},
    ),
    "dates as dates": Case(
        book(("A", [["Serial", "Purchase date"], [S[0], date(2025, 3, 12)]])),
        [A],
        values={"purchased_on": ["2025-03-12"]},
    ),
    "a date in the column of serial numbers": Case(
        book(("A", [["Serial", "Site"], [date(2025, 3, 12), "x"]])), [R], {"looks_like_date"}
    ),
    "a date in the column of models": Case(
        book(("A", [["Serial", "Model"], [S[0], date(2025, 3, 12)]])), [A], {"no_name"}
    ),
    "a hidden sheet with more rows": Case(
        book(
            ("Old", [["Serial", "IMEI"], [S[5], I3], [S[6], I2]]),
            ("New", [["Serial", "Site"], [S[0], "x"]]),
            act=_hidden_sheet,
        ),
        [A],
        remarks={"hidden_sheets"},
        keys={S[0]},
    ),
    "a hidden sheet that is asked for": Case(
        book(
            ("Old", [["Serial", "IMEI"], [S[5], I3]]),
            ("New", [["Serial", "Site"], [S[0], "x"]]),
            act=_hidden_sheet,
        ),
        [A],
        keys={S[5], I3},
        reading=Reading("Old"),
    ),
    "two sheets with rows": Case(
        book(
            ("June", [["Serial", "Site"], [S[0], "x"], [S[1], "x"]]),
            ("July", [["Serial", "Site"], [S[2], "y"]]),
            ("Prices", [["Article", "Price"], ["Mate", 3]]),
        ),
        [A, A],
        remarks={"other_sheets"},
        keys={S[0], S[1]},
    ),
    "two sheets together": Case(
        book(
            ("June", [["Serial", "Site"], [S[0], "x"], [S[1], "x"]]),
            ("July", [["Site", "Serial", "Model"], ["y", S[2], "Mate"]]),
        ),
        [A, A, A],
        remarks={"sheets_together"},
        keys={S[0], S[1], S[2]},
        values={"site": ["x", "x", "y"], "model": [None, None, "Mate"]},
        reading=Reading(sheets=("June", "July")),
    ),
    "hidden and filtered rows": Case(
        book(("A", [["Serial", "Site"], [S[0], "x"], [S[1], "x"], [S[2], "x"]]), act=_hidden_rows),
        [A, A, A],
        {"hidden_row"},
        keys={S[0], S[1], S[2]},
    ),
    "a hidden column": Case(
        book(("A", [["Serial", "Site", "Model"], [S[0], "x", "y"]]), act=_hidden_column),
        [A],
        remarks={"hidden_columns"},
    ),
    "merged cells": Case(
        book(
            ("A", [["Serial", "Site"], [S[0], "Quay 4"], [S[1], None], [S[2], None]]), act=_merged
        ),
        [A, A, A],
        {"filled_down"},
        values={"site": ["Quay 4"] * 3},
    ),
    "a merged title and details above": Case(
        book(
            (
                "A",
                [
                    ["Delivery of March", None, None],
                    ["Supplier", "Ondry Trade", None],
                    ["Order", "WL-2602", None],
                    [None, None, None],
                    ["Serial", "IMEI", "Model"],
                    [S[0], I1, "Mate"],
                ],
            ),
            act=_merged_title,
        ),
        [A],
        keys={S[0], I1},
        values={"model": ["Mate"], "supplier": [None]},
    ),
    "a table that begins at C4": Case(
        book(("A", []), act=_from_c4), [A, R], {"cell_error"}, keys={S[0], S[1], I1}
    ),
    "a total below": Case(
        book(("A", [["Serial", "Model", "Price"], [S[0], "x", 12.5], ["Total", None, 12.5]])),
        [A, N],
        {"line_total"},
        keys={S[0]},
    ),
    "a second table beside": Case(
        book(
            (
                "A",
                [
                    ["Serial", "IMEI", None, "Model", "Count"],
                    [S[0], I1, None, "Mate", 3],
                    [S[1], I2, None, None, None],
                    [S[2], I3, None, None, None],
                ],
            )
        ),
        [A, A, A],
        remarks={"table_beside"},
        values={"model": [None] * 3},
    ),
    "no headers": Case(
        book(("A", [[S[0], int(I1)], [S[1], int(I2)]])),
        [A, A],
        remarks={"no_headers"},
        keys={S[0], S[1], I1, I2},
    ),
    "a sheet of charts": Case(
        book(("A", [["Serial", "Site"], [S[0], "x"]]), act=lambda w: w.create_chartsheet("Chart")),
        [A],
    ),
    "from pandas, XLSX": Case(
        pandas_book(pd.DataFrame({"Serial": S[:2], "IMEI": [int(I1), int(I2)]}), "openpyxl"),
        [A, A],
        keys={*S[:2], I1, I2},
    ),
    "from pandas, with a gap": Case(
        pandas_book(pd.DataFrame({"Serial": S[:2], "IMEI": [int(I1), None]}), "openpyxl"),
        [A, A],
        keys={*S[:2], I1},
    ),
    "from pandas, ODS": Case(
        pandas_book(
            pd.DataFrame({"Serial": S[:2], "IMEI": [int(I1), int(I2)], "OK": [True, False]}), "odf"
        ),
        [A, A],
        keys={*S[:2], I1, I2},
    ),
    "from pandas, dates": Case(
        pandas_book(
            pd.DataFrame({"Serial": S[:2], "Bought on": pd.to_datetime(["2025-03-12", None])}),
            "openpyxl",
        ),
        [A, A],
        values={"purchased_on": ["2025-03-12", None]},
    ),
    **{
        f"from an office suite, {form}: {name}": Case(
            (lambda form=form, name=name: office(f"{name}.{form}")), *expected
        )
        for form in ("ods", "xlsx")
        for name, expected in {
            "zeros": ([A, A], {"zeros_shown"}, {"zeros_shown"}, {"000123", "004567"}),
            "hidden": ([A, A, A], {"hidden_row"}, {"hidden_sheets"}, {S[0], S[1], S[2]}),
            "merged": ([A, A, A], {"filled_down"}, set(), {S[0], S[1], S[2]}),
            "errors": ([R, A], {"cell_error", "cell_error_blank"}, set(), {S[0]}),
            "long": ([R, A], {"scientific_notation"}, set(), {S[0]}),
            "lower": ([A, A], set(), set(), {S[0], S[1]}),
        }.items()
    },
}
