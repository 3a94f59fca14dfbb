"""Names from templates."""

import re

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st
from stdnum.iso7064 import mod_37_36

from sortitor.core.errors import BadInput
from sortitor.core.naming.compose import KnownNames, compose, compose_one
from sortitor.core.naming.templates import FIELDS, Template, check_name, parse, shape


def devices(*rows: dict[str, str | None]) -> pl.DataFrame:
    schema = {"device_id": pl.Int64, **dict.fromkeys(FIELDS, pl.String)}
    return pl.DataFrame([{"device_id": i, **row} for i, row in enumerate(rows, 1)], schema=schema)


def names(
    pattern: str, *rows: dict[str, str | None], taken: tuple[str, ...] = (), number: int = 1
) -> list[tuple[str | None, str | None]]:
    found = compose(
        Template(name="t", pattern=pattern), devices(*rows), KnownNames(frozenset(taken)), number
    )
    return list(zip(found["name"], found["problem"], strict=True))


def test_fields_and_filters() -> None:
    row = {
        "site": "Quillharbour",
        "serial": "PW0123456789",
        "platform": "windows",
        "model": "Fährboot 8",
    }
    assert names("{site|upper|first 3}-{serial|last 6}", row) == [("QUI-456789", None)]
    assert names("{model|ascii|lower|letters}", row) == [("fahrboot", None)]
    assert names('{asset_tag|or "NONE"}-1', row) == [("NONE-1", None)]


def test_a_counter_steps_over_names_in_use() -> None:
    assert {name for name, _ in names("DECK-{n|pad 4}", {}, {}, {}, taken=("deck-0002",))} == {
        "DECK-0001",
        "DECK-0003",
        "DECK-0004",
    }


def test_without_a_counter_a_second_one_collides_whatever_its_case() -> None:
    assert names("{site}", {"site": "Dunlin"}, {"site": "DUNLIN"}) == [
        ("Dunlin", None),
        (None, "colliding"),
    ]


def test_too_long_is_an_error_and_a_marked_field_is_shortened_from_the_left() -> None:
    row = {"platform": "windows", "site": "Quillharbour", "serial": "ABCDEF"}
    assert names("{site}-{serial}", row) == [(None, "too_long")]
    found = compose(Template(name="t", pattern="{~site}-{serial}"), devices(row))
    assert (found["name"][0], found["shortened"][0]) == ("lharbour-ABCDEF", True)
    assert len(found["name"][0]) == 15


def test_what_a_name_lacks_and_what_it_may_not_have() -> None:
    assert names("{asset_tag}", {"site": "x"}) == [(None, "lacking: asset_tag")]
    assert names("{site}", {"site": "-Dunlin"}) == [(None, "bad_characters")]
    assert names("{site}", {"site": "Двор"}) == [(None, "bad_characters")]


def test_the_check_character_is_the_standards() -> None:
    [(name, _)] = names("A{n|pad 3}-{check}", {}, number=42)
    assert name is not None
    assert mod_37_36.is_valid(re.sub("[^0-9A-Z]", "", name))


@pytest.mark.parametrize(
    ("pattern", "column", "word"),
    [
        ("A-{sereal}", 4, "sereal"),
        ("{site|firts 3}", 7, "firts"),
        ("{site", 1, "brace"),
        ("{site|first}", 7, "first"),
        ("A}B", 2, "brace"),
    ],
)
def test_a_fault_is_shown_where_it_stands(pattern: str, column: int, word: str) -> None:
    with pytest.raises(BadInput) as caught:
        parse(pattern)
    lines = caught.value.detail.splitlines()
    assert f"Column {column}:" in lines[0]
    assert word in lines[0]
    assert lines[2].index("^") == column - 1


@given(
    st.lists(
        st.fixed_dictionaries(
            {
                "site": st.one_of(st.none(), st.text(max_size=20)),
                "platform": st.sampled_from(["windows", "android"]),
            }
        ),
        max_size=20,
    ),
    st.sampled_from(
        ["{site}", "{~site|ascii}-{n}", "{site|letters|upper|first 4}-{n|pad 3}", "X{n}{check}"]
    ),
)
def test_whatever_the_values_names_are_allowed_unique_and_short_enough(
    rows: list[dict[str, str | None]], pattern: str
) -> None:
    found = compose(
        Template(name="t", pattern=pattern), devices(*rows), KnownNames(frozenset({"x1"}))
    )
    given_names = [name for name in found["name"] if name is not None]
    assert found.height == len(rows)
    assert len({name.lower() for name in given_names} | {"x1"}) == len(given_names) + 1
    for name, problem, platform in zip(
        found["name"], found["problem"], devices(*rows)["platform"], strict=True
    ):
        assert (name is None) == (problem is not None)
        if name is not None:
            check_name(name, platform)
            assert re.match(shape(pattern), name)


@pytest.mark.parametrize(
    ("name", "platform"), [("A" * 16, "windows"), ("a b", None), ("-a", "android"), ("عبد", "ios")]
)
def test_a_name_by_hand_keeps_to_the_platforms_rules(name: str, platform: str | None) -> None:
    with pytest.raises(BadInput):
        check_name(name, platform)


_TEXTS = st.text(st.sampled_from("abzÄßéñ-_ 019.Ωñ日"), max_size=12)


@given(
    pattern=st.lists(
        st.sampled_from(
            [
                "DECK-",
                "{site|upper|first 3}",
                "{~model|ascii|letters}",
                '{person|lower|or "none"}',
                "{serial|last 6}",
                "{n|pad 4}",
                "{n}",
                "{site|digits}",
                "{check}",
            ]
        ),
        min_size=1,
        max_size=5,
    ).map("".join),
    texts=st.fixed_dictionaries(
        {
            "platform": st.sampled_from(["windows", "android", None]),
            **dict.fromkeys(("site", "model", "person", "serial"), st.none() | _TEXTS),
        }
    ),
    number=st.integers(1, 12_000),
)
def test_one_device_is_named_as_a_column_of_them(
    pattern: str, texts: dict[str, str | None], number: int
) -> None:
    template = Template(name="x", pattern=pattern)
    frame = pl.DataFrame(
        {"device_id": 1, **texts}, schema_overrides=dict.fromkeys(texts, pl.String)
    )
    assert (
        compose_one(template, texts, number)
        == compose(template, frame, next_number=number)["name"][0]
    )
