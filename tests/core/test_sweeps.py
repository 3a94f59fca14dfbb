"""Idle windows, brakes, and the histogram."""

from datetime import UTC, date, datetime, timedelta
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.errors import BadInput
from sortitor.core.lifecycle import SWEPT, may_follow
from sortitor.core.sweeps import Rule, brake, histogram, idle_days, is_silent, step
from sortitor.core.vocabulary import Stage

NOW = datetime(2026, 1, 1, 0, 0, tzinfo=UTC)


@pytest.mark.parametrize("days", [20, 401, 0, -5])
def test_a_window_outside_its_bounds_is_told_the_bounds(days: int) -> None:
    with pytest.raises(BadInput, match="21 to 400"):
        Rule(name="r", idle_window_days=days).check_window((21, 400))


@pytest.mark.parametrize("days", [21, 400])
def test_the_bounds_themselves_are_allowed(days: int) -> None:
    Rule(name="r", idle_window_days=days).check_window((21, 400))


def test_midnight_is_no_boundary_a_day_is_twenty_four_hours() -> None:
    enrolled = NOW - timedelta(days=500)
    assert idle_days(NOW, NOW - timedelta(days=90, seconds=-1), enrolled) == 89
    assert idle_days(NOW, NOW - timedelta(days=90), enrolled) == 90
    assert idle_days(NOW, None, enrolled) == 500


@given(st.integers(0, 10_000), st.integers(0, 10_000), st.integers(1, 100))
def test_the_brake_stops_above_its_share_only(taken: int, watched: int, percent: int) -> None:
    assert brake(taken, watched, Rule(name="r", idle_window_days=90, brake_percent=percent)) == (
        taken * 100 > watched * percent
    )


@given(st.lists(st.tuples(st.integers(-3, 5_000), st.integers(0, 100))), st.integers(1, 400))
def test_no_device_is_lost_from_the_histogram_and_its_window_is_in_it(
    counts: list[tuple[int, int]], window: int
) -> None:
    bars = histogram(counts, window)
    assert any(bar.low <= window <= bar.high for bar in bars), "also where no device is so idle"
    assert sum(bar.count for bar in bars) == sum(number for _, number in counts)
    assert all(a.high + 1 == b.low for a, b in pairwise(bars))


@given(
    st.integers(21, 60),
    st.integers(0, 30),
    st.sampled_from(SWEPT),
    st.integers(0, 120),
    st.none() | st.integers(-40, 40),
)
def test_what_becomes_of_a_device_by_the_book(
    window: int, notice: int, stage: Stage, idle: int, days_left: int | None
) -> None:
    """Written out, in the words of the rules."""
    rule = Rule(name="r", idle_window_days=window, dormant_days=notice)
    today = date(2028, 2, 28)
    retire_on = None if days_left is None else today + timedelta(days_left)
    found = step(rule, stage, idle, retire_on, today)
    if idle < window:
        assert found is None
    elif notice == 0:
        assert found is Stage.RETIRED
    elif stage is Stage.ACTIVE:
        assert found is Stage.DORMANT
    elif stage is Stage.DORMANT and days_left is not None:
        assert found is (Stage.RETIRED if days_left <= 0 else None)
    else:
        assert found is (Stage.RETIRED if idle >= window + notice else None)
    assert found is None or may_follow(stage, found)


def test_a_silence_is_told_only_beside_days_that_are_known() -> None:
    assert not is_silent(0, [])
    assert not is_silent(0, [900, 900])
    assert is_silent(100, [900, 10, 900])
    assert not is_silent(180, [900, 900, 900])
    assert is_silent(179, [900, 900, 900])
