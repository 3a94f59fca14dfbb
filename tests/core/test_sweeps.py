"""Idle windows, brakes, and the histogram."""

from datetime import UTC, datetime, timedelta
from itertools import pairwise
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.errors import BadInput
from sortitor.core.sweeps import Rule, brake, histogram, idle_days, is_silent


@pytest.mark.parametrize("days", [20, 401, 0, -5])
def test_a_window_outside_its_bounds_is_told_the_bounds(days: int) -> None:
    with pytest.raises(BadInput, match="21 to 400"):
        Rule(name="r", idle_window_days=days).check_window((21, 400))


@pytest.mark.parametrize("days", [21, 400])
def test_the_bounds_themselves_are_allowed(days: int) -> None:
    Rule(name="r", idle_window_days=days).check_window((21, 400))


def test_a_day_of_silence_ends_at_midnight_where_the_organisation_is() -> None:
    lisbon, auckland = ZoneInfo("Europe/Lisbon"), ZoneInfo("Pacific/Auckland")
    seen = datetime(2026, 3, 28, 23, 30, tzinfo=UTC)
    for minutes, days in ((29, 0), (30, 1), (31, 1)):
        assert idle_days(UTC, seen + timedelta(minutes=minutes), seen) == days
    # Clocks go forward in Lisbon on the 29th: that day has 23 hours, and is one day all the same.
    assert idle_days(lisbon, datetime(2026, 3, 29, 22, 59, tzinfo=UTC), seen) == 1
    assert idle_days(lisbon, datetime(2026, 3, 29, 23, 0, tzinfo=UTC), seen) == 2
    assert idle_days(auckland, seen + timedelta(minutes=1), seen) == 0
    assert idle_days(UTC, datetime(2028, 3, 1, tzinfo=UTC), datetime(2028, 2, 28, tzinfo=UTC)) == 2
    assert idle_days(UTC, seen - timedelta(days=3), seen) == 0, "a clock that goes ahead"


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


def test_a_silence_is_told_only_beside_days_that_are_known() -> None:
    assert not is_silent(0, [])
    assert not is_silent(0, [900, 900])
    assert is_silent(100, [900, 10, 900])
    assert not is_silent(180, [900, 900, 900])
    assert is_silent(179, [900, 900, 900])
