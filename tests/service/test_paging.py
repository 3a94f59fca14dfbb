"""Cursors, CSV cells, entity tags."""

import base64
import csv
import io

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import BaseModel

from sortitor.api.http.etags import revision_of
from sortitor.api.http.paging import as_csv, read_cursor, read_key, read_number, write_cursor
from sortitor.core.cells import harmless
from sortitor.core.errors import BadInput


class Cell(BaseModel):
    text: str
    more: list[str] = []


@given(st.one_of(st.integers(), st.lists(st.one_of(st.text(), st.integers()), max_size=3)))
def test_a_cursor_comes_back_as_it_went(value: object) -> None:
    assert read_cursor(write_cursor(value)) == value


@given(st.text(max_size=40))
def test_a_cursor_of_others_is_refused_or_means_nothing(text: str) -> None:
    for read in (read_number, read_key):
        try:
            found = read(text)
        except BadInput as error:
            assert error.code == "bad_cursor"  # noqa: PT017 - most texts are refused, some are none
        else:
            assert found is None or isinstance(found, int | list)


@pytest.mark.parametrize("text", ["[" * 20_000, '"\\ud800"', "[1e999]", "NaN", "[", "\xff"])
def test_a_cursor_that_is_none_is_refused(text: str) -> None:
    with pytest.raises(BadInput, match="not one that this service gave"):
        read_cursor(base64.urlsafe_b64encode(text.encode("latin-1")).decode())


@given(st.text(max_size=30))
def test_no_cell_is_run_by_a_spreadsheet_and_nothing_is_lost(text: str) -> None:
    cell = harmless(text)
    assert not cell.startswith(("=", "+", "-", "@", "\t", "\r"))
    assert cell.removeprefix("'") == text.removeprefix("'") or cell == text
    rows = list(
        csv.reader(
            io.StringIO(
                as_csv([Cell(text=text.replace("\r", " ").replace("\n", " ").replace("\0", " "))]),
                newline="",
            )
        )
    )
    assert len(rows) == 2
    assert len(rows[1]) == 2


@pytest.mark.parametrize(
    ("header", "revision"), [(None, None), ("", None), ("*", None), ('"7"', 7), ('W/"7"', 7)]
)
def test_an_entity_tag_is_a_revision(header: str | None, revision: int | None) -> None:
    assert revision_of(header) == revision


def test_an_entity_tag_of_others() -> None:
    with pytest.raises(BadInput, match="not an ETag"):
        revision_of('"abc"')
