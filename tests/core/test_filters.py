"""The filter language: what it understands, where it points at a fault, what it says of one device."""

from contextlib import suppress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.errors import BadInput
from sortitor.core.filters import ATTRIBUTES, OPERATORS, Comparison, Joined, Not, matches, parse

DEVICE = {"stage": "active", "platform": "android", "site": "Quillharbour", "osVersion": "10.0", "tags": ["spare", "Deck"], "idleDays": 91, "person.groups": ["Crew"]}


@pytest.mark.parametrize(
    ("text", "held"),
    [
        ('stage eq "ACTIVE"', True), ('platform ne "ios"', True), ('site sw "quill" and site ew "HARBOUR"', True), ('site co "lh"', True),
        ('osVersion eq "10"', True), ('osVersion lt "10.0.1"', True), ('osVersion ge "10.1"', False), ('tags eq "deck"', True), ("tags pr", True),
        ("idleDays ge 90 and idleDays lt 92", True), ('not (tags eq "spare")', False), ("supplier pr", False), ('supplier eq "x"', False), ('supplier ne "x"', True),
        ("supplier eq null", True), ("site ne null", True), ('person.groups eq "crew"', True), ('stage eq "retired" or platform eq "ios" and site pr', False),
        ('(stage eq "retired" or platform eq "android") and site pr', True), ('STAGE EQ "active" AND NOT (platform eq "ios")', True),
    ],
)  # fmt: skip
def test_one_device(text: str, held: bool) -> None:
    assert matches(parse(text), DEVICE)[0] is held


def test_and_binds_stronger_than_or() -> None:
    a, b, c = (Comparison(name, "pr") for name in ("site", "maker", "model"))
    assert parse("site pr or maker pr and model pr") == Joined("or", (a, Joined("and", (b, c))))
    assert parse("not (site pr) and maker pr") == Joined("and", (Not(a), b))


def test_the_trace_has_every_clause_with_its_value() -> None:
    held, trace = matches(parse('stage eq "active" and (osVersion lt "10" or tags eq "x")'), DEVICE)
    assert not held
    assert [(c.text, c.actual, c.held) for c in trace] == [("stage eq active", "active", True), ("osVersion lt 10", "10.0", False), ("tags eq x", "spare, Deck", False)]


@pytest.mark.parametrize(
    ("text", "column", "words"),
    [
        ('plattform eq "x"', 1, "did you mean platform"), ('platform gt "x"', 10, "cannot be compared by gt"), ('platform eq x', 13, "value should stand here"),
        ('platform eq "x" site pr', 17, "“and” or “or”"), ('(platform eq "x"', 1, "not closed"), ('platform eq "x")', 16, "never opened"), ("", 1, "missing"),
        ('site eq "x" and', 16, "missing"), ('not site pr', 5, "parentheses"), ('osVersion eq "ten"', 14, "version"), ("idleDays ge \"90\"", 13, "number"),
        ('lastSeenAt gt "2026-01-01"', 15, "zone"), ('purchasedOn gt "1.1.2026"', 16, "date"), ("site co null", 9, "null"), ('site eq "\\q"', 9, "backslash"), ('site eq "open', 9, "value"),
        ("(" * 60 + "site pr" + ")" * 60, 42, "levels"),
    ],
)  # fmt: skip
def test_a_fault_is_shown_where_it_stands(text: str, column: int, words: str) -> None:
    with pytest.raises(BadInput) as caught:
        parse(text)
    lines = caught.value.detail.splitlines()
    assert lines[0].startswith(f"Column {column}:"), lines
    assert words in lines[0]
    assert lines[-1].index("^") == column - 1


@given(st.text(max_size=60))
def test_whatever_is_typed_is_understood_or_refused_with_words(text: str) -> None:
    # Any other error would fail the test.
    with suppress(BadInput):
        parse(text)


@given(st.sampled_from(list(ATTRIBUTES)))
def test_every_attribute_can_be_asked_for(name: str) -> None:
    assert parse(f"{name} pr") == Comparison(name, "pr")
    assert "eq" in OPERATORS[ATTRIBUTES[name]]
