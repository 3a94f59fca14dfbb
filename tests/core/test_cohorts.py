"""Cohorts in other filters: what is kept is asked of the kept members, what time moves is written
out.
"""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.cohorts import check_filter, inlined
from sortitor.core.errors import BadInput
from sortitor.core.filters import as_text, attributes, matches, parse

MOVING = {
    "Quiet": parse("idleDays ge 90"),
    "Quiet and old": parse("idleDays ge 30 and ageDays gt 700"),
}


@pytest.mark.parametrize(
    "text", ['cohorts eq "Quiet"', "cohorts pr", 'site eq "x" or not (cohorts co "q")']
)
def test_a_cohort_cannot_lean_on_cohorts(text: str) -> None:
    with pytest.raises(BadInput) as refused:
        check_filter(text)
    assert (refused.value.code, refused.value.problems[0].pointer) == (
        "cohort_of_cohorts",
        "/filter",
    )


@pytest.mark.parametrize(
    ("text", "written"),
    [
        ('site eq "x"', 'site eq "x"'),
        ('cohorts eq "Crew"', 'cohorts eq "Crew"'),
        ('cohorts eq "QUIET"', 'cohorts eq "QUIET" or idleDays ge 90'),
        ('cohorts ne "Quiet"', 'not (cohorts eq "Quiet" or idleDays ge 90)'),
        ('not (cohorts eq "Quiet")', 'not (cohorts eq "Quiet" or idleDays ge 90)'),
        (
            'cohorts ew "old" and site pr',
            '(cohorts ew "old" or idleDays ge 30 and ageDays gt 700) and site pr',
        ),
        (
            'cohorts sw "quiet"',
            'cohorts sw "quiet" or idleDays ge 90 or idleDays ge 30 and ageDays gt 700',
        ),
    ],
)
def test_what_time_moves_is_written_out(text: str, written: str) -> None:
    assert inlined(parse(text), MOVING) == parse(written), as_text(inlined(parse(text), MOVING))


clauses = st.sampled_from(
    [
        'cohorts eq "Quiet"',
        'cohorts ne "quiet"',
        'cohorts sw "Quiet"',
        'cohorts eq "Crew"',
        "cohorts pr",
        'cohorts co "old"',
        'site eq "x"',
        "idleDays lt 40",
    ]
)
trees = st.recursive(
    clauses,
    lambda inner: st.one_of(
        inner.map(lambda one: f"not ({one})"),
        st.tuples(inner, st.sampled_from(["and", "or"]), inner).map(
            lambda three: f"({three[0]}) {three[1]} ({three[2]})"
        ),
    ),
    max_leaves=6,
)


@given(
    trees,
    st.integers(0, 200),
    st.integers(0, 1_000),
    st.booleans(),
    st.sampled_from(["x", "y", None]),
)
def test_written_out_it_says_the_same_of_every_device(
    text: str, idle: int, age: int, crew: bool, site: str | None
) -> None:
    """With the moving cohorts among a device's cohorts the filter says what it says written out,
    without them.
    """
    device: dict[str, Any] = {"idleDays": idle, "ageDays": age, "site": site}
    kept = ["Crew"] if crew else []
    moved = [name for name, found in MOVING.items() if matches(found, device)[0]]
    found = parse(text)
    assert (
        matches(inlined(found, MOVING), {**device, "cohorts": kept})[0]
        is matches(found, {**device, "cohorts": [*kept, *moved]})[0]
    )


@given(trees)
def test_nothing_else_is_touched(text: str) -> None:
    # Brackets that say nothing are not written, so texts are compared and not trees.
    written = as_text(inlined(parse(text), {}))
    assert as_text(parse(written)) == written or "ne" in text
    assert attributes(inlined(parse(text), {})) == attributes(parse(text))
