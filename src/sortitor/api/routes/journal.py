"""Routes: the journal, and reverting."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query, Request, Response
from fastapi.responses import StreamingResponse

from sortitor.api.http.access import MayLook, MayRevert, MaySeePersonal, service_of
from sortitor.api.http.paging import LARGEST, Cursor, Limit, Number, page, read_number
from sortitor.api.http.routes import Route
from sortitor.operations import journal, reverts, seals
from sortitor.schemas.base import Apply, Page, Preview
from sortitor.schemas.journal import (
    Effect,
    Entry,
    EntryDetail,
    Head,
    HeadChecked,
    HeadGiven,
    Reverted,
    Verification,
)

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


@router.get("/journal/head")
def show_head(request: Request, ctx: MayLook) -> Head:
    """The end of the sealed chain, signed; keep it outside."""
    return Head.model_validate(seals.head(ctx, service_of(request).seal_seed))


@router.post("/journal/head/check")
def check_head(request: Request, ctx: MayLook, given: HeadGiven) -> HeadChecked:
    """Whether the chain still holds a head that was given out earlier."""
    why = seals.check_head(ctx, given.signed, service_of(request).seal_seed)
    return HeadChecked(holds=why is None, why=why or "")


@router.get("/journal/verification")
def verify_journal(
    ctx: MayLook,
    after_place: Annotated[
        int, Query(ge=0, le=LARGEST, description="The `place` of the part before.")
    ] = 0,
) -> Verification:
    """Check up to 5,000 places of the chain: every entry, and what it did to devices."""
    return Verification.model_validate(seals.verify(ctx, after_place))


@router.get(
    "/journal/export",
    response_class=StreamingResponse,
    responses={200: {"content": {"application/jsonl": {}}}},
)
def export_journal(
    ctx: MaySeePersonal,
    after_place: Annotated[
        int, Query(ge=0, le=LARGEST, description="Only what was sealed after this place.")
    ] = 0,
) -> StreamingResponse:
    """The sealed journal as JSON Lines, in the order of its chain, with places and digests."""
    seals.note_export(ctx, "journal", f"The journal taken out after place {after_place}")
    if ctx.leash is not None:
        ctx.leash.loosen()
    return StreamingResponse(
        seals.lines(ctx, after_place),
        media_type="application/jsonl",
        headers={"Content-Disposition": 'attachment; filename="journal.jsonl"'},
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
