"""Pass codes survive being read aloud and typed."""

from datetime import UTC, datetime, timedelta
from random import Random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core import passes

NOW = datetime(2026, 1, 1, tzinfo=UTC)


@given(st.integers())
def test_a_code_is_read_back_however_it_is_typed(seed: int) -> None:
    code = passes.new_code(Random(seed).choice)
    typed = passes.shown(code).lower().replace("0", "o").replace("1", "l")
    assert passes.read_code(f" {typed} ") == code


@given(st.integers(), st.integers(0, 9), st.sampled_from(passes.ALPHABET))
def test_one_wrong_character_is_noticed(seed: int, place: int, other: str) -> None:
    code = passes.new_code(Random(seed).choice)
    if code[place] != other:
        assert passes.read_code(code[:place] + other + code[place + 1 :]) is None


@pytest.mark.parametrize(
    ("starts", "ends", "revoked", "uses", "most", "trouble"),
    [
        (0, 1, False, 0, None, None),
        (1, 2, False, 0, None, "pass_expired"),
        (-2, 0, False, 0, None, "pass_expired"),
        (0, 1, True, 0, None, "pass_expired"),
        (0, 1, False, 3, 3, "pass_spent"),
        (0, 1, False, 2, 3, None),
    ],
)
def test_when_a_pass_holds(
    starts: int, ends: int, revoked: bool, uses: int, most: int | None, trouble: str | None
) -> None:
    assert (
        passes.trouble(
            NOW, NOW + timedelta(days=starts), NOW + timedelta(days=ends), revoked, uses, most
        )
        == trouble
    )
