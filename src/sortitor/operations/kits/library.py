"""All that is prepared for devices, as it is looked up: read once for every change of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import count
from typing import Any

from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.filters import lower
from sortitor.core.kits.catalogue import Setting, settings
from sortitor.core.kits.checklists import Checklist
from sortitor.core.kits.documents import Given, Kit
from sortitor.core.kits.items import Item, NetworkPayload
from sortitor.core.kits.own_settings import OwnSetting
from sortitor.core.kits.resolve import (
    Assignment,
    Book,
    Facts,
    Line,
    Ranked,
    chosen,
    effective,
    revision,
)
from sortitor.core.kits.sheets import SetupSheet
from sortitor.core.vocabulary import Giving
from sortitor.store import kits as store
from sortitor.store import tables
from sortitor.store.documents import Kept, Shelf
from sortitor.store.engine import Connection
from sortitor.store.kits import Outcome, Reach

AnyDocument = Item | Kit | SetupSheet | Checklist
SHELVES: dict[Giving, Shelf[Any]] = {
    Giving.ITEM: Shelf(Item, tables.items),
    Giving.KIT: Shelf(Kit, tables.kits),
    Giving.SHEET: Shelf(SetupSheet, tables.sheets),
    Giving.CHECKLIST: Shelf(Checklist, tables.checklists),
}
OWN = Shelf(OwnSetting, tables.own_settings)
#: The number of a document that is not there yet.
NEW = 0


@dataclass(frozen=True)
class Library:
    """Documents by number, cohorts by name, and what may be set: what the package has and, as
    `own`, what the organisation added. `conditions`: filter → its number in the database.
    """

    documents: Mapping[Giving, Mapping[int, Kept[Any]]]
    cohorts: Mapping[str, tuple[int, bool]]
    conditions: Mapping[str, int]
    catalogue: Mapping[str, Setting]
    own: Mapping[str, OwnSetting]

    @cached_property
    def book(self) -> Book:
        """As it is decided by."""
        items = {
            number: kept.document.resolved(number, self.catalogue)
            for number, kept in self.documents[Giving.ITEM].items()
        }
        ranked = {
            (kind, number): Ranked(
                kept.document.position,
                kept.document.content,
                self.items_in(kept.document) if kind is Giving.KIT else frozenset(),
            )
            for kind in (Giving.KIT, Giving.SHEET, Giving.CHECKLIST)
            for number, kept in self.documents[kind].items()
        }
        numbers = count(1)
        assignments = [
            Assignment(next(numbers), one.word, kind, number, self.cohort_of(one))
            for kind in Giving
            for number, kept in sorted(self.documents[kind].items())
            for one in kept.document.given
        ]
        return Book(items, ranked, assignments)

    @cached_property
    def given_as(self) -> Mapping[tuple[Giving, int, int | None], Given]:
        """What a document says of whom it is given to: kind, number, cohort → that."""
        return {
            (kind, number, self.cohort_of(one)): one
            for kind, documents in self.documents.items()
            for number, kept in documents.items()
            for one in kept.document.given
        }

    @cached_property
    def assignments(self) -> Mapping[int, Assignment]:
        """By number."""
        return {one.id: one for one in self.book.assignments}

    @cached_property
    def items_by_name(self) -> Mapping[str, int]:
        """Name in lower case → number."""
        return {
            lower(kept.document.name): number
            for number, kept in self.documents[Giving.ITEM].items()
        }

    @cached_property
    def _texts(self) -> Mapping[int, str]:
        return {number: text for text, number in self.conditions.items()}

    def items_in(self, document: Kit | Checklist) -> frozenset[int]:
        """The items that a kit or a checklist names."""
        return frozenset(
            self.items_by_name[lower(name)]
            for name in document.items
            if lower(name) in self.items_by_name
        )

    def cohort_of(self, given: Given) -> int | None:
        """The number of the cohort that something is given to; None: it is everyone."""
        return None if given.cohort is None else self.cohorts[lower(given.cohort)][0]

    def facts(
        self, numbers: Sequence[int], cohorts: Iterable[int] = (), holding: Iterable[str] = ()
    ) -> Facts:
        """Kept facts, with others that were asked for beside them."""
        kept = {self._texts[-number] for number in numbers if number < 0 and -number in self._texts}
        inside = {number for number in numbers if number > 0}
        return Facts(frozenset({*inside, *cohorts}), frozenset({*kept, *holding}))

    def effective(self, facts: Facts) -> list[Line]:
        """What devices of these facts get, and what was beaten."""
        return effective(self.book, facts)

    def chosen(self, facts: Facts, kind: Giving) -> int | None:
        """The number of their sheet, or of their checklist."""
        choice = chosen(self.book, facts, kind)
        return choice.number if choice else None

    def outcome(self, key: int, facts: Facts) -> Outcome:
        """What is kept of devices of these facts."""
        lines = effective(self.book, facts)
        return Outcome(
            key,
            revision(self.book, facts),
            tuple(line.item_id for line in lines if line.verdict == "required"),
            tuple(line.item_id for line in lines if line.verdict == "offered"),
            self.chosen(facts, Giving.SHEET),
            self.chosen(facts, Giving.CHECKLIST),
        )

    def reach(self, kind: Giving, number: int) -> Reach:
        """Whom a document touches: an item those of its kits, too."""
        concerned = {(kind, number)}
        if kind is Giving.ITEM:
            concerned |= {
                (Giving.KIT, kit_id)
                for (of, kit_id), ranked in self.book.ranked.items()
                if of is Giving.KIT and number in ranked.items
            }
        return reach_of(
            one.cohort_id for one in self.book.assignments if (one.kind, one.number) in concerned
        )

    def asked(self) -> dict[str, Reach]:
        """Condition → whom it is asked of."""
        reaching: dict[str, set[int | None]] = {}
        for one in self.book.assignments:
            for item_id, _ in self.book.reach(one):
                condition = self.book.items[item_id].condition
                if condition is not None:
                    reaching.setdefault(condition, set()).add(one.cohort_id)
        return {text: reach_of(reach) for text, reach in reaching.items()}

    def changed(self, kind: Giving, number: int, document: AnyDocument | None) -> Library:
        """As it would be with another document in its place, or (None) without it."""
        former = self.documents[kind].get(number)
        if document is None:
            return self.having(kind, number, None)
        return self.having(kind, number, Kept(number, former.revision if former else 1, document))

    def named(self, cohorts: Mapping[str, tuple[int, bool]]) -> Library:
        """With these cohorts."""
        return Library(self.documents, cohorts, self.conditions, self.catalogue, self.own)

    def having(self, kind: Giving, number: int, kept: Kept[Any] | None) -> Library:
        """With this in its place, or (None) without it."""
        others = {one: k for one, k in self.documents[kind].items() if one != number}
        mine = {**others, number: kept} if kept else others
        return Library(
            {**self.documents, kind: mine},
            self.cohorts,
            self.conditions,
            self.catalogue,
            self.own,
        )

    def check_names(self, document: AnyDocument) -> None:
        """Raise BadInput for an item or a cohort that there is not, or that time moves."""
        if isinstance(document, Kit | Checklist):
            for place, name in enumerate(document.items):
                if lower(name) not in self.items_by_name:
                    words = f"There is no item “{name}”."
                    raise _unknown(f"/items/{place}", "no_such_item", words, "Make it first.")
        if isinstance(document, SetupSheet) and document.joins is not None:
            self._check_network(document.joins)
        for place, given in enumerate(document.given):
            if given.cohort is None:
                continue
            where = f"/given/{place}/cohort"
            if lower(given.cohort) not in self.cohorts:
                words = f"There is no cohort “{given.cohort}”."
                raise _unknown(where, "no_such_cohort", words, "Choose one that there is.")
            if self.cohorts[lower(given.cohort)][1]:
                words = f"Time moves devices in and out of cohort “{given.cohort}”."
                remedy = "What devices get cannot depend on that; choose another cohort."
                raise _unknown(where, "moving_cohort", words, remedy)

    def _check_network(self, name: str) -> None:
        number = self.items_by_name.get(lower(name))
        item = None if number is None else self.documents[Giving.ITEM][number].document
        if item is None or not isinstance(item.payload, NetworkPayload):
            words = f"There is no item “{name}” that is a network."
            raise _unknown("/joins", "no_such_network", words, "Make it first.")


def reach_of(cohorts: Iterable[int | None]) -> Reach:
    """All of these; None among them is everyone."""
    found = frozenset(cohorts)
    return None if None in found else frozenset(one for one in found if one is not None)


def both(one: Reach, other: Reach) -> Reach:
    """Whoever is in either."""
    return None if one is None or other is None else one | other


def _unknown(place: str, code: str, words: str, remedy: str) -> BadInput:
    return BadInput(code, words, remedy, (FieldProblem(place, code, words),))


#: The latest by its mark; marks do not come back.
_KNOWN: dict[str, Library] = {}
_MOST_KNOWN = 4


def library(connection: Connection) -> Library:
    """All of it, as the transaction sees it."""
    mark = store.mark(connection)
    found = _KNOWN.get(mark)
    if found is None:
        if len(_KNOWN) >= _MOST_KNOWN:
            _KNOWN.clear()
        found = _KNOWN[mark] = read(connection)
    return found


def read(connection: Connection) -> Library:
    """The same, read anew: within a change of it."""
    documents = {
        kind: {kept.id: kept for kept in shelf.every(connection)} for kind, shelf in SHELVES.items()
    }
    own = {kept.document.key: kept.document for kept in OWN.every(connection)}
    return Library(
        documents,
        store.cohort_numbers(connection),
        {text: row.id for text, row in store.conditions(connection).items()},
        {**settings(), **{key: one.as_setting() for key, one in own.items()}},
        own,
    )
