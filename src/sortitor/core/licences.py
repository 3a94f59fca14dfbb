"""Licence pools: how many seats are needed, how many are held, and what that means."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from sortitor.core.filters import matches, parse
from sortitor.core.lifecycle import SEATED
from sortitor.core.vocabulary import Stage


class PoolState(StrEnum):
    """Whether the seats suffice."""

    COVERED = "covered"
    SHORT = "short"


@dataclass(frozen=True, slots=True)
class Pool:
    """A licence product: `seats` held, and the filter of the devices that need one (None: all)."""

    name: str
    seats: int
    filter: str | None = None
    awaited_too: bool = False

    @property
    def stages(self) -> tuple[Stage, ...]:
        """The stages in which a device takes a seat of this pool."""
        return (*SEATED, Stage.AWAITED) if self.awaited_too else SEATED


def needs_seat(pool: Pool, device: Mapping[str, Any]) -> bool:
    """Whether one device (attribute → value) takes a seat of the pool."""
    return device["stage"] in pool.stages and (
        pool.filter is None or matches(parse(pool.filter), device)[0]
    )


def state(needed: int, held: int) -> PoolState:
    """Short when more seats are needed than held."""
    return PoolState.SHORT if needed > held else PoolState.COVERED
