"""Licence pools: how many seats are needed, how many are held, and what that means."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from sortitor.core.lifecycle import SEATED
from sortitor.core.vocabulary import Ownership, Platform, Stage


class PoolState(StrEnum):
    """Whether the seats suffice."""

    COVERED = "covered"
    SHORT = "short"


@dataclass(frozen=True, slots=True)
class Pool:
    """A licence product: `seats` held, and which devices need one. Empty platforms or ownerships mean all."""

    name: str
    seats: int
    platforms: tuple[Platform, ...] = ()
    ownerships: tuple[Ownership, ...] = ()
    awaited_too: bool = False

    @property
    def stages(self) -> tuple[Stage, ...]:
        """The stages in which a device takes a seat of this pool."""
        return (*SEATED, Stage.AWAITED) if self.awaited_too else SEATED


def needs_seat(pool: Pool, stage: Stage, platform: Platform | None, ownership: Ownership) -> bool:
    """Whether one device takes a seat of the pool."""
    return (
        stage in pool.stages
        and (not pool.platforms or platform in pool.platforms)
        and (not pool.ownerships or ownership in pool.ownerships)
    )


def state(needed: int, held: int) -> PoolState:
    """Short when more seats are needed than held."""
    return PoolState.SHORT if needed > held else PoolState.COVERED
