"""Sweep rules, runs, and what is kept out of them."""

from __future__ import annotations

from datetime import date

from pydantic import ConfigDict, Field

from sortitor.core.sweeps import Rule as Rule
from sortitor.core.vocabulary import HoldKind, HoldState
from sortitor.schemas.base import Answer, Apply, Time
from sortitor.schemas.documents import Kept


class RuleDetail(Rule, Kept):
    """A sweep rule."""

    model_config = ConfigDict(extra="ignore")


class IdleDay(Answer):
    """How many of the devices watched are idle for so many days, how many of them are held, and how
    many of the others a rule with a longer window leaves in use still.
    """

    idle_days: int
    devices: int
    held: int
    left: int


class Idle(Answer):
    """Everything that a rule watches, by idle days."""

    watched: int
    days: list[IdleDay]


class Sweep(Answer):
    """One run of a rule: applied, reverted, or braked (stopped to ask)."""

    id: int
    rule_id: int | None
    rule_name: str
    at: Time
    by: str
    state: str
    retired: int
    dormant: int = Field(description="Devices that were given notice.")
    watched: int
    held: int = Field(description="Devices past the window that somebody held.")
    why: str | None = Field(description="Of a run that stopped: why.")
    entry_id: int | None


class Hold(Answer):
    """What no sweep touches from a day up to and including another, and why."""

    id: int
    kind: HoldKind
    label: str = Field(description="What it keeps, in words.")
    person_id: int | None
    cohort_id: int | None
    device_id: int | None = Field(description="Of a hold that names devices: the first of them.")
    devices: int = Field(description="How many devices it keeps now.")
    reason: str
    owner: str = Field(description="Who answers for it.")
    from_on: date
    until_on: date
    state: HoldState
    created_by: str
    created_at: Time
    ended_at: Time | None = Field(description="When somebody ended it before its last day.")


class Confirmed(Apply):
    """What cannot be taken back is confirmed a second time: with the number of devices."""

    confirm: int = Field(description="How many devices are erased, as the preview says.")


class Erasure(Answer):
    """An erasure of retired devices, of which there is a certificate."""

    id: int
    at: Time
    by: str
    devices: int
    entry_id: int
