"""Notes, previews and errors: every code explains itself, equal outcomes have equal digests."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core import errors
from sortitor.core.lots import problems_of
from sortitor.core.notes import CATALOGUE
from sortitor.core.previews import Count, Example, Preview, digest_of, plural, sealed
from sortitor.core.vocabulary import Severity, Verdict

PREVIEW = Preview(
    "Apply",
    "Add 2 devices",
    (Count("add", "devices to add", 2, "good"),),
    (Example("row 2", "device", None, "KM-1"),),
    2,
)


@pytest.mark.parametrize("code", CATALOGUE)
def test_a_note_says_what_and_what_to_do(code: str) -> None:
    kind = CATALOGUE[code]
    assert kind.code == code
    assert len(kind.title) > 8
    assert kind.remedy.endswith(".")
    assert (kind.severity is Severity.ERROR) == (kind.verdict in (Verdict.REJECT, Verdict.CONFLICT))


def test_what_is_the_matter_in_one_cell() -> None:
    notes = [
        {"code": "scientific_notation", "column": "IMEI 1", "given": "3.5E+14"},
        {"code": "decimal_ending", "column": "S/N", "given": "1.0"},
        {"code": "rows_disagree", "column": None, "given": None},
    ]
    said = problems_of(notes)
    assert said.startswith("IMEI 1: a spreadsheet turned the number into a power of ten")
    assert "rows of this file share an identifier" in said
    assert ".0" not in said, "what does not keep the row out is not the matter"
    assert problems_of([]) == ""


def test_a_digest_is_over_what_is_shown_or_over_the_outcome_alone() -> None:
    assert sealed(PREVIEW).digest == sealed(PREVIEW).digest
    assert sealed(PREVIEW).digest != sealed(replace(PREVIEW, examples_total=3)).digest
    assert (
        sealed(PREVIEW, [1, 2]).digest
        == sealed(replace(PREVIEW, title="Other words"), [1, 2]).digest
    )


@given(st.dictionaries(st.text(max_size=5), st.integers(), max_size=6))
def test_a_digest_does_not_depend_on_the_order_of_names(outcome: dict[str, int]) -> None:
    assert digest_of(outcome) == digest_of(dict(reversed(outcome.items())))


@pytest.mark.parametrize(
    ("count", "words"),
    [(0, "0 devices"), (1, "1 device"), (2, "2 devices"), (12_345, "12,345 devices")],
)
def test_numbers_with_their_word(count: int, words: str) -> None:
    assert plural(count, "device") == words


def test_every_error_stands_in_the_tree_at_the_top_of_its_file() -> None:
    names = [
        name
        for name, kind in vars(errors).items()
        if isinstance(kind, type) and issubclass(kind, errors.SortitorError)
    ]
    for name in names:
        assert name in (errors.__doc__ or ""), name
    moved = errors.FactsMoved(PREVIEW)
    assert (moved.code, moved.preview) == ("facts_moved", PREVIEW)
    assert errors.SlowDown(7).wait_seconds == 7
    assert "7 seconds" in errors.SlowDown(7).detail
