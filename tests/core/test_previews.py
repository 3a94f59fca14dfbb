"""The digest of a preview: the same for the same outcome, another for any other."""

from dataclasses import replace
from datetime import date
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.previews import Count, Example, Preview, digest_of, plural, sealed, sized
from sortitor.core.vocabulary import Stage

SHOWN = Preview(
    "Retire",
    "Retire 2 devices",
    (Count("retired", "devices", 2),),
    (Example("KM-1", "stage", "active", "retired", device_id=1),),
    2,
)


def test_a_seal_says_nothing_else_and_is_not_part_of_itself() -> None:
    once = sealed(SHOWN)
    assert replace(once, digest="") == SHOWN
    assert sealed(once).digest == once.digest


@pytest.mark.parametrize(
    "other",
    [
        replace(SHOWN, title="Retire?"),
        replace(SHOWN, counts=(Count("retired", "devices", 3),)),
        replace(SHOWN, examples_total=3),
        replace(SHOWN, warnings=("x",)),
        replace(SHOWN, examples=(replace(SHOWN.examples[0], after="dormant"),)),
        replace(SHOWN, examples=(replace(SHOWN.examples[0], device_id=2),)),
    ],
)
def test_any_difference_makes_another_digest(other: Preview) -> None:
    assert sealed(other).digest != sealed(SHOWN).digest


def test_an_outcome_counts_instead_of_what_is_shown() -> None:
    assert (
        sealed(SHOWN, [1, 2]).digest == sealed(replace(SHOWN, title="other words"), [1, 2]).digest
    )
    assert sealed(SHOWN, [1, 2]).digest != sealed(SHOWN, [2, 1]).digest


plain = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(), inner, max_size=4),
    max_leaves=12,
)


@given(st.dictionaries(st.text(), plain, max_size=6))
def test_the_order_of_keys_does_not_matter(outcome: dict[str, Any]) -> None:
    assert digest_of(outcome) == digest_of(dict(reversed(outcome.items())))


def test_dates_and_words_count_as_their_text() -> None:
    assert digest_of([date(2026, 3, 31), Stage.ACTIVE]) == digest_of(["2026-03-31", "active"])


@pytest.mark.parametrize(
    ("count", "words"),
    [(0, "0 devices"), (1, "1 device"), (2, "2 devices"), (1_234, "1,234 devices")],
)
def test_numbers_in_words(count: int, words: str) -> None:
    assert plural(count, "device") == words


@pytest.mark.parametrize(
    ("size", "words"),
    [
        (1, "1 byte"),
        (999, "999 bytes"),
        (1_000, "1 kB"),
        (12_600_000, "12.6 MB"),
        (999_900_000, "999.9 MB"),
        (2 * 1024**3, "2.1 GB"),
        (1_500_000_000_000, "1,500 GB"),
    ],
)
def test_bytes_in_words(size: int, words: str) -> None:
    assert sized(size) == words
