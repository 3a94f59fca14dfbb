"""Sweep rules and runs."""

from __future__ import annotations

from pydantic import Field

from sortitor.schemas.base import Answer, Name, Request, Time


class RuleNew(Request):
    """Who is watched and after how many idle days a device is retired."""

    name: Name
    idle_window_days: int
    filter: str | None = Field(
        default=None,
        max_length=4_000,
        description="Which devices, in the filter language; null means all.",
    )
    daily: bool = False
    brake_percent: int = 5


class Rule(RuleNew):
    """A sweep rule."""

    model_config = {"extra": "ignore", "from_attributes": True}
    id: int
    revision: int


class Sweep(Answer):
    """One run of a rule: applied, reverted, or braked (stopped to ask)."""

    id: int
    rule_id: int | None
    rule_name: str
    at: Time
    by: str
    state: str
    retired: int
    watched: int
    entry_id: int | None
