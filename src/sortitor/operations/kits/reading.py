"""What devices get: one that is there or awaited, one that is imagined, the members of a cohort;
and who gets an item, through what.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass

from sortitor.core.filters import lower
from sortitor.core.kits import resolve
from sortitor.core.kits.resolve import Assignment, Facts, Line
from sortitor.core.kits.sheets import SetupSheet
from sortitor.core.vocabulary import (
    GivenAs,
    Giving,
    ItemKind,
    ItemVerdict,
    Ownership,
    Platform,
    Stage,
)
from sortitor.operations.cohorts.documents import COHORTS
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.documents import Key
from sortitor.operations.kits.documents import ITEMS
from sortitor.operations.kits.effects import work_out
from sortitor.operations.kits.library import Library, library, read
from sortitor.store import cohorts, people
from sortitor.store import devices as store_devices
from sortitor.store import kits as store
from sortitor.store.engine import Connection
from sortitor.store.settling import share


@dataclass(frozen=True, slots=True)
class Through:
    """What brings something: a kit, or the item by itself, given with a word to a cohort or (None)
    to everyone.
    """

    kind: Giving
    id: int
    name: str
    cohort: str | None
    word: GivenAs


@dataclass(frozen=True, slots=True)
class Got:
    """One item on a device: what becomes of it, through what, what was beaten, and which other item
    wins where both would set the same.
    """

    id: int
    name: str
    kind: ItemKind
    version: str
    verdict: ItemVerdict
    through: Through
    beat: list[Through]
    beaten_by: str | None
    disagrees: bool
    needs_hand: bool


@dataclass(frozen=True, slots=True)
class Chosen:
    """The sheet or the checklist of a device, through what, and what was beaten."""

    id: int
    name: str
    through: Through
    beat: list[Through]


@dataclass(frozen=True, slots=True)
class Effective:
    """All that a device gets. `revision`: its digest, which is another one where anything of it
    is.
    """

    subject: str
    revision: str
    lines: list[Got]
    sheet: Chosen | None
    checklist: Chosen | None
    #: The user name of the sheet's local administrator.
    administrator: str | None = None


@dataclass(frozen=True, slots=True)
class ImaginedDevice:
    """A device that is not there."""

    platform: Platform | None = None
    os_version: str | None = None
    ownership: Ownership | None = None
    maker: str | None = None
    model: str | None = None
    site: str | None = None
    person: str | None = None
    cohorts: tuple[str, ...] = ()


def of_device(ctx: Context, device_id: int) -> Effective:
    """What a device gets; one that is retired gets nothing."""
    with ctx.reading(one_moment=True) as connection:
        device = or_not_found(store_devices.one(connection, device_id), "device", device_id)
        label = ctx.veil.label(device.id, device.name, None, device.ownership)
        found = library(connection)
        if device.stage is Stage.RETIRED:
            return Effective(label, "", [], None, None)
        return shown(found, label, found.facts(store.facts_of(connection, device_id)))


def of_imagined(ctx: Context, imagined: ImaginedDevice) -> Effective:
    """What a device would get that is not there. It is in the cohorts that are named, and in those
    whose filters it fits.
    """
    with ctx.reading(one_moment=True) as connection:
        found = library(connection)
        values = {
            "stage": Stage.ACTIVE,
            "platform": imagined.platform,
            "osVersion": imagined.os_version,
            "ownership": imagined.ownership,
            "maker": imagined.maker,
            "model": imagined.model,
            "site": imagined.site,
            **_person(connection, imagined.person),
        }
        named = {_cohort(found, name) for name in imagined.cohorts}
        fitting = {
            row.id
            for row in cohorts.every(connection)
            if row.filter and not row.moving and resolve.holds(row.filter, values)
        }
        facts = resolve.facts_of(found.book, named | fitting, values)
        return shown(found, "the imagined device", facts)


def _person(connection: Connection, user_name: str | None) -> dict[str, object]:
    if not user_name:
        return {}
    person = or_not_found(people.by_name(connection, user_name), "person", user_name)
    return {
        "person.userName": person.user_name,
        "person.name": person.name,
        "person.mail": person.mail,
        "person.department": person.department,
        "person.site": person.site,
        "person.groups": sorted(person.groups),
    }


def _cohort(found: Library, name: str) -> int:
    return or_not_found(found.cohorts.get(lower(name)), "cohort", name)[0]


@dataclass(frozen=True, slots=True)
class Beside:
    """What is given to everyone beside what a cohort's devices get."""

    everyone: Effective
    cohort: Effective


def beside(ctx: Context, cohort: Key) -> Beside:
    """What a device of a cohort gets, and of no other, beside what every device does. Conditions
    are taken to hold: which devices an item is for is said with the item.
    """
    with ctx.reading(one_moment=True) as connection:
        kept, found = COHORTS.find(connection, cohort), library(connection)
        holding = frozenset(
            item.condition for item in found.book.items.values() if item.condition is not None
        )
        return Beside(
            shown(found, "everyone", Facts(frozenset(), holding)),
            shown(found, kept.document.name, Facts(frozenset({kept.id}), holding)),
        )


def shown(found: Library, subject: str, facts: Facts) -> Effective:
    """What devices of these facts get, in words."""
    book = found.book

    def through(number: int) -> Through:
        return _through(found, found.assignments[number])

    def chosen(kind: Giving) -> Chosen | None:
        choice = resolve.chosen(book, facts, kind)
        if choice is None:
            return None
        name = found.documents[kind][choice.number].document.name
        beat = [through(one) for one in choice.beat]
        return Chosen(choice.number, name, through(choice.through), beat)

    lines = [_got(found, line, through(line.through), map(through, line.beat))
             for line in found.effective(facts)]  # fmt: skip
    return Effective(
        subject,
        resolve.revision(book, facts),
        sorted(lines, key=lambda got: (list(ItemVerdict).index(got.verdict), lower(got.name))),
        sheet := chosen(Giving.SHEET),
        chosen(Giving.CHECKLIST),
        _administrator(found, sheet),
    )


def _administrator(found: Library, sheet: Chosen | None) -> str | None:
    if sheet is None:
        return None
    document: SetupSheet = found.documents[Giving.SHEET][sheet.id].document
    return document.local_administrator


def _got(found: Library, line: Line, through: Through, beat: Iterable[Through]) -> Got:
    items = found.documents[Giving.ITEM]
    item = items[line.item_id].document
    return Got(
        id=line.item_id,
        name=item.name,
        kind=item.payload.kind,
        version=item.version,
        verdict=line.verdict,
        through=through,
        beat=list(beat),
        beaten_by=items[line.beaten_by].document.name if line.beaten_by else None,
        disagrees=line.disagrees,
        needs_hand=item.needs_hand,
    )


def _through(found: Library, one: Assignment) -> Through:
    name = found.documents[one.kind][one.number].document.name
    given = found.given_as[one.kind, one.number, one.cohort_id]
    return Through(one.kind, one.number, name, given.cohort, one.word)


# ---- who gets it


@dataclass(frozen=True, slots=True)
class GettingThrough:
    """How many devices get an item through one assignment, or are kept from it by it."""

    through: Through
    devices: int


@dataclass(frozen=True, slots=True)
class Getting:
    """Who gets an item: how many devices by what becomes of it there, and through what. `filter`
    lists those that get it.
    """

    devices: dict[ItemVerdict, int]
    through: list[GettingThrough]
    filter: str


def getting(ctx: Context, key: Key) -> Getting:
    """Who gets an item, through what."""
    bring_up(ctx)
    with ctx.reading(one_moment=True) as connection:
        kept, found = ITEMS.find(connection, key), library(connection)
        verdicts, by_assignment = Counter[ItemVerdict](), Counter[int]()
        reach = found.reach(Giving.ITEM, kept.id)
        groups = store.groups(connection, reach, (), (), ctx.now) if reach != frozenset() else ()
        for group in groups:
            for line in found.effective(found.facts(group.facts)):
                if line.item_id == kept.id:
                    verdicts[line.verdict] += group.devices
                    by_assignment[line.through] += group.devices
        name = kept.document.name.replace("\\", "\\\\").replace('"', '\\"')
        return Getting(
            {verdict: verdicts[verdict] for verdict in ItemVerdict},
            [
                GettingThrough(_through(found, found.assignments[number]), devices)
                for number, devices in sorted(by_assignment.items())
            ],
            f'items eq "{name}"',
        )


def bring_up(ctx: Context) -> None:
    """Work out what nobody has worked out yet, for what is asked of the database."""
    with ctx.reading() as connection:
        if not store.waiting(connection):
            return
    with ctx.bookkeeping() as connection:
        share(connection)
        work_out(connection, read(connection), frozenset())
