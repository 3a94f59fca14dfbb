"""What is forgotten or cannot be, said before any device meets it, with the way to mend it.

The numbers come from whoever counts devices; what they mean is said here and nowhere else.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from sortitor.core.previews import listed, plural
from sortitor.core.vocabulary import GivenAs, LintCode, Reach


@dataclass(frozen=True, slots=True)
class Lint:
    """One finding: about which thing (`kit “Deck”`), in a sentence, and how it is mended."""

    code: LintCode
    about: str
    words: str
    mend: str


@dataclass(frozen=True, slots=True)
class GivenFacts:
    """A thing given to a cohort or (None) to everyone: how many devices these are, and how many of
    them somebody carries.
    """

    about: str
    cohort: str | None
    word: GivenAs
    devices: int
    carried: int


@dataclass(frozen=True, slots=True)
class ItemFacts:
    """An item: how many devices assignments bring it to, for how many of them it is, on how many it
    is beaten by another value, and by which item; and how many of those that get it nobody carries.
    """

    name: str
    needs_hand: bool
    reached: int
    fits: int
    beaten: int = 0
    beaten_by: str | None = None
    uncarried: int = 0


@dataclass(frozen=True, slots=True)
class AwaitedFacts:
    """An item that a checklist waits for: of the devices with the checklist, how many get it."""

    checklist: str
    item: str
    devices: int
    get_it: int


@dataclass(frozen=True, slots=True)
class TimeFacts:
    """A checklist's limit against what it brings, at the speed that the fleet was seen to have;
    None: none was seen yet.
    """

    checklist: str
    limit_minutes: int
    size: int
    bytes_per_second: int | None


@dataclass(frozen=True, slots=True)
class OverlapFacts:
    """Something given to one cohort of which items are excluded from another one, and how many
    devices are in both.
    """

    about: str
    items: tuple[str, ...]
    one: str
    other: str
    devices: int


@dataclass(frozen=True, slots=True)
class SheetFacts:
    """A sheet's devices, and how many of them the gate has as somebody's own."""

    sheet: str
    reach: Reach
    devices: int
    personal: int


def of_given(facts: GivenFacts) -> Iterator[Lint]:
    """What is odd about giving this to them."""
    if facts.cohort is not None and not facts.devices and facts.word is not GivenAs.EXCLUDED:
        yield Lint(
            LintCode.EMPTY_COHORT,
            facts.about,
            f"Cohort “{facts.cohort}”, to which it is given, holds no device.",
            "Widen the cohort, or give it to another one.",
        )


def of_ungiven(about: str, given: int) -> Iterator[Lint]:
    """What is given to nobody at all. `given`: to how many it is given."""
    if not given:
        yield Lint(
            LintCode.TO_NOBODY,
            about,
            "It is given to nobody.",
            "Give it to everyone or to a cohort, or remove it.",
        )


def of_item(facts: ItemFacts) -> Iterator[Lint]:
    """What is odd about an item where it is given."""
    about = f"item “{facts.name}”"
    if facts.reached and not facts.fits:
        yield Lint(
            LintCode.FOR_NO_DEVICE,
            about,
            f"It is given to {plural(facts.reached, 'device')}, and for none of them.",
            "Look at its platforms, its least versions and its condition.",
        )
    if facts.beaten:
        yield Lint(
            LintCode.CONFLICT,
            about,
            f"On {plural(facts.beaten, 'device')} “{facts.beaten_by}” says otherwise, and wins.",
            "Put its kit higher, exclude one of them, or make both say the same.",
        )
    if facts.needs_hand and facts.uncarried:
        yield Lint(
            LintCode.NEEDS_HAND,
            about,
            f"Somebody must be at the device, and {plural(facts.uncarried, 'device')} that get it"
            " are carried by nobody.",
            "Leave them out, or let somebody go there.",
        )


def of_awaited(facts: AwaitedFacts) -> Iterator[Lint]:
    """An item that is waited for and never comes."""
    without = facts.devices - facts.get_it
    if without:
        yield Lint(
            LintCode.NOT_ASSIGNED,
            f"checklist “{facts.checklist}”",
            f"It waits for “{facts.item}”, which {without:,} of its"
            f" {plural(facts.devices, 'device')} do not get.",
            "Give them the item as required, or take it off the checklist.",
        )


def of_time(facts: TimeFacts) -> Iterator[Lint]:
    """More than fits in the time."""
    if facts.bytes_per_second is None:
        return
    needed = -(-facts.size // max(1, facts.bytes_per_second * 60))
    if needed > facts.limit_minutes:
        yield Lint(
            LintCode.TOO_LARGE,
            f"checklist “{facts.checklist}”",
            f"At the speed of the fleet its items take {plural(needed, 'minute')}, and it waits"
            f" for {facts.limit_minutes}.",
            "Raise the limit, or take large items off.",
        )


def of_overlap(facts: OverlapFacts) -> Iterator[Lint]:
    """Two cohorts with opposite words and some devices in both."""
    if facts.devices:
        yield Lint(
            LintCode.OPPOSITE,
            facts.about,
            f"It is given to “{facts.one}”, and {_quoted(facts.items)} excluded from"
            f" “{facts.other}”: {_in_both(facts.devices)}.",
            "Make the cohorts apart, or take one assignment back.",
        )


def _quoted(items: Sequence[str]) -> str:
    """`“Deck Wi-Fi” is`, `“Deck Wi-Fi”, “Crew mail” and 3 others are`."""
    more = len(items) - 3
    told = [*(f"“{name}”" for name in items[:3]), *([f"{more} others"] if more > 0 else [])]
    return f"{listed(told)} {'is' if len(items) == 1 else 'are'}"


def _in_both(devices: int) -> str:
    """`1 device is in both and does not get it`."""
    verbs = ("is", "does") if devices == 1 else ("are", "do")
    return f"{plural(devices, 'device')} {verbs[0]} in both and {verbs[1]} not get it"


def of_sheet(facts: SheetFacts) -> Iterator[Lint]:
    """A sheet that takes the whole of somebody's own device."""
    if facts.personal and facts.reach in (Reach.WHOLE, Reach.SHARED):
        yield Lint(
            LintCode.AGAINST_GATE,
            f"sheet “{facts.sheet}”",
            f"It takes the whole device, and {plural(facts.personal, 'device')} of its people are"
            " their own.",
            "Choose “work part only”, or give the sheet to corporate devices.",
        )
