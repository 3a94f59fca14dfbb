"""Routes: the journal, reverting, and the Today page."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request, Response

from sortitor.api.access import Coordinator, Viewer
from sortitor.api.paging import Cursor, Limit, page, read_number
from sortitor.api.routes import Route
from sortitor.operations import journal, reverts, today
from sortitor.schemas.base import Apply, Page, Preview
from sortitor.schemas.journal import Effect, Entry, EntryWhole, Reverted, Today, TodayItem

router = APIRouter(tags=["journal"], route_class=Route)


@router.get("/journal", response_model=Page[Entry])
def list_entries(
    request: Request,
    response: Response,
    ctx: Viewer,
    operation: str | None = None,
    actor: str | None = None,
    cursor: Cursor = None,
    limit: Limit = 50,
) -> Any:
    """Entries, newest first; `operation` is a beginning, such as `lot`."""
    return page(
        request,
        response,
        journal.page(ctx, read_number(cursor), limit + 1, operation, actor),
        limit,
        Entry.model_validate,
        lambda row: row.id,
    )


@router.get("/journal/{entry_id}")
def show_entry(ctx: Viewer, entry_id: int) -> EntryWhole:
    """One entry with its first hundred effects on devices."""
    entry, effects = journal.one(ctx, entry_id)
    return EntryWhole(
        **Entry.model_validate(entry).model_dump(),
        effects=[Effect.model_validate(e) for e in effects],
    )


@router.post("/journal/{entry_id}/revert/preview")
def preview_revert(ctx: Coordinator, entry_id: int) -> Preview:
    """What reverting the change would do, and what it would leave and why."""
    return Preview.model_validate(reverts.preview(ctx, entry_id))


@router.post("/journal/{entry_id}/revert")
def revert_entry(ctx: Coordinator, entry_id: int, given: Apply) -> Reverted:
    """Revert as previewed."""
    return Reverted(entry_id=reverts.revert(ctx, entry_id, given.digest, given.reason))


@router.get("/today")
def read_today(ctx: Viewer) -> Today:
    """What needs a hand, oldest first."""
    items, stages = today.read(ctx)
    return Today(
        now=ctx.now, items=[TodayItem.model_validate(item) for item in items], stages=stages
    )
