"""Routes: the Today page."""

from __future__ import annotations

from sortitor.api.http.access import MayLook
from sortitor.api.http.routes import Router
from sortitor.operations import today
from sortitor.schemas.today import Today, TodayItem

router = Router(tags=["today"])


@router.get("/today")
def read_today(ctx: MayLook) -> Today:
    """What needs a hand, oldest first."""
    found = today.read(ctx)
    return Today(
        now=ctx.now,
        items=[TodayItem.model_validate(item) for item in found.items],
        stages=found.stages,
        age_seconds=found.age_seconds,
    )
