"""Sweep rules and runs."""

from __future__ import annotations

from pydantic import ConfigDict, Field

from sortitor.core.sweeps import Rule as Rule
from sortitor.schemas.base import Answer, Time
from sortitor.schemas.documents import Kept


class RuleDetail(Rule, Kept):
    """A sweep rule."""

    model_config = ConfigDict(extra="ignore")


class IdleDay(Answer):
    """How many of the devices watched are idle for so many days, and how many of them are held."""

    idle_days: int
    devices: int
    held: int


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
    why: str | None = Field(description="Of a run that stopped: why.")
    entry_id: int | None
