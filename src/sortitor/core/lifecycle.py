"""The stages of a device: which follow which, and what each implies."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from sortitor.core.errors import Conflict
from sortitor.core.vocabulary import Stage

#: Stage → the stages that may follow it. The gate parks a device in use that knocks again under
#: conditions that ask for a coordinator's word; a lot takes a device back that was reported.
TRANSITIONS: dict[Stage, frozenset[Stage]] = {
    Stage.AWAITED: frozenset({Stage.PARKED, Stage.ACTIVE, Stage.RETIRED}),
    Stage.PARKED: frozenset({Stage.ACTIVE, Stage.RETIRED}),
    Stage.ACTIVE: frozenset({Stage.PARKED, Stage.DORMANT, Stage.RETIRED}),
    Stage.DORMANT: frozenset({Stage.PARKED, Stage.ACTIVE, Stage.RETIRED}),
    Stage.RETIRED: frozenset({Stage.AWAITED, Stage.PARKED, Stage.ACTIVE}),
}

#: Stages that take a licence seat; awaited devices do where the pool says so.
SEATED = (Stage.PARKED, Stage.ACTIVE, Stage.DORMANT)

#: Stages that count to their person's quota.
COUNTED = (Stage.PARKED, Stage.ACTIVE, Stage.DORMANT)

#: Stages a sweep may retire.
SWEPT = (Stage.PARKED, Stage.ACTIVE, Stage.DORMANT)

#: Stages in which a word of a coordinator, or a person, brings a device into use.
WAKEABLE = (Stage.PARKED, Stage.RETIRED)


def may_follow(before: Stage, after: Stage, reverting: bool = False) -> bool:
    """Whether a device may go from one stage to another; a revert goes the way back, too."""
    if before == after or after in TRANSITIONS[before]:
        return True
    return reverting and before in TRANSITIONS[after]


def steps(reverting: bool) -> Iterator[tuple[Stage, Stage]]:
    """Every step that a device may take, standing still included."""
    for before in Stage:
        for after in Stage:
            if may_follow(before, after, reverting):
                yield before, after


def wrong_stage(device: str, before: Stage, after: Stage) -> Conflict:
    """The error of a device that cannot go from one stage to the other."""
    following = ", ".join(stage for stage in Stage if stage in TRANSITIONS[before])
    return Conflict(
        code="wrong_stage",
        detail=f"{device} is {before}; it cannot become {after}, only {following}.",
        remedy="Read the device's timeline.",
    )


def check_transition(device: str, before: Stage, after: Stage) -> None:
    """Raise Conflict when a device cannot go from one stage to the other."""
    if not may_follow(before, after):
        raise wrong_stage(device, before, after)


@dataclass(frozen=True, slots=True)
class Sighting:
    """One sign of life: which credential (its hash), when, and the OS version that the device runs
    now.
    """

    secret_hash: bytes
    seen_at: datetime
    os_version: str | None
