"""What a device gets, through what, and what was beaten.

What is decided leans on two facts of a device only: in which of the named cohorts it is, and which
of the items' conditions hold for it. Whoever counts a fleet gathers the facts of all its devices
and decides once for those that have the same.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from typing import Any

from sortitor.core.filters import Filter, matches, parse
from sortitor.core.previews import digest_of
from sortitor.core.vocabulary import GivenAs, Giving, ItemVerdict

GIVEN = (ItemVerdict.REQUIRED, ItemVerdict.OFFERED)
#: Excluded beats required beats offered; of the same word the higher position, then the older
#: assignment.
_RANK = {word: place for place, word in enumerate(GivenAs)}
_Standing = tuple[int, int, int]


#: Of these a device has one.
ALONE = (Giving.SHEET, Giving.CHECKLIST)


@dataclass(frozen=True, slots=True)
class Item:
    """What can be given. `condition`: for which devices, as a filter; None: for all. `holds`: what
    only one item can hold on a device, such as a setting by its key, and the `value` that it would
    have there. `revision`: what devices are sent of it, as a digest.
    """

    id: int
    revision: str = ""
    condition: str | None = None
    holds: str | None = None
    value: Any = None


@dataclass(frozen=True, slots=True)
class Ranked:
    """A kit with its items, a sheet or a checklist. The higher it stands, the smaller its
    `position`; `revision` as of an item.
    """

    position: int
    revision: str = ""
    items: frozenset[int] = frozenset()


@dataclass(frozen=True, slots=True)
class Assignment:
    """Something given to a cohort or (None) to everyone. One item by itself stands above all
    kits.
    """

    id: int
    word: GivenAs
    kind: Giving
    number: int
    cohort_id: int | None = None


@dataclass(frozen=True, slots=True)
class Facts:
    """What decides over a device: its cohorts, and the conditions that hold for it."""

    cohorts: frozenset[int] = frozenset()
    conditions: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class Line:
    """One item on one device: `through` which assignment, the assignments that it `beat`, and,
    where another item holds what this one would set, by which it was beaten and whether they
    disagree.
    """

    item_id: int
    verdict: ItemVerdict
    through: int
    beat: tuple[int, ...] = ()
    beaten_by: int | None = None
    disagrees: bool = False


@dataclass(frozen=True, slots=True)
class Choice:
    """The one sheet or checklist of a device, through which assignment, and which it beat."""

    number: int
    through: int
    beat: tuple[int, ...] = ()


@dataclass(frozen=True)
class Book:
    """All that is assigned, as it is looked up. `ranked`: kits, sheets and checklists, each by its
    number.
    """

    items: Mapping[int, Item]
    ranked: Mapping[tuple[Giving, int], Ranked]
    assignments: Sequence[Assignment]

    @cached_property
    def claims(self) -> Mapping[int | None, Sequence[tuple[Giving, int, _Standing]]]:
        """What is given to a cohort, or to everyone: items and the documents of which a device has
        one, each with where the claim stands.
        """
        found: dict[int | None, list[tuple[Giving, int, _Standing]]] = defaultdict(list)
        for one in self.assignments:
            rank = _RANK[one.word]
            for item_id, position in self.reach(one):
                claim = (Giving.ITEM, item_id, (rank, position, one.id))
                found[one.cohort_id].append(claim)
            if one.kind in ALONE:
                position = self.ranked[one.kind, one.number].position
                found[one.cohort_id].append((one.kind, one.number, (rank, position, one.id)))
        return found

    def claimed(self, facts: Facts, kind: Giving) -> dict[int, list[_Standing]]:
        """What reaches a device: number → its claims."""
        reaching: dict[int, list[_Standing]] = defaultdict(list)
        for cohort_id in (None, *facts.cohorts):
            for of, number, standing in self.claims.get(cohort_id, ()):
                if of is kind:
                    reaching[number].append(standing)
        return reaching

    def reach(self, assignment: Assignment) -> Iterator[tuple[int, int]]:
        """The items that an assignment gives, each with the position that it has through it."""
        if assignment.kind is Giving.ITEM:
            yield assignment.number, 0
        elif assignment.kind is Giving.KIT:
            kit = self.ranked[Giving.KIT, assignment.number]
            for item_id in kit.items:
                yield item_id, kit.position


def effective(book: Book, facts: Facts) -> list[Line]:
    """Every item that any assignment brings to the device, by item."""
    reaching = book.claimed(facts, Giving.ITEM)
    lines, standing = {}, {}
    words = list(GivenAs)
    for item_id, standings in sorted(reaching.items()):
        first, *beaten = sorted(standings)
        verdict = ItemVerdict(words[first[0]])
        condition = book.items[item_id].condition
        is_for = condition is None or condition in facts.conditions
        if verdict is not ItemVerdict.EXCLUDED and not is_for:
            verdict = ItemVerdict.NOT_FOR
        lines[item_id] = Line(item_id, verdict, first[2], tuple(one[2] for one in beaten))
        standing[item_id] = first
    for rivals in _rivals(book, lines.values()):
        winner, *losers = sorted(rivals, key=lambda item_id: (standing[item_id], item_id))
        for item_id in losers:
            line, value = lines[item_id], book.items[item_id].value
            lines[item_id] = Line(
                item_id,
                ItemVerdict.BEATEN,
                line.through,
                line.beat,
                beaten_by=winner,
                disagrees=value != book.items[winner].value,
            )
    return list(lines.values())


def chosen(book: Book, facts: Facts, kind: Giving) -> Choice | None:
    """The one sheet, or the one checklist, that a device has: of those that nothing excludes the
    one that stands highest.
    """
    standing = sorted(
        (min(claim)[1:], number)
        for number, claim in book.claimed(facts, kind).items()
        if min(claim)[0] != _RANK[GivenAs.EXCLUDED]
    )
    if not standing:
        return None
    ((_, through), number), *others = standing
    return Choice(number, through, tuple(other[0][1] for other in others))


def revision(book: Book, facts: Facts) -> str:
    """What a device gets, as a digest: another one where anything of it is another, and no other
    where nothing is.
    """
    lines = effective(book, facts)
    told: list[Any] = [
        (line.item_id, book.items[line.item_id].revision, line.verdict)
        for line in lines
        if line.verdict in GIVEN
    ]
    for kind in (Giving.SHEET, Giving.CHECKLIST):
        choice = chosen(book, facts, kind)
        told.append(choice and (choice.number, book.ranked[kind, choice.number].revision))
    return digest_of(told)


def facts_of(book: Book, cohorts: Iterable[int], values: Mapping[str, Any]) -> Facts:
    """The facts of one device, real or imagined. values: attribute → value, as filters take
    them.
    """
    conditions = {item.condition for item in book.items.values() if item.condition is not None}
    holding = {text for text in conditions if holds(text, values)}
    return Facts(frozenset(cohorts), frozenset(holding))


def holds(condition: str, values: Mapping[str, Any]) -> bool:
    """Whether a condition holds for a device."""
    return matches(_read(condition), values)[0]


@lru_cache(maxsize=4096)
def _read(text: str) -> Filter:
    return parse(text)


def _rivals(book: Book, lines: Iterable[Line]) -> Iterator[list[int]]:
    """Items that would hold the same thing on the device."""
    holding: dict[str, list[int]] = defaultdict(list)
    for line in lines:
        holds = book.items[line.item_id].holds
        if holds is not None and line.verdict in GIVEN:
            holding[holds].append(line.item_id)
    return (rivals for rivals in holding.values() if len(rivals) > 1)


@dataclass(frozen=True, slots=True)
class Turn:
    """What a change does on one device: items that come, that go, that come anew because they
    changed, and whose word changes, as `(item, before, after)`.
    """

    gained: tuple[int, ...] = ()
    lost: tuple[int, ...] = ()
    anew: tuple[int, ...] = ()
    changed: tuple[tuple[int, ItemVerdict, ItemVerdict], ...] = field(default=())

    def __bool__(self) -> bool:
        return bool(self.gained or self.lost or self.anew or self.changed)


def turned(
    before: Sequence[Line], after: Sequence[Line], renewed: Iterable[int] = frozenset()
) -> Turn:
    """Beside each other, what a device has and what it would have. renewed: items that would be
    others themselves.
    """
    had, has = _given(before), _given(after)
    both = sorted(had.keys() & has.keys())
    return Turn(
        gained=tuple(sorted(has.keys() - had.keys())),
        lost=tuple(sorted(had.keys() - has.keys())),
        anew=tuple(item_id for item_id in both if item_id in {*renewed}),
        changed=tuple(
            (item_id, had[item_id], has[item_id])
            for item_id in both
            if had[item_id] is not has[item_id]
        ),
    )


def _given(lines: Sequence[Line]) -> dict[int, ItemVerdict]:
    """Item → verdict, of those that the device gets or may take."""
    return {line.item_id: line.verdict for line in lines if line.verdict in GIVEN}
