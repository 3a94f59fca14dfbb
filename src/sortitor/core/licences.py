"""Licence pools: how many seats are needed, how many there are, and what that means."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import Any

from pydantic import Field

from sortitor.core.documents import FilterText, NamedDocument
from sortitor.core.filters import Filter, all_of, matches, one_of, parse
from sortitor.core.lifecycle import SEATED
from sortitor.core.vocabulary import Stage


class PoolState(StrEnum):
    """Whether the seats suffice."""

    COVERED = "covered"
    SHORT = "short"


class Pool(NamedDocument):
    """A licence product: the seats that there are, and which devices need one."""

    seats: int = Field(ge=0, le=100_000_000, description="How many seats there are.")
    filter: FilterText = Field(
        default=None, description="Which devices need a seat, in the filter language; empty: all."
    )
    awaited_too: bool = Field(
        default=False, description="Whether devices that have not arrived take a seat too."
    )

    def check(self) -> None:
        """Raise BadInput for a filter that cannot be read."""
        if self.filter:
            parse(self.filter)

    @property
    def stages(self) -> tuple[Stage, ...]:
        """The stages in which a device takes a seat of this pool."""
        return (*SEATED, Stage.AWAITED) if self.awaited_too else SEATED


def needing(pool: Pool) -> Filter:
    """The devices that take a seat of the pool, as a filter."""
    return all_of(one_of("stage", pool.stages), parse(pool.filter) if pool.filter else None)


def needs_seat(pool: Pool, device: Mapping[str, Any]) -> bool:
    """Whether one device (attribute → value) takes a seat of the pool."""
    return matches(needing(pool), device)[0]


def state(needed: int, seats: int) -> PoolState:
    """Short when more seats are needed than there are."""
    return PoolState.SHORT if needed > seats else PoolState.COVERED
