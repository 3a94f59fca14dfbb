"""Numbers that no spreadsheet writes: a file says what they are, or is refused with words."""

from __future__ import annotations

import pytest
from tests import hostile
from tests.workbooks import TODAY, ods

from sortitor.core import lots
from sortitor.core.errors import SortitorError
from sortitor.core.manifests import read_table

LONG = [
    "1e999",
    "-1e999",
    "1e99999999999999999999",
    "9" * 5_000,
    "123456789012345678.5",
]
ODD = [*LONG, "inf", "nan", "1_0", "١", "x", "-1", ""]
_HEADERS = f'<row r="1">{hostile.cell("A1")}</row>'


def _cell(attributes: str, text: str = "KM-2") -> str:
    return f"<table:table-cell{attributes}><text:p>{text}</text:p></table:table-cell>"


def _sheet(cell: str) -> bytes:
    return ods([["serial"], ["KM-1"]], f"<table:table-row>{cell}</table:table-row>")


def _verdicts(content: bytes) -> list[str] | None:
    """What becomes of the lines; None for a file that is refused with words."""
    try:
        manifest = read_table(content)
    except SortitorError as error:
        return None if error.detail and error.remedy else []
    prepared = lots.prepare(manifest, lots.meaning_of(manifest)[0], {}, TODAY)
    return lots.decide(prepared, lots.nothing_known()).rows["verdict"].to_list()


@pytest.mark.parametrize("number", ODD)
@pytest.mark.parametrize("program", ["xlsx", "formula", "ods"])
def test_a_number_that_is_none_is_no_serial_number(program: str, number: str) -> None:
    inside = "<f>A1</f>" if program == "formula" else ""
    of_ods = _cell(f' office:value-type="float" office:value="{number}"', number)
    of_xlsx = f'{_HEADERS}<row r="2"><c r="A2">{inside}<v>{number}</v></c></row>'
    content = _sheet(of_ods) if program == "ods" else hostile.workbook(of_xlsx)
    verdicts = _verdicts(content)
    assert verdicts is None or verdicts[-1] == "reject" or number not in LONG


@pytest.mark.parametrize("number", ODD)
@pytest.mark.parametrize("of", ["rows", "columns"])
@pytest.mark.parametrize("act", ["spanned", "repeated"])
def test_a_cell_reaches_over_a_number_of_others(act: str, of: str, number: str) -> None:
    cell = _cell(f' office:value-type="string" table:number-{of}-{act}="{number}"')
    assert _verdicts(_sheet(cell)) in (None, ["add", "add"])
