"""Idle windows, brakes, and the histogram."""

from datetime import UTC, datetime, timedelta
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.errors import BadInput
from sortitor.core.sweeps import Rule, brake, histogram, idle_days

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
