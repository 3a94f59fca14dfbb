"""What a device gets, through what, and what was beaten."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from sortitor.core import versions
from sortitor.core.filters import Filter, matches
from sortitor.core.vocabulary import Platform


class Word(StrEnum):
    """What an assignment says of its items, the strongest first."""

    EXCLUDED = "excluded"
    REQUIRED = "required"
    OFFERED = "offered"


class Verdict(StrEnum):
    """What becomes of an item on a device."""

    REQUIRED = "required"
    OFFERED = "offered"
    EXCLUDED = "excluded"
    #: Another item holds what this one would set.
    BEATEN = "beaten"
    #: It is for another platform or version, or its condition does not hold.
    NOT_FOR = "not_for"


@dataclass(frozen=True, slots=True)
class Item:
    """What can be given. `platforms`: each with the least version that takes it ("" for any);
    none: every platform. `holds`: what only one item can hold on a device, such as a setting by its
    key, and the `value` that it would have there.
    """

    id: int
    platforms: Mapping[Platform, str] = field(default_factory=dict)
    applies_when: Filter | None = None
    holds: str | None = None
    value: Any = None


@dataclass(frozen=True, slots=True)
class Kit:
    """A set of items. The higher it stands, the smaller its `position`."""

    id: int
    position: int
    items: frozenset[int]


@dataclass(frozen=True, slots=True)
class Assignment:
    """A kit, or one item, to a cohort or (None) to everyone. One item by itself stands above all
    kits.
    """

    id: int
    word: Word
    kit_id: int | None = None
    item_id: int | None = None
    cohort_id: int | None = None


@dataclass(frozen=True, slots=True)
class Device:
    """Whoever gets something: a device that is there, awaited or imagined. `values`: attribute →
    value, as filters take them.
    """

    platform: Platform | None
    os_version: str | None
    cohorts: frozenset[int]
    values: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Line:
    """One item on one device: `through` which assignment, the assignments that it `beat`, and,
    where another item holds what this one would set, by which it was beaten and whether they
    disagree.
    """

    item_id: int
    verdict: Verdict
    through: int
    beat: tuple[int, ...] = ()
    beaten_by: int | None = None
    disagrees: bool = False


@dataclass(frozen=True, slots=True)
class Book:
    """All that is assigned, as it is looked up."""

    items: Mapping[int, Item]
    kits: Mapping[int, Kit]
    assignments: Sequence[Assignment]

    def reach(self, assignment: Assignment) -> Iterator[tuple[int, int]]:
        """The items that an assignment gives, each with the position that it has through it."""
        if assignment.item_id is not None:
            yield assignment.item_id, 0
        elif assignment.kit_id is not None:
            kit = self.kits[assignment.kit_id]
            for item_id in kit.items:
                yield item_id, kit.position


#: Excluded beats required beats offered; of the same word the higher position, then the older
#: assignment.
_RANK = {word: place for place, word in enumerate(Word)}
_Standing = tuple[int, int, int]


def effective(book: Book, device: Device) -> list[Line]:
    """Every item that any assignment brings to the device, by item."""
    reaching: dict[int, list[_Standing]] = defaultdict(list)
    for one in book.assignments:
        if one.cohort_id is None or one.cohort_id in device.cohorts:
            for item_id, position in book.reach(one):
                reaching[item_id].append((_RANK[one.word], position, one.id))
    lines, standing = {}, {}
    words = list(Word)
    for item_id, standings in sorted(reaching.items()):
        first, *beaten = sorted(standings)
        verdict = Verdict(words[first[0]])
        if verdict is not Verdict.EXCLUDED and not is_for(book.items[item_id], device):
            verdict = Verdict.NOT_FOR
        lines[item_id] = Line(item_id, verdict, first[2], tuple(one[2] for one in beaten))
        standing[item_id] = first
    for rivals in _rivals(book, lines.values()):
        winner, *losers = sorted(rivals, key=lambda item_id: (standing[item_id], item_id))
        for item_id in losers:
            line, value = lines[item_id], book.items[item_id].value
            lines[item_id] = Line(
                item_id,
                Verdict.BEATEN,
                line.through,
                line.beat,
                beaten_by=winner,
                disagrees=value != book.items[winner].value,
            )
    return list(lines.values())


def is_for(item: Item, device: Device) -> bool:
    """Whether a device can take an item: by platform, version and the item's own condition. A
    version that nobody stated is new enough.
    """
    if item.platforms:
        least = None if device.platform is None else item.platforms.get(device.platform)
        if least is None:
            return False
        if least and is_older(device.os_version, least):
            return False
    return item.applies_when is None or matches(item.applies_when, device.values)[0]


def is_older(version: str | None, least: str) -> bool:
    """Whether a version is too old. One that nobody stated, or that is none, is new enough."""
    return version is not None and versions.is_version(version) and versions.below(version, least)


def _rivals(book: Book, lines: Iterable[Line]) -> Iterator[list[int]]:
    """Items that would hold the same thing on the device."""
    holding: dict[str, list[int]] = defaultdict(list)
    for line in lines:
        holds = book.items[line.item_id].holds
        if holds is not None and line.verdict in (Verdict.REQUIRED, Verdict.OFFERED):
            holding[holds].append(line.item_id)
    return (rivals for rivals in holding.values() if len(rivals) > 1)


@dataclass(frozen=True, slots=True)
class Turn:
    """What a change does on one device: items that come, that go, and whose word changes, as
    `(item, before, after)`.
    """

    gained: tuple[int, ...]
    lost: tuple[int, ...]
    changed: tuple[tuple[int, Verdict, Verdict], ...]


def turned(before: Sequence[Line], after: Sequence[Line]) -> Turn:
    """Beside each other, what a device has and what it would have."""
    had, has = _given(before), _given(after)
    return Turn(
        gained=tuple(sorted(has.keys() - had.keys())),
        lost=tuple(sorted(had.keys() - has.keys())),
        changed=tuple(
            (item_id, had[item_id], has[item_id])
            for item_id in sorted(had.keys() & has.keys())
            if had[item_id] is not has[item_id]
        ),
    )


def _given(lines: Sequence[Line]) -> dict[int, Verdict]:
    """Item → verdict, of those that the device gets or may take."""
    given = (Verdict.REQUIRED, Verdict.OFFERED)
    return {line.item_id: line.verdict for line in lines if line.verdict in given}
