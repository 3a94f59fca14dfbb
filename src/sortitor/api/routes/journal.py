"""Routes: the journal, and reverting."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request, Response

from sortitor.api.http.access import MayLook, MayRevert
from sortitor.api.http.paging import Cursor, Limit, Number, page, read_number
from sortitor.api.http.routes import Route
from sortitor.operations import journal, reverts
from sortitor.schemas.base import Apply, Page, Preview
from sortitor.schemas.journal import Effect, Entry, EntryDetail, Reverted

router = APIRouter(tags=["journal"], route_class=Route)


@router.get("/journal", response_model=Page[Entry])
def list_entries(
    request: Request,
    response: Response,
    ctx: MayLook,
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
def show_entry(ctx: MayLook, entry_id: Number) -> EntryDetail:
    """One entry with its first hundred effects on devices."""
    entry, effects = journal.one(ctx, entry_id)
    return EntryDetail(
        **Entry.model_validate(entry).model_dump(),
        effects=[Effect.model_validate(effect) for effect in effects],
    )


@router.post("/journal/{entry_id}/revert/preview")
def preview_revert(ctx: MayLook, entry_id: Number) -> Preview:
    """What reverting the change would do, and what it would leave and why."""
    return Preview.model_validate(reverts.preview(ctx, entry_id))


@router.post("/journal/{entry_id}/revert")
def revert_entry(ctx: MayRevert, entry_id: Number, given: Apply) -> Reverted:
    """Revert as previewed."""
    return Reverted(entry_id=reverts.revert(ctx, entry_id, given.digest, given.reason))
