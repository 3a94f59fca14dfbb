"""The short options of `sortitor device` are the filter language in fewer letters."""

from types import SimpleNamespace
from typing import Any

import pytest

from sortitor.cli.choosing import as_filter, as_selection
from sortitor.core.filters import all_of, conjuncts, one_of, parse

NOTHING: dict[str, Any] = {
    "query": None,
    "filter": None,
    "cohort": None,
    "idle": None,
    **dict.fromkeys(("stage", "platform", "ownership", "site", "maker", "model"), ()),
    "lot": None,
}


@pytest.mark.parametrize(
    ("given", "text"),
    [
        ({}, None),
        ({"stage": ("parked",)}, 'stage eq "parked"'),
        ({"idle": 0}, "idleDays ge 0"),
        ({"filter": 'site eq "x" or id pr'}, 'site eq "x" or id pr'),
        ({"site": ('The "Old" Quay', "مرفأ")}, 'site eq "The \\"Old\\" Quay" or site eq "مرفأ"'),
        (
            {"filter": 'site eq "x" or id pr', "platform": ("ios", "android"), "idle": 90},
            (
                '(site eq "x" or id pr) and (platform eq "ios" or platform eq "android") and'
                " (idleDays ge 90)"
            ),
        ),
    ],
)
def test_options_become_a_filter_that_can_be_read(given: dict[str, Any], text: str | None) -> None:
    assert as_filter({**NOTHING, **given}) == text
    if text is not None:
        parse(text)


def test_a_selection_has_what_no_filter_says_beside_it() -> None:
    cohorts = SimpleNamespace(show=lambda name: SimpleNamespace(id={"Deck": 4}[name]))
    client: Any = SimpleNamespace(cohorts=cohorts)
    given = {**NOTHING, "query": "KM", "cohort": "Deck", "model": ("A",)}
    made = as_selection(client, given, [1, 2])
    assert (made.ids, made.query, made.cohort_id, made.filter) == ([1, 2], "KM", 4, 'model eq "A"')


def test_what_must_hold_at_once_is_taken_apart_and_put_together() -> None:
    both = parse('site eq "x" and idleDays ge 3')
    assert conjuncts(both) == both.parts
    assert conjuncts(None) == ()
    either = parse('site eq "x" or id pr')
    assert conjuncts(either) == (either,)
    assert all_of(either) == either
    assert all_of(either, None) == either
    assert all_of(both, None, one_of("stage", ["parked"])) == parse(
        'site eq "x" and idleDays ge 3 and stage eq "parked"'
    )
    assert one_of("stage", ["parked", "active"]) == parse('stage eq "active" or stage eq "parked"')
