"""OS versions are compared by their numbers."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core import versions

version = st.lists(st.integers(0, 99_999), min_size=1, max_size=5).map(
    lambda parts: ".".join(map(str, parts))
)


@pytest.mark.parametrize(
    ("actual", "bound", "above", "below"),
    [
        ("13.9", "13", False, False),
        ("13.1", "13.0", True, False),
        ("10.0", "10.0", False, False),
        ("10", "10.0", False, False),
        ("9.9.9", "10", False, True),
        ("14", "13", True, False),
        ("10.0.19044", "10.0.19045", False, True),
    ],
)
def test_bounds(actual: str, bound: str, above: bool, below: bool) -> None:
    assert (versions.above(actual, bound), versions.below(actual, bound)) == (above, below)


@given(version, version, version)
def test_comparing_is_an_order(a: str, b: str, c: str) -> None:
    assert versions.compare(a, b) == -versions.compare(b, a)
    assert versions.compare(a, a) == 0
    if versions.compare(a, b) <= 0 and versions.compare(b, c) <= 0:
        assert versions.compare(a, c) <= 0


@given(version, st.integers(0, 3))
def test_trailing_zeros_do_not_count(a: str, zeros: int) -> None:
    assert versions.compare(a, a + ".0" * zeros) == 0


@given(version, version)
def test_a_version_is_never_outside_on_both_sides(a: str, bound: str) -> None:
    assert not (versions.above(a, bound) and versions.below(a, bound))


@pytest.mark.parametrize(
    "text", ["", "13.", ".1", "13a", "1..2", "١٣", "1.2.3.4.5.6.7.8.9", "12345678901"]
)
def test_what_is_not_a_version(text: str) -> None:
    with pytest.raises(ValueError, match="not a version"):
        versions.components(text)
