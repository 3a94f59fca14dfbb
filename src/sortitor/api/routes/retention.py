"""Routes: what goes when its time is over."""

from __future__ import annotations

from sortitor.api.http.access import MayLook
from sortitor.api.http.routes import Router
from sortitor.operations import retention
from sortitor.schemas.base import Page, whole
from sortitor.schemas.retention import Going

router = Router(tags=["retention"])


@router.get("/retention")
def preview_retention(ctx: MayLook) -> Page[Going]:
    """What would go tonight, by kind, with how long it is kept."""
    return whole(Going.model_validate(one) for one in retention.preview(ctx))
