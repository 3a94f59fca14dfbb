"""What a device gets, held to the rules as they are written; and the catalogue of settings."""

from __future__ import annotations

import json
import tomllib
from dataclasses import dataclass
from importlib.resources import files
from itertools import pairwise
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from jsonschema_rs import Draft202012Validator

from sortitor.core.errors import BadInput
from sortitor.core.kits import items as made_of
from sortitor.core.kits.catalogue import search, settings, themes
from sortitor.core.kits.resolve import (
    GIVEN,
    Assignment,
    Book,
    Choice,
    Item,
    Line,
    Ranked,
    chosen,
    effective,
    facts_of,
    revision,
    turned,
)
from sortitor.core.vocabulary import GivenAs, Giving, ItemVerdict, Platform, SettingType

CATALOGUE = list(settings().values())


# ---- the catalogue


def read(name: str) -> str:
    return files("sortitor.core.kits").joinpath(name).read_text(encoding="utf-8")


def test_the_catalogue_keeps_its_schema() -> None:
    schema = json.loads(read("settings.schema.json"))
    validator = Draft202012Validator(schema)
    faults = validator.iter_errors(tomllib.loads(read("settings.toml")))
    assert [str(fault) for fault in faults] == []
    with_a_fault = {"setting": [{"key": "Bad Key", "name": "x"}]}
    assert not validator.is_valid(with_a_fault)


def test_the_catalogue_is_large_and_says_each_thing_once() -> None:
    assert len(CATALOGUE) >= 120
    assert len(settings()) == len({one.name for one in CATALOGUE}) == len(CATALOGUE)
    assert all(one.says.endswith((".", "never.", "any.")) for one in CATALOGUE)
    named = [one.theme for one in CATALOGUE]
    assert themes(CATALOGUE) == [a for a, b in pairwise([*named, ""]) if a != b], "each together"
    for platform in Platform:
        assert sum(platform in one.platforms for one in CATALOGUE) >= 40, platform


@pytest.mark.parametrize("setting", CATALOGUE, ids=lambda one: one.key)
def test_a_setting_takes_what_it_says_and_nothing_else(setting: Any) -> None:
    good: dict[SettingType, list[Any]] = {
        SettingType.SWITCH: [True, False],
        SettingType.NUMBER: [setting.least, setting.most],
        SettingType.CHOICE: list(setting.choices),
        SettingType.TEXT: ["x", "x" * min(setting.most or 1, 100)],
        SettingType.LIST: [[], ["one"], ["one", "zwei"]],
        SettingType.FILE: ["0" * 64],
    }
    bad: dict[SettingType, list[Any]] = {
        SettingType.SWITCH: [1, "true", None],
        SettingType.NUMBER: [(setting.least or 0) - 1, (setting.most or 0) + 1, True, "5", 5.0],
        SettingType.CHOICE: ["", "no such", None, True, ["allowed"]],
        SettingType.TEXT: ["", " ", "two\nlines", "x" * ((setting.most or 0) + 1), 5],
        SettingType.LIST: ["one", ["same", "same"], [""], [5], ["x"] * 600],
        SettingType.FILE: ["0" * 63, "G" * 64, 5],
    }
    for value in good[setting.type]:
        assert setting.checked(value) == value
        assert isinstance(setting.said(value), str)
    for value in bad[setting.type]:
        with pytest.raises(BadInput) as refused:
            setting.checked(value)
        assert setting.form in str(refused.value.remedy)


def test_settings_are_found_by_typing_and_by_theme() -> None:
    assert search(CATALOGUE) == CATALOGUE
    assert [one.key for one in search(CATALOGUE, "CODE leng")] == ["code-length"]
    found = [one.key for one in search(CATALOGUE, "camera")]
    assert found[0] == "camera", "the name goes before the theme"
    assert "screenshots" in found, "by its theme"
    assert search(CATALOGUE, "zebra") == []
    for one in search(CATALOGUE, theme="Browser", platforms=[Platform.IOS, Platform.LINUX]):
        assert one.theme == "browser"
        assert {Platform.IOS, Platform.LINUX} <= one.platforms.keys()
    everything = [one for theme in themes(CATALOGUE) for one in search(CATALOGUE, theme=theme)]
    assert everything == CATALOGUE


# ---- what a device gets

COHORTS, ITEMS, KITS = range(1, 4), range(1, 7), range(1, 4)
APPLIES = [None, 'site eq "Deck"', 'osVersion ge "13" and ownership eq "corporate"']
FIRMWARE = {"kind": "firmware", "wanted": "17"}


@st.composite
def items(draw: st.DrawFn, number: int) -> tuple[Item, dict[Platform, str], str | None]:
    """An item, and what its condition was made of."""
    platforms = draw(
        st.dictionaries(st.sampled_from(Platform), st.sampled_from(["", "12", "14"]), max_size=3)
    )
    applies_when = draw(st.sampled_from(APPLIES))
    document = made_of.Item.model_validate(
        {"name": "x", "payload": FIRMWARE, "platforms": platforms, "applies_when": applies_when}
    )
    made = Item(
        number,
        draw(st.sampled_from("ab")),
        document.condition(settings()),
        draw(st.sampled_from([None, "camera", "firmware"])),
        draw(st.sampled_from(["a", "b"])),
    )
    return made, platforms, applies_when


@st.composite
def assignments(draw: st.DrawFn, number: int) -> Assignment:
    kind = draw(st.sampled_from(Giving))
    return Assignment(
        id=number,
        word=draw(st.sampled_from(GivenAs)),
        kind=kind,
        number=draw(st.sampled_from(ITEMS if kind is Giving.ITEM else KITS)),
        cohort_id=draw(st.sampled_from([None, *COHORTS])),
    )


@dataclass(frozen=True)
class Case:
    """A book, and of each item what its condition says."""

    book: Book
    said: dict[int, tuple[dict[Platform, str], str | None]]


@st.composite
def cases(draw: st.DrawFn) -> Case:
    made = {number: draw(items(number)) for number in ITEMS}
    ranked = {
        (kind, number): Ranked(
            draw(st.integers(1, 3)),
            items=draw(st.frozensets(st.sampled_from(ITEMS), max_size=4))
            if kind is Giving.KIT
            else frozenset(),
        )
        for kind in (Giving.KIT, Giving.SHEET, Giving.CHECKLIST)
        for number in KITS
    }
    given = [draw(assignments(n)) for n in range(1, draw(st.integers(0, 8)) + 1)]
    book = Book({n: one[0] for n, one in made.items()}, ranked, given)
    return Case(book, {n: one[1:] for n, one in made.items()})


@dataclass(frozen=True)
class Device:
    """A device as filters take it, and its cohorts."""

    cohorts: frozenset[int]
    values: dict[str, str | None]


devices = st.builds(
    Device,
    st.frozensets(st.sampled_from(COHORTS)),
    st.fixed_dictionaries(
        {
            "platform": st.sampled_from([None, *Platform]),
            "osVersion": st.sampled_from([None, "11", "13", "14.2", "new"]),
            "site": st.sampled_from(["Deck", "Bridge", None]),
            "ownership": st.sampled_from(["corporate", "personal"]),
        }
    ),
)


def fits(said: tuple[dict[Platform, str], str | None], device: Device) -> bool:
    """Whether an item is for a device, said as the handbook says it."""
    platforms, applies_when = said
    version, platform = device.values["osVersion"], device.values["platform"]
    if platforms:
        if platform not in platforms:
            return False
        least = platforms[Platform(platform)]
        if least and version not in (None, "new") and float(version) < float(least):
            return False
    if applies_when == APPLIES[1]:
        return device.values["site"] == "Deck"
    if applies_when == APPLIES[2]:
        return version in ("13", "14.2") and device.values["ownership"] == "corporate"
    return True


def by_the_rules(case: Case, device: Device) -> dict[int, tuple[str, int, int | None]]:
    """Item → (verdict, through, beaten by), said as the handbook says it."""
    book, found = case.book, dict[int, tuple[str, int, int | None]]()

    def position(a: Assignment) -> int:
        return 0 if a.kind is Giving.ITEM else book.ranked[a.kind, a.number].position

    def brings(a: Assignment, item_id: int) -> bool:
        if a.kind is Giving.ITEM:
            return a.number == item_id
        return a.kind is Giving.KIT and item_id in book.ranked[a.kind, a.number].items

    for item in book.items.values():
        claims = [
            a
            for a in book.assignments
            if a.cohort_id in {None, *device.cohorts} and brings(a, item.id)
        ]
        if not claims:
            continue
        for word in ("excluded", "required", "offered"):
            of_it = [(position(a), a.id) for a in claims if a.word == word]
            if of_it:
                break
        for_it = word == "excluded" or fits(case.said[item.id], device)
        found[item.id] = (word if for_it else "not_for", min(of_it)[1], None)
    for thing in ("camera", "firmware"):
        rivals = [
            n for n, (verdict, _, _) in found.items()
            if book.items[n].holds == thing and verdict in ("required", "offered")
        ]  # fmt: skip

        def order(number: int) -> tuple[bool, int, int, int]:
            verdict, through, _ = found[number]
            a = book.assignments[through - 1]
            return (verdict == "offered", position(a), a.id, number)

        for loser in sorted(rivals, key=order)[1:]:
            found[loser] = ("beaten", found[loser][1], min(rivals, key=order))
    return found


@given(cases(), devices)
def test_a_device_gets_what_the_rules_say(case: Case, device: Device) -> None:
    book = case.book
    lines = effective(book, facts_of(book, device.cohorts, device.values))
    got = {line.item_id: (str(line.verdict), line.through, line.beaten_by) for line in lines}
    assert got == by_the_rules(case, device)
    for line in lines:
        if line.beaten_by is not None:
            one, other = book.items[line.item_id], book.items[line.beaten_by]
            assert line.disagrees == (one.value != other.value)
    # One item holds each thing.
    given_now = [book.items[n] for n, (verdict, _, _) in got.items() if verdict in GIVEN_WORDS]
    held = [item.holds for item in given_now if item.holds]
    assert len(held) == len(set(held))


GIVEN_WORDS = ("required", "offered")


@given(cases(), devices)
def test_of_several_sheets_a_device_has_the_highest_that_nothing_excludes(
    case: Case, device: Device
) -> None:
    book, facts = case.book, facts_of(case.book, device.cohorts, device.values)
    for kind in (Giving.SHEET, Giving.CHECKLIST):
        given_to = [
            a for a in book.assignments
            if a.kind is kind and a.cohort_id in {None, *device.cohorts}
        ]  # fmt: skip
        out = {a.number for a in given_to if a.word is GivenAs.EXCLUDED}
        left = sorted(
            (book.ranked[kind, n].position, min(a.id for a in claims), n)
            for n in KITS
            if n not in out and (claims := _strongest([a for a in given_to if a.number == n]))
        )
        wanted = None
        if left:
            (_, through, number), *others = left
            wanted = Choice(number, through, tuple(one[1] for one in others))
        assert chosen(book, facts, kind) == wanted


def _strongest(claims: list[Assignment]) -> list[Assignment]:
    """Those with the strongest word among them."""
    words = [word for word in GivenAs if any(a.word is word for a in claims)]
    return [a for a in claims if a.word is words[0]] if words else []


@given(cases(), devices)
def test_the_order_in_which_assignments_are_told_does_not_matter(
    case: Case, device: Device
) -> None:
    book = case.book
    facts = facts_of(book, device.cohorts, device.values)
    turned_round = Book(book.items, book.ranked, book.assignments[::-1])
    assert effective(book, facts) == effective(turned_round, facts)
    assert revision(book, facts) == revision(turned_round, facts)


@given(cases(), cases(), devices)
def test_before_and_after_add_up(before: Case, after: Case, device: Device) -> None:
    had, has = (
        effective(case.book, facts_of(case.book, device.cohorts, device.values))
        for case in (before, after)
    )
    turn = turned(had, has, renewed={1, 2})
    kept = {n for n, _, _ in turn.changed} | {*turn.anew}

    def numbers(lines: list[Line]) -> set[int]:
        return {
            n.item_id for n in lines if n.verdict in (ItemVerdict.REQUIRED, ItemVerdict.OFFERED)
        }

    assert numbers(had) - {*turn.lost} | {*turn.gained} == numbers(has)
    assert kept <= numbers(had) & numbers(has)
    assert {*turn.anew} == {1, 2} & numbers(had) & numbers(has)
    assert turned(has, had).gained == turn.lost
    assert not turned(had, had)


@given(cases(), devices, devices)
def test_a_revision_is_another_one_where_something_is_another(
    case: Case, one: Device, other: Device
) -> None:
    book = case.book
    facts = [facts_of(book, device.cohorts, device.values) for device in (one, other)]
    given_to = [
        [(line.item_id, line.verdict) for line in effective(book, each) if line.verdict in GIVEN]
        for each in facts
    ]
    sheets = [
        [(c := chosen(book, each, kind)) and c.number for kind in (Giving.SHEET, Giving.CHECKLIST)]
        for each in facts
    ]
    same = given_to[0] == given_to[1] and sheets[0] == sheets[1]
    assert (revision(book, facts[0]) == revision(book, facts[1])) is same
