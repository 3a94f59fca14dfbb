"""What a device gets, held to the rules as they are written; and the catalogue of settings."""

from __future__ import annotations

import json
import tomllib
from importlib.resources import files
from itertools import pairwise
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from jsonschema_rs import Draft202012Validator

from sortitor.core.errors import BadInput
from sortitor.core.filters import parse
from sortitor.core.kits.catalogue import SettingType, search, settings, themes
from sortitor.core.kits.resolve import (
    Assignment,
    Book,
    Device,
    Item,
    Kit,
    Line,
    Verdict,
    Word,
    effective,
    turned,
)
from sortitor.core.vocabulary import Platform

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


def test_a_setting_is_known_from_a_version_on() -> None:
    microphone = settings()["microphone"]
    assert microphone.is_known_to(Platform.ANDROID, "12.1")
    assert microphone.is_known_to(Platform.ANDROID, None)
    assert not microphone.is_known_to(Platform.ANDROID, "11")
    assert not microphone.is_known_to(Platform.IOS, "17")


# ---- what a device gets

COHORTS, ITEMS, KITS = range(1, 4), range(1, 7), range(1, 4)
CONDITIONS = [None, 'site eq "Deck"', 'osVersion ge "13" and ownership eq "corporate"']
items = st.builds(
    Item,
    id=st.just(0),
    platforms=st.dictionaries(
        st.sampled_from(Platform), st.sampled_from(["", "12", "14"]), max_size=3
    ),
    applies_when=st.sampled_from(CONDITIONS).map(lambda text: parse(text) if text else None),
    holds=st.sampled_from([None, "camera", "firmware"]),
    value=st.sampled_from(["a", "b"]),
)
kits = st.builds(
    Kit,
    id=st.just(0),
    position=st.integers(1, 3),
    items=st.frozensets(st.sampled_from(ITEMS), max_size=4),
)


@st.composite
def assignment(draw: st.DrawFn, number: int) -> Assignment:
    whole = draw(st.booleans())
    return Assignment(
        id=number,
        word=draw(st.sampled_from(Word)),
        kit_id=draw(st.sampled_from(KITS)) if whole else None,
        item_id=None if whole else draw(st.sampled_from(ITEMS)),
        cohort_id=draw(st.sampled_from([None, *COHORTS])),
    )


@st.composite
def books(draw: st.DrawFn) -> Book:
    made = {n: draw(items) for n in ITEMS}
    packed = {n: draw(kits) for n in KITS}
    return Book(
        {n: Item(n, i.platforms, i.applies_when, i.holds, i.value) for n, i in made.items()},
        {n: Kit(n, k.position, k.items) for n, k in packed.items()},
        [draw(assignment(n)) for n in range(1, draw(st.integers(0, 8)) + 1)],
    )


@st.composite
def devices(draw: st.DrawFn) -> Device:
    version = draw(st.sampled_from([None, "11", "13", "14.2"]))
    values = {
        "site": draw(st.sampled_from(["Deck", "Bridge", None])),
        "ownership": draw(st.sampled_from(["corporate", "personal"])),
        "osVersion": version,
    }
    platform = draw(st.sampled_from([None, *Platform]))
    return Device(platform, version, draw(st.frozensets(st.sampled_from(COHORTS))), values)


def by_the_rules(book: Book, device: Device) -> dict[int, tuple[str, int, int | None]]:
    """Item → (verdict, through, beaten by), said as the handbook says it."""
    found: dict[int, tuple[str, int, int | None]] = {}
    for item in book.items.values():
        claims = [
            (a, 0 if a.item_id else book.kits[a.kit_id or 0].position)
            for a in book.assignments
            if a.cohort_id in {None, *device.cohorts}
            and (a.item_id == item.id or (a.kit_id and item.id in book.kits[a.kit_id].items))
        ]
        if not claims:
            continue
        for word in ("excluded", "required", "offered"):
            of_it = [(position, a.id) for a, position in claims if a.word == word]
            if of_it:
                break
        through = min(of_it)[1]
        newer = device.os_version is None or all(
            not least or [float(device.os_version)] >= [float(least)]
            for platform, least in item.platforms.items()
            if platform is device.platform
        )
        fits = not item.platforms or (device.platform in item.platforms and newer)
        if item.applies_when == parse(CONDITIONS[1]):
            fits = fits and device.values["site"] == "Deck"
        elif item.applies_when is not None:
            version = device.os_version
            fits = fits and version in ("13", "14.2") and device.values["ownership"] == "corporate"
        found[item.id] = (word if word == "excluded" or fits else "not_for", through, None)
    for thing in ("camera", "firmware"):
        rivals = [
            n for n, (verdict, _, _) in found.items()
            if book.items[n].holds == thing and verdict in ("required", "offered")
        ]  # fmt: skip

        def order(number: int) -> tuple[bool, int, int, int]:
            verdict, through, _ = found[number]
            a = book.assignments[through - 1]
            position = 0 if a.item_id else book.kits[a.kit_id or 0].position
            return (verdict == "offered", position, a.id, number)

        for loser in sorted(rivals, key=order)[1:]:
            found[loser] = ("beaten", found[loser][1], min(rivals, key=order))
    return found


@given(books(), devices())
def test_a_device_gets_what_the_rules_say(book: Book, device: Device) -> None:
    lines = effective(book, device)
    got = {line.item_id: (str(line.verdict), line.through, line.beaten_by) for line in lines}
    assert got == by_the_rules(book, device)
    for line in lines:
        if line.beaten_by is not None:
            one, other = book.items[line.item_id], book.items[line.beaten_by]
            assert line.disagrees == (one.value != other.value)
    # One item holds each thing.
    given_now = [book.items[n] for n, (verdict, _, _) in got.items() if verdict in given_words]
    held = [item.holds for item in given_now if item.holds]
    assert len(held) == len(set(held))


given_words = ("required", "offered")


@given(books(), devices())
def test_the_order_in_which_assignments_are_told_does_not_matter(
    book: Book, device: Device
) -> None:
    turned_round = Book(book.items, book.kits, book.assignments[::-1])
    assert effective(book, device) == effective(turned_round, device)


@given(books(), books(), devices())
def test_before_and_after_add_up(before: Book, after: Book, device: Device) -> None:
    had, has = effective(before, device), effective(after, device)
    turn = turned(had, has)
    kept = {n for n, _, _ in turn.changed}

    def numbers(lines: list[Line]) -> set[int]:
        return {n.item_id for n in lines if n.verdict in (Verdict.REQUIRED, Verdict.OFFERED)}

    assert numbers(had) - {*turn.lost} | {*turn.gained} == numbers(has)
    assert kept <= numbers(had) & numbers(has)
    assert turned(has, had).gained == turn.lost
    assert turned(had, had) == turned([], [])
