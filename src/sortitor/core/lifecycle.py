"""The stages of a device: which follow which, and what each implies."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sortitor.core.errors import Conflict
from sortitor.core.vocabulary import Stage

TRANSITIONS: dict[Stage, frozenset[Stage]] = {
    Stage.AWAITED: frozenset({Stage.PARKED, Stage.ACTIVE, Stage.RETIRED}),
    Stage.PARKED: frozenset({Stage.ACTIVE, Stage.RETIRED}),
    Stage.ACTIVE: frozenset({Stage.DORMANT, Stage.RETIRED}),
    Stage.DORMANT: frozenset({Stage.ACTIVE, Stage.RETIRED}),
    Stage.RETIRED: frozenset({Stage.PARKED, Stage.ACTIVE, Stage.DORMANT, Stage.AWAITED}),
}

#: Stages that take a licence seat; awaited devices do where the pool says so.
SEATED = (Stage.PARKED, Stage.ACTIVE, Stage.DORMANT)

#: Stages that count to their person's quota.
COUNTED = (Stage.PARKED, Stage.ACTIVE, Stage.DORMANT)

#: Stages a sweep may retire.
SWEPT = (Stage.PARKED, Stage.ACTIVE, Stage.DORMANT)


def check_transition(device: str, before: Stage, after: Stage) -> None:
    """Raise Conflict when a device cannot go from one stage to the other."""
    if after not in TRANSITIONS[before]:
        raise Conflict(
            "wrong_stage",
            f"{device} is {before}; it cannot become {after}.",
            "Read the device's timeline.",
        )


@dataclass(frozen=True, slots=True)
class Sighting:
    """One sign of life: which credential (its hash), when, and the OS version that the device runs
    now.
    """

    secret_hash: bytes
    seen_at: datetime
    os_version: str | None
