"""The quick checks of single texts say what the checks of columns say."""

from __future__ import annotations

import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from tests.identifiers import imei

from sortitor.core.identifiers import check_one, imei_of, serial_of
from sortitor.core.vocabulary import IdentifierKind

TEXTS = st.one_of(
    st.text(max_size=30),
    st.text("ABCabc0123456789 -./_+'=\"\u200b\u00a0Ｒ", max_size=24),
    st.from_regex(r"[0-9]{1,3}([.,/-][0-9]{1,4}){0,3}", fullmatch=True),
)
NUMBERS = st.one_of(
    st.text("0123456789 -./_'", max_size=24),
    st.integers(0, 10**7).map(imei),
    st.from_regex(r"[0-9]{13,17}(\.0)?", fullmatch=True),
)


@given(TEXTS)
@example("12-Mar")
@example("#N/A")
@example("12345.0")
@example("aaa")
def test_a_serial_number(text: str) -> None:
    if text.startswith("=") or "\ud800" <= text <= "\udfff":
        return
    assert serial_of(text) == check_one(IdentifierKind.SERIAL, text)[0]


@given(NUMBERS)
def test_an_imei(text: str) -> None:
    assert imei_of(text) == check_one(IdentifierKind.IMEI, text)[0]


@pytest.mark.parametrize("text", ["", " ", "n/a"])
def test_nothing(text: str) -> None:
    assert serial_of(text) is None
    assert imei_of(text) is None
