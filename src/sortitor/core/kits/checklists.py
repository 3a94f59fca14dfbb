"""Checklists: what must be done at a device before it is handed over."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from pydantic import Field

from sortitor.core.documents import Name, Note
from sortitor.core.kits.documents import (
    MOST_ITEMS,
    RankedDocument,
    check_given,
    once,
)
from sortitor.core.vocabulary import Expiry, ItemKind, ItemState

#: In which order items are brought where nobody says another: what others lean on comes first.
USUAL_ORDER = (
    ItemKind.FIRMWARE,
    ItemKind.SCRIPT,
    ItemKind.SETTING,
    ItemKind.CUSTOM,
    ItemKind.CERTIFICATE,
    ItemKind.NETWORK,
    ItemKind.ACCOUNT,
    ItemKind.DOCUMENT,
    ItemKind.APP,
)


class Checklist(RankedDocument):
    """Which items must be done, in which order, and for how long it is waited for them."""

    items: tuple[Name, ...] = Field(
        min_length=1, max_length=MOST_ITEMS, description="Names of items; each must be done."
    )
    own_order: bool = Field(
        default=False,
        description="Whether they are done as they stand here; else what others lean on is first.",
    )
    limit_minutes: int = Field(
        default=60, ge=5, le=1_440, description="How long it is waited, 5 minutes to 24 hours."
    )
    every_start: bool = Field(
        default=False, description="At every first start, also of a device that comes back."
    )
    on_expiry: Expiry = Field(
        default=Expiry.HOLD,
        description="`hold`: the device waits for somebody; `let_in`: it is handed over anyway.",
    )
    message: Note = Field(default=None, description="What the person reads while it takes long.")
    logs: bool = Field(default=False, description="Whether logs come along when an item fails.")

    def check(self) -> None:
        """Raise BadInput for an item or a cohort that stands there twice."""
        once("/items", "The item", self.items)
        check_given(self.given, alone=True)

    def ordered(self, kinds: Mapping[str, ItemKind]) -> list[str]:
        """The names in the order in which they are done. kinds: name → what it is."""
        if self.own_order:
            return list(self.items)
        place = {kind: number for number, kind in enumerate(USUAL_ORDER)}
        # Those of one kind stay as they stand.
        return sorted(self.items, key=lambda name: place[kinds[name]])


@dataclass(frozen=True, slots=True)
class Progress:
    """`3 of 10`, and the item that is being worked on, or that holds it up."""

    done: int
    total: int
    current: str | None
    failed: tuple[str, ...]

    @property
    def is_over(self) -> bool:
        """Whether all is done."""
        return self.done == self.total


def progress(ordered: Sequence[str], states: Mapping[str, ItemState]) -> Progress:
    """How far a device is. What is not for it does not count; what it has not told of waits."""
    counted = [name for name in ordered if states.get(name) is not ItemState.NOT_FOR]
    state = {name: states.get(name, ItemState.WAITING) for name in counted}
    left = [name for name in counted if state[name] is not ItemState.DONE]
    working = [name for name in left if state[name] is ItemState.WORKING]
    return Progress(
        done=len(counted) - len(left),
        total=len(counted),
        current=next(iter([*working, *left]), None),
        failed=tuple(name for name in left if state[name] is ItemState.FAILED),
    )
