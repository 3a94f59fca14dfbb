"""The Today page."""

from __future__ import annotations

from pydantic import Field

from sortitor.core.vocabulary import Stage
from sortitor.schemas.base import Answer, Time


class TodayItem(Answer):
    """One thing that needs a hand, with the page and the command that lead to it."""

    kind: str
    title: str
    detail: str
    count: int
    since_at: Time | None
    action: str
    page: str
    command: str


class Today(Answer):
    """What needs a hand, oldest first, and the fleet by stage."""

    now: Time
    items: list[TodayItem]
    stages: dict[Stage, int]
    age_seconds: int = Field(
        description="So many seconds ago the numbers of the fleet were counted; 0: for this answer."
    )
