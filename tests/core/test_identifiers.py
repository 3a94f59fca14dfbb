"""Identifiers: what is kept, what is repaired, what is named as damage."""

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st
from stdnum import imei as stdnum_imei
from stdnum import luhn

from sortitor.core.identifiers import (
    CHECKS,
    check_imeis,
    check_one,
    check_serials,
    explain,
    kind_of,
)
from sortitor.core.notes import CATALOGUE
from sortitor.core.vocabulary import IdentifierKind

SERIAL, IMEI = IdentifierKind.SERIAL, IdentifierKind.IMEI


@pytest.mark.parametrize(
    ("given_", "value", "note"),
    [
        ("  km-12 34 ", "KM-1234", None),
        ("ｋｍ１２３４", "KM1234", None),  # full-width forms are folded (NFKC)
        ("KM\u200b12\u00ad34", "KM1234", None),
        ('="00123456"', "00123456", "text_formula_unwrapped"),
        ("'00123456", "00123456", "leading_apostrophe"),
        ("12345678.0", "12345678", "decimal_ending"),
        ("3.56938E+14", None, "scientific_notation"),
        ("3,5E+14", None, "scientific_notation"),
        ("12-Mar", None, "looks_like_date"),
        ("2024-03-01", None, "looks_like_date"),
        ("1,234,567,890", None, "thousands_separators"),
        ("#N/A", None, "cell_error"),
        ("########", None, "cell_error"),
        ("n/a", None, "placeholder"),
        ("To be filled by O.E.M.", None, "placeholder"),
        ("0000000000", None, "placeholder"),
        ("AB", None, "serial_length"),
        ("AB" * 33, None, "serial_length"),
        ("KM#1234", None, "serial_characters"),
        ("عبد1234", None, "serial_characters"),
        ("", None, None),
        ("   ", None, None),
    ],
)
def test_serials(given_: str, value: str | None, note: str | None) -> None:
    assert check_one(SERIAL, given_) == (value, note)


@pytest.mark.parametrize(
    ("given_", "value", "note"),
    [
        ("490154203237518", "490154203237518", None),
        ("49-015420-323751-8", "490154203237518", None),
        ("49 015420 323751 8", "490154203237518", None),
        ("49015420323751", "490154203237518", "check_digit_added"),
        ("4901542032375101", "490154203237518", "software_version_dropped"),
        ("490154203237518.0", "490154203237518", "decimal_ending"),
        ("490154203237519", None, "imei_check_failed"),
        ("4901542032375", None, "digits_lost"),
        ("49015420323751812", None, "imei_length"),
        ("4.90154E+14", None, "scientific_notation"),
        ("49015420323751X", None, "imei_characters"),
        ("000000000000000", None, "placeholder"),
        ("123456789012345", None, "placeholder"),
    ],
)
def test_imeis(given_: str, value: str | None, note: str | None) -> None:
    assert check_one(IMEI, given_) == (value, note)


@given(
    st.text(alphabet="0123456789", min_size=14, max_size=14).filter(lambda body: body.strip("0"))
)
def test_every_imei_that_is_completed_is_one_by_the_standard(body: str) -> None:
    value, note = check_one(IMEI, body)
    if body != "12345678901234":
        assert note == "check_digit_added"
        assert value == body + luhn.calc_check_digit(body)
        assert stdnum_imei.is_valid(value)


@given(
    st.text(alphabet="0123456789", min_size=15, max_size=15).filter(
        lambda text: text.strip("0") and text != "123456789012345"
    )
)
def test_an_imei_holds_exactly_when_its_luhn_digit_does(text: str) -> None:
    value, note = check_one(IMEI, text)
    assert (value is not None) == luhn.is_valid(text)
    assert (note == "imei_check_failed") == (value is None)


@given(st.lists(st.one_of(st.none(), st.text(max_size=40)), max_size=30))
def test_a_column_is_checked_cell_by_cell(cells: list[str | None]) -> None:
    """Whatever the text: no error, one answer a cell, the same answer alone as among others."""
    for kind, check in CHECKS.items():
        column = check(pl.Series(cells, dtype=pl.String))
        assert column.height == len(cells)
        for text, value, note in zip(cells, column["value"], column["note"], strict=True):
            assert (value, note) == (check_one(kind, text) if text is not None else (None, None))
            if note is not None:
                assert CATALOGUE[note].title
            if value is not None and kind is not IdentifierKind.FINGERPRINT:
                assert check_one(kind, value) == (value, None), "a cleaned value is clean"


@given(st.lists(st.text(min_size=1, max_size=30), min_size=2, max_size=10), st.randoms())
def test_order_does_not_matter(cells: list[str], random) -> None:
    order = list(range(len(cells)))
    random.shuffle(order)
    for check in (check_serials, check_imeis):
        plain = check(pl.Series(cells)).rows()
        assert check(pl.Series([cells[i] for i in order])).rows() == [plain[i] for i in order]


@pytest.mark.parametrize(
    ("token", "kind"),
    [
        ("490154203237518", IMEI),
        ("49015420323751", IMEI),
        ("490154203237519", SERIAL),
        ("KM1234", SERIAL),
    ],
)
def test_the_kind_of_a_pasted_token(token: str, kind: IdentifierKind) -> None:
    assert kind_of(token) is kind


def test_a_note_explains_itself() -> None:
    assert "ask the supplier" in explain("scientific_notation")
