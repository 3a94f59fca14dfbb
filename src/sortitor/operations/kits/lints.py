"""What is forgotten or cannot be, found by one look at the fleet."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from statistics import median

from sortitor.core.kits import lints as core
from sortitor.core.kits.items import FilePayload
from sortitor.core.kits.lints import Lint
from sortitor.core.kits.resolve import Line
from sortitor.core.vocabulary import GivenAs, Giving, ItemVerdict
from sortitor.operations.context import Context
from sortitor.operations.kits.library import Library, library
from sortitor.store import delivery
from sortitor.store import kits as store
from sortitor.store.delivery import TimesRow
from sortitor.store.engine import Connection
from sortitor.store.kits import CountRow

_WORDS = {
    Giving.ITEM: "item",
    Giving.KIT: "kit",
    Giving.SHEET: "sheet",
    Giving.CHECKLIST: "checklist",
}


@dataclass(frozen=True, slots=True)
class Found:
    """A finding, the document that it is about, and the cohorts that it concerns."""

    lint: Lint
    kind: Giving
    id: int
    cohorts: tuple[str, ...] = ()


#: What gives, the cohort that it is given to, the cohort that is left out.
_Overlap = tuple[Giving, int, int, int]


@dataclass
class _Counts:
    """The fleet, by what decides over it."""

    cohort: Counter[int | None] = field(default_factory=Counter)
    carried: Counter[int | None] = field(default_factory=Counter)
    reached: Counter[int] = field(default_factory=Counter)
    fits: Counter[int] = field(default_factory=Counter)
    uncarried: Counter[int] = field(default_factory=Counter)
    beaten: Counter[tuple[int, int]] = field(default_factory=Counter)
    #: (item, assignment that gives it, assignment that excludes it)
    opposite: Counter[tuple[int, int, int]] = field(default_factory=Counter)
    checklist: Counter[int] = field(default_factory=Counter)
    #: (checklist, item) of devices that get the item as required.
    awaited: Counter[tuple[int, int]] = field(default_factory=Counter)
    sheet: Counter[int] = field(default_factory=Counter)
    personal: Counter[int] = field(default_factory=Counter)


def find(ctx: Context) -> list[Found]:
    """All that is odd now, the documents in the order of their kinds and names."""
    with ctx.reading(one_moment=True) as connection:
        return found_in(ctx, connection)


def found_in(ctx: Context, connection: Connection) -> list[Found]:
    """The same in a transaction."""
    found = library(connection)
    if not any(found.documents.values()):
        return []
    counts = _Counts()
    if found.book.assignments:
        for row in store.counts(connection, ctx.now):
            _take(found, counts, row)
    speed = _speed(found, delivery.times(connection))
    lints = (
        *_of_givings(found, counts),
        *_of_items(found, counts),
        *_of_overlaps(found, counts),
        *_of_checklists(found, counts, speed),
        *_of_sheets(found, counts),
    )
    given = _cohorts_given(found)
    return [one if one.cohorts else replace(one, cohorts=given[one.kind, one.id]) for one in lints]


def _cohorts_given(found: Library) -> dict[tuple[Giving, int], tuple[str, ...]]:
    """Whom each document is given to; an item through its kits, too."""
    given: dict[tuple[Giving, int], set[str]] = defaultdict(set)
    for kind, documents in found.documents.items():
        for number, kept in documents.items():
            names = {one.cohort for one in kept.document.given if one.cohort}
            given[kind, number] |= names
            if kind is Giving.KIT:
                for item_id in found.items_in(kept.document):
                    given[Giving.ITEM, item_id] |= names
    return defaultdict(tuple, {key: tuple(sorted(names)) for key, names in given.items()})


def _take(found: Library, counts: _Counts, row: CountRow) -> None:
    facts = found.facts(row.facts)
    counts.cohort.update(dict.fromkeys([None, *facts.cohorts], row.devices))
    counts.carried.update(dict.fromkeys([None, *facts.cohorts], row.carried))
    lines = found.effective(facts)
    for line in lines:
        _take_line(found, counts, row, line)
    required = {line.item_id for line in lines if line.verdict is ItemVerdict.REQUIRED}
    checklist, sheet = found.chosen(facts, Giving.CHECKLIST), found.chosen(facts, Giving.SHEET)
    if checklist is not None:
        counts.checklist[checklist] += row.devices
        document = found.documents[Giving.CHECKLIST][checklist].document
        not_for = {line.item_id for line in lines if line.verdict is ItemVerdict.NOT_FOR}
        # What is not for a device is not waited for.
        for item_id in found.items_in(document) & (required | not_for):
            counts.awaited[checklist, item_id] += row.devices
    if sheet is not None:
        counts.sheet[sheet] += row.devices
        counts.personal[sheet] += row.personal


def _take_line(found: Library, counts: _Counts, row: CountRow, line: Line) -> None:
    item_id = line.item_id
    if line.verdict is ItemVerdict.EXCLUDED:
        for beat in line.beat:
            if found.assignments[beat].word is not GivenAs.EXCLUDED:
                counts.opposite[item_id, beat, line.through] += row.devices
        return
    counts.reached[item_id] += row.devices
    if line.verdict is not ItemVerdict.NOT_FOR:
        counts.fits[item_id] += row.devices
    if line.verdict in (ItemVerdict.REQUIRED, ItemVerdict.OFFERED):
        counts.uncarried[item_id] += row.devices - row.carried
    if line.beaten_by is not None and line.disagrees:
        counts.beaten[item_id, line.beaten_by] += row.devices


def _of_givings(found: Library, counts: _Counts) -> Iterator[Found]:
    used = {
        item_id
        for kind in (Giving.KIT, Giving.CHECKLIST)
        for kept in found.documents[kind].values()
        for item_id in found.items_in(kept.document)
    }
    for kind, documents in found.documents.items():
        for number, kept in documents.items():
            about = _called(found, kind, number)
            if not (kind is Giving.ITEM and number in used):
                for lint in core.of_ungiven(about, len(kept.document.given)):
                    yield Found(lint, kind, number)
            for given in kept.document.given:
                cohort_id = found.cohort_of(given)
                facts = core.GivenFacts(
                    about,
                    given.cohort,
                    given.word,
                    counts.cohort[cohort_id],
                    counts.carried[cohort_id],
                )
                for lint in core.of_given(facts):
                    yield Found(lint, kind, number, (given.cohort,) if given.cohort else ())


def _of_items(found: Library, counts: _Counts) -> Iterator[Found]:
    names = {n: kept.document.name for n, kept in found.documents[Giving.ITEM].items()}
    beaten: dict[int, list[tuple[int, int]]] = defaultdict(list)
    for (item_id, by), number in counts.beaten.items():
        beaten[item_id].append((number, by))
    for item_id, kept in found.documents[Giving.ITEM].items():
        most, by = max(beaten.get(item_id, [(0, 0)]))
        facts = core.ItemFacts(
            name=kept.document.name,
            needs_hand=kept.document.needs_hand,
            reached=counts.reached[item_id],
            fits=counts.fits[item_id],
            beaten=most,
            beaten_by=names.get(by),
            uncarried=counts.uncarried[item_id],
        )
        for lint in core.of_item(facts):
            yield Found(lint, Giving.ITEM, item_id)


def _of_overlaps(found: Library, counts: _Counts) -> Iterator[Found]:
    """Once for each document that gives and each cohort that is left out, not for every item."""
    items = found.documents[Giving.ITEM]
    names: dict[_Overlap, list[str]] = defaultdict(list)
    devices: dict[_Overlap, int] = defaultdict(int)
    for (item_id, giving, excluding), number in sorted(counts.opposite.items()):
        one, other = found.assignments[giving], found.assignments[excluding]
        # Left out of what everyone gets, or by the very kit that gives it: that is meant.
        same = (one.kind, one.number) == (other.kind, other.number)
        if same or one.cohort_id is None or other.cohort_id is None:
            continue
        key = (one.kind, one.number, one.cohort_id, other.cohort_id)
        names[key].append(items[item_id].document.name)
        devices[key] = max(devices[key], number)
    for key, called in names.items():
        kind, number, *_ = key
        cohorts = (_cohort(found, key[2]), _cohort(found, key[3]))
        about = _called(found, kind, number)
        facts = core.OverlapFacts(about, tuple(sorted(called)), *cohorts, devices[key])
        for lint in core.of_overlap(facts):
            yield Found(lint, kind, number, cohorts)


def _called(found: Library, kind: Giving, number: int) -> str:
    return f"{_WORDS[kind]} “{found.documents[kind][number].document.name}”"


def _cohort(found: Library, cohort_id: int | None) -> str:
    """The cohort as some document calls it."""
    if cohort_id is None:
        return "everyone"
    return next(
        str(given.cohort)
        for documents in found.documents.values()
        for kept in documents.values()
        for given in kept.document.given
        if given.cohort and found.cohort_of(given) == cohort_id
    )


def _speed(found: Library, took: Sequence[TimesRow]) -> int | None:
    """How many bytes a second devices were seen to bring, in the middle of the items with files;
    None: none was seen.
    """
    items = found.documents[Giving.ITEM]
    seen = [
        items[row.item_id].document.payload.size / row.median_seconds
        for row in took
        if row.item_id in items
        and isinstance(items[row.item_id].document.payload, FilePayload)
        and row.median_seconds > 0
    ]
    return round(median(seen)) if seen else None


def _of_checklists(found: Library, counts: _Counts, speed: int | None) -> Iterator[Found]:
    items = found.documents[Giving.ITEM]
    for number, kept in found.documents[Giving.CHECKLIST].items():
        document, devices = kept.document, counts.checklist[number]
        size = 0
        for item_id in sorted(found.items_in(document)):
            name, payload = items[item_id].document.name, items[item_id].document.payload
            facts = core.AwaitedFacts(document.name, name, devices, counts.awaited[number, item_id])
            for lint in core.of_awaited(facts):
                yield Found(lint, Giving.CHECKLIST, number)
            size += payload.size if isinstance(payload, FilePayload) else 0
        time = core.TimeFacts(document.name, document.limit_minutes, size, speed)
        for lint in core.of_time(time):
            yield Found(lint, Giving.CHECKLIST, number)


def _of_sheets(found: Library, counts: _Counts) -> Iterator[Found]:
    for number, kept in found.documents[Giving.SHEET].items():
        facts = core.SheetFacts(
            kept.document.name, kept.document.reach, counts.sheet[number], counts.personal[number]
        )
        for lint in core.of_sheet(facts):
            yield Found(lint, Giving.SHEET, number)
