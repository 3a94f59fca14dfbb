"""Routes: saved views of the device list."""

from __future__ import annotations

from fastapi import Response

from sortitor.api.http.access import MayLook
from sortitor.api.http.paging import Number
from sortitor.api.http.routes import Router, made_at
from sortitor.operations import views
from sortitor.operations.context import Context
from sortitor.operations.views import ViewRow
from sortitor.schemas.base import Page, whole
from sortitor.schemas.views import View, ViewNew, ViewSettings

router = Router(prefix="/views", tags=["views"])


def _shape(ctx: Context, row: ViewRow) -> View:
    return View(
        id=row.id,
        name=row.name,
        shared=row.shared,
        mine=row.account_id == ctx.actor.account_id,
        by=row.by,
        settings=ViewSettings.model_validate(row.settings),
    )


@router.get("")
def list_views(ctx: MayLook) -> Page[View]:
    """Saved views: one's own and those that others share."""
    return whole(_shape(ctx, row) for row in views.every(ctx))


@router.post("", status_code=201)
def save_view(response: Response, ctx: MayLook, given: ViewNew) -> View:
    """Keep a view under a name."""
    row = views.save(ctx, given.name, given.shared, given.settings.model_dump())
    made_at(response, f"/views/{row.id}")
    return _shape(ctx, row)


@router.get("/{view_id}")
def show_view(ctx: MayLook, view_id: Number) -> View:
    """One saved view: one's own, or one that is shared."""
    return _shape(ctx, views.one(ctx, view_id))


@router.delete("/{view_id}", status_code=204)
def remove_view(ctx: MayLook, view_id: Number) -> None:
    """Forget a view of one's own."""
    views.remove(ctx, view_id)
