"""Routes: the journal, and reverting."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Any, Literal

from fastapi import Depends, Query, Request, Response
from fastapi.responses import StreamingResponse

from sortitor.api.http.access import MayLook, MayRevert, MaySeePersonal, service_of
from sortitor.api.http.files import XLSX, as_file
from sortitor.api.http.paging import LARGEST, Cursor, Limit, Number, fields_of, page, read_number
from sortitor.api.http.routes import Router
from sortitor.operations import heads, journal, reverts, seals
from sortitor.schemas.base import Apply, Day, Page, Preview
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

router = Router(tags=["journal"])


def _question(
    operation: Annotated[
        str | None,
        Query(max_length=100, description="How it begins, such as `lot`; several by commas."),
    ] = None,
    actor: Annotated[str | None, Query(max_length=200, description="Who did it.")] = None,
    person: Annotated[
        str | None,
        Query(max_length=320, description="Whom it concerned, by number or user name."),
    ] = None,
    device: Annotated[
        int | None, Query(ge=1, le=LARGEST, description="Which device it concerned, by number.")
    ] = None,
    since: Annotated[Day | None, Query(description="From this day on.")] = None,
    until: Annotated[Day | None, Query(description="Up to the end of this day.")] = None,
) -> journal.Question:
    return journal.Question(operation or None, actor or None, person or None, device, since, until)


Asked = Annotated[journal.Question, Depends(_question)]


def _entry(told: journal.Told) -> Entry:
    return Entry.model_validate({**fields_of(told.entry), "changes": told.changes})


@router.get("/journal", response_model=Page[Entry])
def list_entries(
    request: Request,
    response: Response,
    ctx: MayLook,
    question: Asked,
    descending: Annotated[bool, Query(description="The newest first.")] = True,
    cursor: Cursor = None,
    limit: Limit = 50,
) -> Any:
    """Entries, newest first or oldest first; all that is asked for must hold."""
    return page(
        request,
        response,
        journal.page(ctx, question, read_number(cursor), limit + 1, descending),
        limit,
        _entry,
        lambda told: told.entry.id,
    )


@router.get(
    "/journal/file",
    response_class=Response,
    responses={200: {"content": {"text/csv": {}, XLSX: {}, "application/jsonl": {}}}},
)
def export_entries(
    ctx: MayLook, question: Asked, form: Literal["csv", "xlsx", "jsonl"] = "csv"
) -> Response:
    """The entries that are asked for, in words, as a file."""
    told = journal.pages(ctx, question)
    if form == "jsonl":
        if ctx.leash is not None:
            ctx.leash.loosen()
        content: Iterator[str] = (
            _entry(one).model_dump_json() + "\n" for some in told for one in some
        )
        headers = {"Content-Disposition": 'attachment; filename="journal.jsonl"'}
        answer: Response = StreamingResponse(
            content, media_type="application/jsonl", headers=headers
        )
    else:
        answer = as_file(journal.table(told), "journal", form)
    seals.note_export(ctx, "journal", f"Journal entries taken out as {form.upper()}")
    return answer


@router.get("/journal/head")
def show_head(request: Request, ctx: MayLook) -> Head:
    """The end of the sealed chain, signed; keep it outside."""
    return Head.model_validate(heads.head(ctx, service_of(request).seal_seed))


@router.post("/journal/head/check")
def check_head(request: Request, ctx: MayLook, given: HeadGiven) -> HeadChecked:
    """Whether the chain still holds a head that was given out earlier."""
    why = heads.check_head(ctx, given.signed, service_of(request).seal_seed)
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
    told, effects = journal.one(ctx, entry_id)
    return EntryDetail(
        **_entry(told).model_dump(), effects=[Effect.model_validate(one) for one in effects]
    )


@router.post("/journal/{entry_id}/revert/preview")
def preview_revert_entry(ctx: MayLook, entry_id: Number) -> Preview:
    """What reverting the change would do, and what it would leave and why."""
    return Preview.model_validate(reverts.preview(ctx, entry_id))


@router.post("/journal/{entry_id}/revert")
def revert_entry(ctx: MayRevert, entry_id: Number, given: Apply) -> Reverted:
    """Revert as previewed."""
    return Reverted(entry_id=reverts.revert(ctx, entry_id, given.digest, given.reason))
