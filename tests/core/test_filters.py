"""The filter language: what it understands, where it points at a fault, what it says of one
device.
"""

from contextlib import suppress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.errors import BadInput
from sortitor.core.filters import (
    ATTRIBUTES,
    OPERATORS,
    Comparison,
    Joined,
    Not,
    as_text,
    as_tree,
    matches,
    moving,
    parse,
)

DEVICE = {
    "stage": "active",
    "platform": "android",
    "site": "Quillharbour",
    "osVersion": "10.0",
    "tags": ["spare", "Deck"],
    "idleDays": 91,
    "person.groups": ["Crew"],
}


@pytest.mark.parametrize(
    ("text", "held"),
    [
        ('stage eq "ACTIVE"', True),
        ('platform ne "ios"', True),
        ('site sw "quill" and site ew "HARBOUR"', True),
        ('site co "lh"', True),
        ('osVersion eq "10"', True),
        ('osVersion lt "10.0.1"', True),
        ('osVersion ge "10.1"', False),
        ('tags eq "deck"', True),
        ("tags pr", True),
        ("idleDays ge 90 and idleDays lt 92", True),
        ('not (tags eq "spare")', False),
        ("supplier pr", False),
        ('supplier eq "x"', False),
        ('supplier ne "x"', True),
        ("supplier eq null", True),
        ("site ne null", True),
        ('person.groups eq "crew"', True),
        ('stage eq "retired" or platform eq "ios" and site pr', False),
        ('(stage eq "retired" or platform eq "android") and site pr', True),
        ('STAGE EQ "active" AND NOT (platform eq "ios")', True),
    ],
)
def test_one_device(text: str, held: bool) -> None:
    assert matches(parse(text), DEVICE)[0] is held


def test_and_binds_stronger_than_or() -> None:
    a, b, c = (Comparison(name, "pr") for name in ("site", "maker", "model"))
    assert parse("site pr or maker pr and model pr") == Joined("or", (a, Joined("and", (b, c))))
    assert parse("not (site pr) and maker pr") == Joined("and", (Not(a), b))


def test_the_trace_has_every_clause_with_its_value() -> None:
    held, trace = matches(parse('stage eq "active" and (osVersion lt "10" or tags eq "x")'), DEVICE)
    assert not held
    assert [(c.text, c.actual, c.matched) for c in trace] == [
        ('stage eq "active"', "active", True),
        ('osVersion lt "10"', "10.0", False),
        ('tags eq "x"', "spare, Deck", False),
    ]


@pytest.mark.parametrize(
    ("text", "column", "words"),
    [
        ('plattform eq "x"', 1, "did you mean platform"),
        ('platform gt "x"', 10, "cannot be compared by gt"),
        ("platform eq x", 13, "value should stand here"),
        ('site eq "x" site pr', 13, "“and” or “or”"),
        ('(site eq "x"', 1, "not closed"),
        ('site eq "x")', 12, "never opened"),
        ("", 1, "missing"),
        ('site eq "x" and', 16, "missing"),
        ("not site pr", 5, "parentheses"),
        ('osVersion eq "ten"', 14, "version"),
        ('idleDays ge "90"', 13, "number"),
        ('lastSeenAt gt "2026-01-01"', 15, "zone"),
        ('purchasedOn gt "1.1.2026"', 16, "date"),
        ("site co null", 9, "null"),
        ('site eq "\\q"', 9, "backslash"),
        ('site eq "open', 9, "partner"),
        ("(" * 60 + "site pr" + ")" * 60, 42, "levels"),
    ],
)
def test_a_fault_is_shown_where_it_stands(text: str, column: int, words: str) -> None:
    with pytest.raises(BadInput) as caught:
        parse(text)
    lines = caught.value.detail.splitlines()
    assert lines[0].startswith(f"Column {column}:"), lines
    assert words in lines[0]
    assert lines[2].index("^") == column - 1


@given(st.text(max_size=60))
def test_whatever_is_typed_is_understood_or_refused_with_words(text: str) -> None:
    # Any other error would fail the test.
    with suppress(BadInput):
        parse(text)


@given(st.sampled_from(list(ATTRIBUTES)))
def test_every_attribute_can_be_asked_for(name: str) -> None:
    operators = OPERATORS[ATTRIBUTES[name].kind]
    assert "eq" in operators
    if "pr" in operators:
        assert parse(f"{name} pr") == Comparison(name, "pr")


PARTS = st.sampled_from(
    [
        'site eq "A \\"b\\""',
        "held eq true",
        "idleDays gt 2.5",
        "tags pr",
        "flag eq null",
        'osVersion le "10.0"',
        "person.left eq false",
    ]
)
TREES = st.recursive(
    PARTS,
    lambda inner: st.one_of(
        inner.map(lambda one: f"not ({one})"),
        st.tuples(inner, st.sampled_from(["and", "or"]), inner).map(
            lambda three: f"({three[0]}) {three[1]} ({three[2]})"
        ),
    ),
    max_leaves=6,
)
DEVICES = st.fixed_dictionaries(
    {},
    optional={
        "site": st.sampled_from(['A "b"', "x"]),
        "held": st.booleans(),
        "idleDays": st.integers(0, 5),
        "tags": st.just(["a"]),
        "flag": st.just("stolen"),
        "osVersion": st.sampled_from(["10", "11"]),
        "person.left": st.booleans(),
    },
)


@given(TREES, DEVICES)
def test_a_filter_written_anew_means_the_same(text: str, device: dict[str, object]) -> None:
    found = parse(text)
    assert matches(parse(as_text(found)), device)[0] == matches(found, device)[0]
    assert as_tree(parse(as_text(found))) is not None


def test_words_that_do_not_exist_are_noticed() -> None:
    with pytest.raises(BadInput, match="did you mean android"):
        parse('platform eq "andriod"')
    with pytest.raises(BadInput, match="true or false"):
        parse('held eq "yes"')


def test_time_moves_some_filters_and_not_others() -> None:
    assert moving(parse('site eq "A" and (idleDays gt 3)'))
    assert not moving(parse('site eq "A" and purchasedOn gt "2026-01-01"'))
