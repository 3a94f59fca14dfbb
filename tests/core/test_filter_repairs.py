"""Filters as people type them: the very mistake is named, and the corrected filter is sound."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.errors import BadInput
from sortitor.core.filter_repairs import asks, repaired
from sortitor.core.filters import ATTRIBUTES, parse, read

MEANT = {
    'site = "Dunlin"': 'site eq "Dunlin"',
    "site == Dunlin": 'site eq "Dunlin"',
    "idleDays > 90": "idleDays gt 90",
    "idle days >= 90 and idleDays <= 100": "idleDays ge 90 and idleDays le 100",
    'site != "Dunlin"': 'site ne "Dunlin"',
    "site is null": "not (site pr)",
    "site is not null": "site pr",
    "site is empty or site exists": "not (site pr) or site pr",
    'model like "Mate%"': 'model sw "Mate"',
    "model like '%3'": 'model ew "3"',
    'model not like "%ate%"': 'not (model co "ate")',
    "site in (Dunlin, Petrel)": '(site eq "Dunlin" or site eq "Petrel")',
    'site not in ("Dunlin", "Petrel")': 'not (site eq "Dunlin" or site eq "Petrel")',
    "site eq “Dunlin”": 'site eq "Dunlin"',
    "site eq „Dunlin“": 'site eq "Dunlin"',
    "site eq 'Dunlin'": 'site eq "Dunlin"',
    'site eq "Dunlin': 'site eq "Dunlin"',
    "site eq Nord Hafen and stage eq active": 'site eq "Nord Hafen" and stage eq "active"',
    "user = maud": 'person.userName eq "maud"',
    "location is Dunlin": 'site eq "Dunlin"',
    "serial number = KM-1": 'serial eq "KM-1"',
    'stage eq "activ"': 'stage eq "active"',
    "ownership = company": 'ownership eq "corporate"',
    'idleDays ge "90"': "idleDays ge 90",
    "person.left = yes": "person.left eq true",
    'not tags eq "spare"': 'not (tags eq "spare")',
    '!(site eq "x")': 'not (site eq "x")',
    'site eq "x" && stage eq "active"': 'site eq "x" and stage eq "active"',
    'site eq "x" stage eq "active"': 'site eq "x" and stage eq "active"',
    '(site eq "x"': '(site eq "x")',
    "last seen before 2026-01-01": 'lastSeenAt lt "2026-01-01T00:00:00Z"',
    "warranty < 31.12.2026": 'warrantyUntil lt "2026-12-31"',
    "ageDays between 10 and 20": "(ageDays ge 10 and ageDays le 20)",
    'sit eq "x"': 'site eq "x"',
    'site = ""': "not (site pr)",
}


@pytest.mark.parametrize("typed", MEANT)
def test_what_is_meant(typed: str) -> None:
    with pytest.raises(BadInput) as caught:
        parse(typed)
    assert caught.value.problems[0].suggestion == MEANT[typed]
    assert f"Corrected: {MEANT[typed]}" in caught.value.detail
    assert caught.value.detail.startswith("Column ")
    parse(MEANT[typed])


@pytest.mark.parametrize("typed", ["", "foo bar", 'platform eq "beos"', "and and", "(((", '"x"'])
def test_what_cannot_be_told_is_not_guessed(typed: str) -> None:
    with pytest.raises(BadInput) as caught:
        parse(typed)
    assert caught.value.problems[0].suggestion == ""


def test_the_very_mistake_is_named_where_it_is() -> None:
    with pytest.raises(BadInput) as caught:
        parse('stage eq "active" and site = "Dunlin"')
    assert caught.value.detail.splitlines()[0] == "Column 28: “=” is written eq."
    assert caught.value.detail.splitlines()[2] == " " * 27 + "^"


def test_an_empty_text_asks_what_is_meant() -> None:
    found = asks('site eq "" and stage eq "active"')
    assert found is not None
    assert found.text == 'not (site pr) and stage eq "active"'
    assert asks('site eq "x"') is None
    parse('site eq ""')


@given(st.text("siteqvnamd=<>!()\"'“” 0123%,&|.", max_size=60))
def test_whatever_is_typed_a_correction_can_be_read(text: str) -> None:
    found = repaired(text, ATTRIBUTES, read)
    if found is not None:
        read(found.text)
        assert found.mistakes


@given(st.recursive(st.just("site pr"), lambda inner: inner.map(lambda text: f"({text})")))
def test_a_sound_filter_has_no_mistakes(text: str) -> None:
    assert repaired(text, ATTRIBUTES, read) is None
