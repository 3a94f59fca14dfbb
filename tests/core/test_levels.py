"""Near misses, and what a comparison says."""

from __future__ import annotations

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core import levels as core
from sortitor.core.levels import FleetDevice, Line, compare, marked, near_misses
from sortitor.core.vocabulary import Gap, Stage


def near(unknown: str, *missing: str) -> list[tuple[int, int]]:
    theirs = pl.DataFrame({"key": ["k"], "value": [unknown]})
    ours = pl.DataFrame({"device_id": range(1, len(missing) + 1), "value": list(missing)})
    return [(row["device_id"], row["percent"]) for row in near_misses(theirs, ours).to_dicts()]


@pytest.mark.parametrize(
    ("unknown", "missing", "percent"),
    [
        ("KD8O0I23", "KD800123", core.CONFUSABLE),
        ("SN5B001", "SNSB001", core.CONFUSABLE),
        ("KD80132", "KD80123", core.SWAPPED),
        ("KD801234", "KD80123", core.ONE_MORE),
        ("KD8013", "KD80123", core.ONE_MORE),
        ("KD80124", "KD80123", core.ONE_OTHER),
    ],
)
def test_how_sure_a_near_miss_is(unknown: str, missing: str, percent: int) -> None:
    assert near(unknown, missing) == [(1, percent)]


def test_what_is_no_near_miss() -> None:
    assert near("KD80123", "KD80123") == []
    assert near("KD80123", "KD80199") == []
    assert near("KD12", "KD13") == []
    assert near("ABCDEF", "BADCEF") == []
    assert near("XABYZ", "XBCYZ") == []


def test_a_surer_one_goes_before_and_several_are_less_sure() -> None:
    assert near("KD8O123", "KD80124", "KD80123") == [(2, core.CONFUSABLE)]
    assert near("KD80125", "KD80124", "KD80123") == [(1, core.ONE_OF_SEVERAL)]


def edits(one: str, other: str) -> int:
    """The distance of two texts with swaps of neighbours (optimal string alignment)."""
    rows = [list(range(len(other) + 1))]
    for i, a in enumerate(one, 1):
        row = [i]
        for j, b in enumerate(other, 1):
            best = min(rows[-1][j] + 1, row[-1] + 1, rows[-1][j - 1] + (a != b))
            if i > 1 and j > 1 and (a, one[i - 2]) == (other[j - 2], b):
                best = min(best, rows[-2][j - 2] + 1)
            row.append(best)
        rows.append(row)
    return rows[-1][-1]


numbers = st.text("AB01O", min_size=5, max_size=7)


@given(st.lists(numbers, min_size=1, max_size=6), st.lists(numbers, min_size=1, max_size=6))
def test_near_misses_are_those_of_one_edit_or_of_look_alikes(
    unknown: list[str], missing: list[str]
) -> None:
    theirs = pl.DataFrame({"key": [str(n) for n in range(len(unknown))], "value": unknown})
    ours = pl.DataFrame({"device_id": range(len(missing)), "value": missing})
    found = {row["key"]: row["device_id"] for row in near_misses(theirs, ours).to_dicts()}
    fold = str.maketrans(core.CONFUSED)
    for key, one in enumerate(unknown):
        fitting = [
            place
            for place, other in enumerate(missing)
            if one != other
            and (edits(one, other) == 1 or one.translate(fold) == other.translate(fold))
        ]
        assert (str(key) in found) == bool(fitting)
        if fitting:
            assert found[str(key)] in fitting


def test_marked_pieces_say_what_differs() -> None:
    ours, theirs = marked("KD800123", "KD8O0123")
    assert [piece for piece, differs in ours if differs] == ["0"]
    assert [piece for piece, differs in theirs if differs] == ["O"]
    assert "".join(piece for piece, _ in ours) == "KD800123"


def test_every_kind_of_disagreement() -> None:
    fleet = [
        FleetDevice(1, Stage.ACTIVE, model="Mate 3", person=("anna", "anna@x")),
        FleetDevice(2, Stage.RETIRED),
        FleetDevice(3, Stage.AWAITED),
    ]
    lines = [
        Line("a", 1, said={"model": "MATE 3", "person": "bram"}),
        Line("b", 1, said={}),
        Line("c", 2),
        Line("d", None),
    ]
    found = compare(fleet, {7: lines}, {7: [1, 2, 3]})
    assert [(one.key, one.kind) for one in found] == [
        ("absent/7/3", Gap.ABSENT),
        ("alive/7/2", Gap.ALIVE),
        ("differs/7/1/person", Gap.DIFFERS),
        ("twice/7/1", Gap.TWICE),
        ("unknown/7/d", Gap.UNKNOWN),
    ]
    assert (found[2].ours, found[2].theirs) == ("anna", "bram")
