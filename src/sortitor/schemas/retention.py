"""What goes when its time is over."""

from __future__ import annotations

from pydantic import Field

from sortitor.schemas.base import Answer


class Going(Answer):
    """One kind of thing that is kept for a time."""

    what: str
    days: int | None = Field(description="How long it is kept; 0: for ever; null: by its own end.")
    count: int = Field(description="How many would go now.")
