"""What a change of kits, items, sheets and checklists does to devices: counted before it is made,
and written with it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from sortitor.core.kits.resolve import Facts, Line, Turn, turned
from sortitor.core.previews import Count, Example, plural
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Giving
from sortitor.operations.context import Context
from sortitor.operations.documents import Effect
from sortitor.operations.kits.library import Library, both, read
from sortitor.store import devices
from sortitor.store import kits as store
from sortitor.store.devices import matching
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection
from sortitor.store.kits import Reach

_EXAMPLES, _MOST_ITEMS = 10, 12


@dataclass
class Tally:
    """How many devices a change touches, by what it does and by item."""

    devices: int = 0
    gain: Counter[int] = field(default_factory=Counter)
    lose: Counter[int] = field(default_factory=Counter)
    anew: Counter[int] = field(default_factory=Counter)
    change: Counter[int] = field(default_factory=Counter)
    beaten: Counter[tuple[int, int]] = field(default_factory=Counter)
    #: Devices that gain, lose, get anew or get with another word: any of their items.
    turned: Counter[str] = field(default_factory=Counter)
    sheets: Counter[tuple[int | None, int | None]] = field(default_factory=Counter)
    checklists: Counter[tuple[int | None, int | None]] = field(default_factory=Counter)
    examples: list[tuple[int, Turn]] = field(default_factory=list)

    def take(self, turn: Turn, number: int, first: int) -> None:
        """So many devices with the same turn."""
        if not turn:
            return
        self.devices += number
        words = [item_id for item_id, _, _ in turn.changed]
        for name, items in (
            ("gain", turn.gained),
            ("lose", turn.lost),
            ("anew", turn.anew),
            ("change", words),
        ):
            if items:
                self.turned[name] += number
                getattr(self, name).update(dict.fromkeys(items, number))
        self.examples.append((first, turn))


@dataclass(frozen=True, slots=True)
class _Change:
    """A document in the library as it is and as it would be."""

    before: Library
    after: Library
    kind: Giving
    number: int

    @property
    def reach(self) -> Reach:
        """Whom it touches, before or after."""
        sides = (self.before, self.after)
        first, second = (
            side.reach(self.kind, self.number)
            if self.number in side.documents[self.kind]
            else frozenset[int]()
            for side in sides
        )
        return both(first, second)


def effect_of(
    ctx: Context, connection: Connection, before: Library, after: Library, kind: Giving, number: int
) -> Effect:
    """Which devices would gain, lose or change what."""
    change = _Change(before, after, kind, number)
    found = tally(ctx, connection, change)
    names = {
        number: kept.document.name
        for side in (before, after)
        for number, kept in side.documents[Giving.ITEM].items()
    }
    counts = _counts(found, names) if kind in (Giving.ITEM, Giving.KIT) else _chosen(found, kind)
    return Effect(
        counts=tuple(counts),
        examples=tuple(_examples(ctx, connection, found, names)),
        examples_total=found.devices,
        warnings=tuple(_conflicts(found, names)),
        facts=[[count.label, count.count] for count in counts],
    )


def tally(ctx: Context, connection: Connection, change: _Change) -> Tally:
    """Decide once for all devices of the same facts, before and after."""
    reach, found = change.reach, Tally()
    if reach is not None and not reach:
        return found
    before, after = change.before, change.after
    cohorts, conditions = _other(change)
    renewed = _renewed(change)
    asked = [ctx.veil.parse(text) for text in conditions]
    for group in store.groups(connection, reach, cohorts, asked, ctx.now):
        holding = [conditions[place] for place in group.holding]
        now = before.facts(group.facts)
        then = after.facts(group.facts, group.cohorts, holding)
        had, has = before.effective(now), after.effective(then)
        found.take(turned(had, has, renewed), group.devices, group.first)
        found.beaten.update(dict.fromkeys(_lost_conflicts(had, has), group.devices))
        _choose(found, change, now, then, group.devices)
    return found


def _other(change: _Change) -> tuple[list[int], list[str]]:
    """The cohorts and conditions that are asked for after the change and are not kept now, at
    least not of everybody whom it touches.
    """
    before, after = change.before.book, change.after.book
    given = {one.cohort_id for one in before.assignments}
    cohorts = {one.cohort_id for one in after.assignments} - given - {None}
    asked, wanted = change.before.asked(), change.after.asked()
    conditions = [
        text
        for text, reach in sorted(wanted.items())
        if text not in asked or not _within(reach, asked[text])
    ]
    return sorted(one for one in cohorts if one is not None), conditions


def _within(reach: Reach, other: Reach) -> bool:
    return other is None or (reach is not None and reach <= other)


def _renewed(change: _Change) -> frozenset[int]:
    """The items that are others themselves."""
    before, after = change.before.book.items, change.after.book.items
    both = before.keys() & after.keys()
    return frozenset(one for one in both if before[one].revision != after[one].revision)


def _lost_conflicts(had: Iterable[Line], has: Iterable[Line]) -> set[tuple[int, int]]:
    """`(item, the item that wins)` where two come to say different things."""
    before, after = (
        {(line.item_id, line.beaten_by) for line in lines if line.beaten_by and line.disagrees}
        for lines in (had, has)
    )
    return {(item, by) for item, by in after - before if by is not None}


def _choose(found: Tally, change: _Change, now: Facts, then: Facts, number: int) -> None:
    for kind, counter in ((Giving.SHEET, found.sheets), (Giving.CHECKLIST, found.checklists)):
        if kind is not change.kind:
            continue
        had, has = change.before.chosen(now, kind), change.after.chosen(then, kind)
        if had != has or change.number in (had, has):
            counter[had, has] += number


# ---- the words of a preview


_WORDS = (
    ("gain", "devices gain", "good"),
    ("lose", "devices lose", "warn"),
    ("anew", "devices get again, as it is now", "plain"),
    ("change", "devices get with another word", "plain"),
)


def _counts(found: Tally, names: dict[int, str]) -> list[Count]:
    counts = [
        Count(key, f"{words} something" if key != "anew" else words, found.turned[key], tone)
        for key, words, tone in _WORDS
        if found.turned[key] or key in ("gain", "lose")
    ]
    for key, words, _ in _WORDS:
        of_it: Counter[int] = getattr(found, key)
        many = sorted(of_it.items(), key=lambda one: (-one[1], names[one[0]]))
        counts += [
            Count(f"{key}:{names[item_id]}", f"{words} “{names[item_id]}”", number)
            for item_id, number in many[:_MOST_ITEMS]
        ]
    return counts


def _chosen(found: Tally, kind: Giving) -> list[Count]:
    of_it = found.sheets if kind is Giving.SHEET else found.checklists
    what = "setup sheet" if kind is Giving.SHEET else "checklist"
    come = sum(number for (one, other), number in of_it.items() if one is None)
    go = sum(number for (one, other), number in of_it.items() if other is None)
    other = sum(n for (one, other), n in of_it.items() if None not in (one, other) and one != other)
    same = sum(number for (one, other), number in of_it.items() if one == other)
    return [
        Count("gain", f"devices get a {what} that had none", come, "good"),
        Count("lose", f"devices have no {what} any more", go, "warn"),
        Count("another", f"devices get another {what}", other),
        Count("same", "devices have this one before and after", same),
    ]


def _conflicts(found: Tally, names: dict[int, str]) -> Iterable[str]:
    for (item, by), number in found.beaten.most_common(5):
        yield (
            f"On {plural(number, 'device')} “{names[by]}” wins over “{names[item]}”, which says"
            " otherwise."
        )


def _examples(
    ctx: Context, connection: Connection, found: Tally, names: dict[int, str]
) -> Iterable[Example]:
    some = found.examples[:_EXAMPLES]
    wanted = Selection(ids=tuple(first for first, _ in some))
    known = {row.id: row for row in devices.some(connection, matching(wanted, ctx.now), _EXAMPLES)}
    for first, turn in some:
        row = known[first]
        yield Example(
            subject=ctx.veil.label(row.id, row.name, row.serial, row.ownership),
            field="kit",
            before=_listed(names, turn.lost),
            after=_listed(names, (*turn.gained, *turn.anew)) or _words(names, turn),
            note=", ".join(filter(None, (row.platform, row.model, row.site))),
            device_id=row.id,
        )


def _listed(names: dict[int, str], items: Iterable[int]) -> str | None:
    called = sorted(names[item_id] for item_id in items)
    more = f" and {len(called) - 3} more" if len(called) > 3 else ""
    return ", ".join(called[:3]) + more if called else None


def _words(names: dict[int, str], turn: Turn) -> str | None:
    told = [f"{names[item_id]}: {after}" for item_id, _, after in turn.changed]
    return ", ".join(told[:3]) or None


# ---- writing


def write(connection: Connection, kind: Giving, number: int, former: Kept[Any] | None) -> None:
    """Bring to the moment what leans on a document that was just written or removed: whom it is
    given to, the facts of those devices, and what they get. former: as it was before.
    """
    after = read(connection)
    before = after.having(kind, number, former)
    change = _Change(before, after, kind, number)
    kept = after.documents[kind].get(number)
    given = kept.document.given if kept else ()
    store.write_givings(
        connection, kind, number, ((after.cohort_of(one), one.word) for one in given)
    )
    asked, wanted = before.asked(), after.asked()
    store.write_conditions(connection, wanted)
    store.gather(connection, _moved(before, after, asked, wanted))
    work_out(connection, read(connection), change.reach)


def _moved(
    before: Library, after: Library, asked: dict[str, Reach], wanted: dict[str, Reach]
) -> Reach:
    """Whose facts become others: whoever is asked more, or less, than before."""
    given, gives = (
        {one.cohort_id for one in side.book.assignments if one.cohort_id is not None}
        for side in (before, after)
    )
    moved: Reach = frozenset(given ^ gives)
    for text in asked.keys() | wanted.keys():
        none = frozenset[int]()
        one, other = asked.get(text, none), wanted.get(text, none)
        if one == other:
            continue
        moved = both(moved, None if one is None or other is None else one ^ other)
    return moved


def work_out(connection: Connection, library: Library, reach: Reach) -> None:
    """Keep what devices of the same facts get, where it has become something else."""
    rows = store.outcomes(connection, reach)
    found = ((row, library.outcome(row.key, library.facts(row.facts))) for row in rows)
    changed = [outcome for row, outcome in found if outcome.revision != row.revision]
    store.write_outcomes(connection, changed)
