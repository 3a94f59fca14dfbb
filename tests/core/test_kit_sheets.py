"""Kits, checklists and setup sheets as documents, and what is odd about them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.errors import BadInput
from sortitor.core.kits import lints
from sortitor.core.kits.checklists import USUAL_ORDER, Checklist, progress
from sortitor.core.kits.documents import Given, Kit
from sortitor.core.kits.sheets import TAKEN_AWAY, SetupSheet
from sortitor.core.vocabulary import FirstStep, GivenAs, ItemKind, ItemState, LintCode, Reach

NAMES = [f"Item {n}" for n in range(6)]


def test_nothing_stands_in_a_kit_twice() -> None:
    Kit(
        name="Deck", position=1, items=("Camera", "Mail"), given=(Given(), Given(cohort="A"))
    ).check()
    with pytest.raises(BadInput, match="“camera” is named twice"):
        Kit(name="Deck", position=1, items=("Camera", "camera")).check()
    with pytest.raises(BadInput, match="“everyone” is named twice"):
        Kit(name="Deck", position=1, given=(Given(), Given(word=GivenAs.EXCLUDED))).check()


@given(st.lists(st.sampled_from(ItemKind), min_size=1, max_size=6))
def test_what_others_lean_on_is_done_first(kinds: list[ItemKind]) -> None:
    names = NAMES[: len(kinds)]
    told = dict(zip(names, kinds, strict=True))
    usual = Checklist(name="First", items=tuple(names))
    ordered = usual.ordered(told)
    places = [USUAL_ORDER.index(told[name]) for name in ordered]
    assert places == sorted(places)
    assert set(USUAL_ORDER) == set(ItemKind)
    for kind in ItemKind:
        same = [name for name in ordered if told[name] is kind]
        assert same == [name for name in names if told[name] is kind], "of one kind as they stand"
    assert usual.model_copy(update={"own_order": True}).ordered(told) == names


@given(st.dictionaries(st.sampled_from(NAMES), st.sampled_from(ItemState)))
def test_three_of_ten(states: dict[str, ItemState]) -> None:
    found = progress(NAMES, states)
    told = [states.get(name, ItemState.WAITING) for name in NAMES]
    assert found.done == told.count(ItemState.DONE)
    assert found.total == len(NAMES) - told.count(ItemState.NOT_FOR)
    assert found.is_over == (found.current is None)
    if ItemState.WORKING in told:
        assert found.current == NAMES[told.index(ItemState.WORKING)]
    assert set(found.failed) == {n for n, s in states.items() if s is ItemState.FAILED}


@pytest.mark.parametrize(
    ("changed", "place"),
    [
        ({"skipped": ("code", "code")}, "/skipped"),
        ({"reach": "work_part", "locked": False, "local_administrator": "desk"},
         "/local_administrator"),
        ({"local_administrator": "The Desk"}, "/local_administrator"),
        ({"reach": "accounts_only"}, "/locked"),
        ({"skipped": ("language",)}, "/language"),
    ],
)  # fmt: skip
def test_choices_that_cannot_be_together_are_refused(changed: dict[str, Any], place: str) -> None:
    sheet = SetupSheet.model_validate({"name": "Gangway", "position": 1, **changed})
    with pytest.raises(BadInput) as refused:
        sheet.check()
    assert refused.value.problems[0].pointer == place


def test_what_a_skipped_step_takes_away_is_said() -> None:
    plain = SetupSheet(name="Plain", position=1)
    plain.check()
    assert list(plain.consequences()) == []
    for step in FirstStep:
        sheet = SetupSheet(name="S", position=1, skipped=(step,), language="en-GB")
        sheet.check()
        assert list(sheet.consequences()) == ([TAKEN_AWAY[step]] if step in TAKEN_AWAY else [])
    exported = SetupSheet(name="S", position=3, note="ours", given=(Given(),)).exported()
    assert not exported.keys() & {"given", "position", "note"}


# ---- lints: each with a case that has it, and one that has not


def codes(found: Iterator[lints.Lint]) -> list[LintCode]:
    told = list(found)
    assert all(one.words.endswith(".") and one.mend.endswith(".") for one in told)
    return [one.code for one in told]


CASES = [
    (lints.of_given, lints.GivenFacts("kit “A”", "Deck", GivenAs.REQUIRED, 0, 0),
     lints.GivenFacts("kit “A”", "Deck", GivenAs.REQUIRED, 1, 0), LintCode.EMPTY_COHORT),
    (lints.of_item, lints.ItemFacts("A", False, reached=4, fits=0),
     lints.ItemFacts("A", False, reached=4, fits=1), LintCode.FOR_NO_DEVICE),
    (lints.of_item, lints.ItemFacts("A", False, 4, 4, beaten=2, beaten_by="B"),
     lints.ItemFacts("A", False, 4, 4), LintCode.CONFLICT),
    (lints.of_item, lints.ItemFacts("A", True, 4, 4, uncarried=1),
     lints.ItemFacts("A", False, 4, 4, uncarried=1), LintCode.NEEDS_HAND),
    (lints.of_awaited, lints.AwaitedFacts("First", "A", devices=10, get_it=9),
     lints.AwaitedFacts("First", "A", devices=10, get_it=10), LintCode.NOT_ASSIGNED),
    (lints.of_time, lints.TimeFacts("First", 5, size=301_000_000, bytes_per_second=1_000_000),
     lints.TimeFacts("First", 5, size=300_000_000, bytes_per_second=1_000_000), LintCode.TOO_LARGE),
    (lints.of_overlap, lints.OverlapFacts("kit “A”", ("B",), "Deck", "Lent out", 3),
     lints.OverlapFacts("kit “A”", ("B",), "Deck", "Lent out", 0), LintCode.OPPOSITE),
    (lints.of_sheet, lints.SheetFacts("Whole", Reach.WHOLE, 5, 1),
     lints.SheetFacts("Part", Reach.WORK_PART, 5, 1), LintCode.AGAINST_GATE),
]  # fmt: skip


@pytest.mark.parametrize(("look", "odd", "well", "code"), CASES, ids=lambda one: str(one)[:20])
def test_a_lint_has_its_case_and_its_contrary(
    look: Any, odd: object, well: object, code: LintCode
) -> None:
    assert codes(look(odd)) == [code]
    assert codes(look(well)) == []


def test_every_lint_has_a_case() -> None:
    assert codes(lints.of_ungiven("kit “A”", 0)) == [LintCode.TO_NOBODY]
    assert codes(lints.of_ungiven("kit “A”", 1)) == []
    assert codes(lints.of_time(lints.TimeFacts("First", 5, 10**12, None))) == []
    excluded = lints.GivenFacts("kit “A”", "Deck", GivenAs.EXCLUDED, 0, 0)
    assert codes(lints.of_given(excluded)) == [], "nobody is there to be kept out"
    assert {code for *_, code in CASES} | {LintCode.TO_NOBODY} == set(LintCode)
