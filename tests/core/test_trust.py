"""The chain of digests, names that look alike, cells that a spreadsheet would run, many forms of an
identifier, counters that step over names in use.
"""

from __future__ import annotations

import hashlib
import json
import unicodedata
from datetime import UTC, datetime, timedelta, timezone

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.accounts import check_account_name, check_password, name_key
from sortitor.core.cells import FORMULA, harmless, is_formula, plain_header
from sortitor.core.errors import BadInput
from sortitor.core.identifiers import check_one, normal_forms
from sortitor.core.naming.compose import KnownNames, compose
from sortitor.core.naming.templates import Template
from sortitor.core.seals import BEGINNING, next_digest
from sortitor.core.vocabulary import IdentifierKind

ENTRY = {
    "id": 1,
    "at": datetime(2026, 1, 17, 9, 0, tzinfo=UTC),
    "summary": "Зоя مريم",
    "after": {"b": [1, None, True], "a": 1.5},
    "effects_sha256": [],
}


def test_a_digest_is_what_the_standard_makes_of_it() -> None:
    """Worked out by hand: RFC 8785 sorts members and writes no blanks."""
    canonical = (
        '{"after":{"a":1.5,"b":[1,null,true]},"at":"2026-01-17T09:00:00.000000+00:00",'
        '"effects_sha256":[],"id":1,"summary":"Зоя مريم"}'
    )
    assert next_digest(BEGINNING, ENTRY) == hashlib.sha256(bytes(32) + canonical.encode()).digest()


def test_the_same_moment_in_another_zone_is_the_same() -> None:
    east = ENTRY["at"].astimezone(timezone(timedelta(hours=9)))  # type: ignore[attr-defined]
    assert next_digest(BEGINNING, {**ENTRY, "at": east}) == next_digest(BEGINNING, ENTRY)


values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(st.characters(exclude_categories=["Cs"])),
    lambda inner: (
        st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=4), inner, max_size=3)
    ),
    max_leaves=8,
)


@given(values, values)
def test_what_differs_has_another_digest(one: object, other: object) -> None:
    same = json.dumps(one, sort_keys=True) == json.dumps(other, sort_keys=True)
    digests = {next_digest(BEGINNING, {**ENTRY, "after": value}) for value in (one, other)}
    assert len(digests) == (1 if same else 2)
    chained = next_digest(next_digest(BEGINNING, {"after": one}), {"after": other})
    assert chained != next_digest(next_digest(BEGINNING, {"after": other}), {"after": one}) or same


@pytest.mark.parametrize(
    ("one", "other"),
    [
        ("admin", "аdmin"),
        ("admin", "ＡＤＭＩＮ"),
        ("admin", "ad\u200bmin"),
        ("ann lee", "Ann  Lee"),
        ("paul", "pau1"),
        ("cool", "c00l"),
    ],
)
def test_names_that_look_alike_have_one_key(one: str, other: str) -> None:
    assert name_key(one) == name_key(other)


@given(st.text(st.characters(exclude_categories=["Cs"]), max_size=30))
def test_a_key_is_stable_and_a_kept_name_shows_what_it_is(text: str) -> None:
    key = name_key(text)
    assert name_key(key) == key or not key.isascii()
    try:
        kept = check_account_name(text)
    except BadInput:
        return
    assert kept == unicodedata.normalize("NFKC", text).strip()
    assert not any(unicodedata.category(one)[0] == "C" for one in kept)


@given(st.text(max_size=250))
def test_no_password_breaks_the_estimate(text: str) -> None:
    try:
        check_password("maud", text)
    except BadInput:
        return
    assert 12 <= len(text) <= 200


CELLS = [
    "=1",
    "+1",
    "-1",
    "@x",
    "\t=1",
    "\r1",
    "\n=1",
    "＝1",
    "＋1",
    "－1",
    "＠x",
    "  =1",
    "\u200b=1",
]


@pytest.mark.parametrize("cell", CELLS)
def test_no_cell_runs_by_either_way_out(cell: str) -> None:
    assert harmless(cell) == f"'{cell}"
    assert pl.Series([cell]).str.contains(FORMULA)[0]
    assert plain_header(harmless(cell)) == cell


@given(st.text(st.characters(exclude_categories=["Cs"]), max_size=12))
def test_both_ways_out_agree(text: str) -> None:
    assert bool(pl.Series([text]).str.contains(FORMULA)[0]) == is_formula(text)
    assert plain_header(str(harmless(text))) == (
        text if not text.startswith("'") else plain_header(text)
    )


@given(st.lists(st.text("KM-0123456789 ABCDEF:", max_size=20), max_size=12))
def test_many_at_once_are_read_as_one_by_one(texts: list[str]) -> None:
    singly = {
        text: {value for kind in IdentifierKind if (value := check_one(kind, text)[0])}
        for text in texts
    }
    assert normal_forms(texts) == singly


def fleet(count: int) -> pl.DataFrame:
    names = [
        "serial",
        "imei",
        "platform",
        "maker",
        "model",
        "product_code",
        "ownership",
        "order_name",
        "supplier",
        "site",
        "department",
        "asset_tag",
        "person",
        "person_department",
        "person_site",
    ]
    return pl.DataFrame(
        {"device_id": range(count), **{name: ["x"] * count for name in names}},
        schema={"device_id": pl.Int64, **dict.fromkeys(names, pl.String)},
    ).with_columns(platform=pl.lit("android"))


@pytest.mark.parametrize("pattern", ["A{n|last 1}", "A{n|letters}", "A{n|first 1}", "B{site}"])
def test_a_template_that_cannot_tell_devices_apart_ends(pattern: str) -> None:
    named = compose(Template(name="t", pattern=pattern), fleet(300))
    assert named.height == 300
    assert named["name"].drop_nulls().is_unique().all()
    assert (named["problem"] == "colliding").sum() >= 200


def test_a_counter_goes_on_behind_a_long_row_of_names_in_use() -> None:
    taken = {f"dev-{number:05}" for number in range(1, 5_000)}
    named = compose(
        Template(name="t", pattern="DEV-{n|pad 5}"), fleet(3), KnownNames(frozenset(taken))
    )
    assert named["name"].to_list() == ["DEV-05000", "DEV-05001", "DEV-05002"]
