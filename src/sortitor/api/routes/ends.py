"""Routes: what ends, who is reminded of it, and the calendar."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Request, Response

from sortitor.api.http.access import Anonymous, MayConnect, MayLook
from sortitor.api.http.etags import IfMatch, revision_of, tag
from sortitor.api.http.routes import Router
from sortitor.core.ends import Reminders
from sortitor.operations import ends
from sortitor.operations.ends import REMINDERS, REMINDERS_ID
from sortitor.schemas.base import Page, Preview, whole
from sortitor.schemas.documents import Revision
from sortitor.schemas.ends import End, RemindersApply, RemindersDetail
from sortitor.schemas.gate import Saved

router = Router(tags=["ends"])


@router.get("/ends")
def list_ends(ctx: MayLook) -> Page[End]:
    """Credentials, passes, holds and warranties that end within 400 days, and credentials that have
    ended; first things first.
    """
    today = ctx.now.date()
    return whole(
        End.model_validate(
            {
                "key": end.key,
                "kind": end.kind,
                "title": end.title,
                "ends_on": end.ends_on,
                "days_left": end.days_left(today),
                "count": end.count,
                "page": end.page,
            }
        )
        for end in ends.every(ctx)
    )


@router.get("/reminders")
def read_reminders(ctx: MayLook, response: Response) -> RemindersDetail:
    """Who is reminded by mail of what ends, and how long before."""
    kept = ends.read(ctx)
    tag(response, kept.revision)
    return RemindersDetail(**kept.document.model_dump(), revision=kept.revision)


@router.get("/reminders/revisions")
def list_reminders_revisions(ctx: MayLook) -> Page[Revision]:
    """What was changed of them, newest first."""
    return whole(Revision.model_validate(row) for row in REMINDERS.revisions(ctx, REMINDERS_ID))


@router.post("/reminders/preview")
def preview_reminders(ctx: MayLook, given: Reminders) -> Preview:
    """What a change would be; nothing is written."""
    return Preview.model_validate(REMINDERS.preview_edit(ctx, REMINDERS_ID, given))


@router.post("/reminders/apply")
def apply_reminders(
    ctx: MayConnect, response: Response, given: RemindersApply, if_match: IfMatch = None
) -> Saved:
    """Save the reminders as previewed."""
    kept = REMINDERS.edit(
        ctx,
        REMINDERS_ID,
        given.reminders,
        revision=revision_of(if_match),
        digest=given.digest,
        reason=given.reason,
    )
    tag(response, kept.revision)
    return Saved(revision=kept.revision)


@router.get(
    "/calendar/{secret}",
    response_class=Response,
    responses={200: {"content": {"text/calendar": {"schema": {"type": "string"}}}}},
)
def show_calendar(
    request: Request,
    ctx: Anonymous,
    secret: Annotated[
        str, Path(max_length=200, description="The secret of a token for a calendar, with `.ics`.")
    ],
) -> Response:
    """What ends, as a calendar (RFC 5545): the address that a calendar subscribes to. Its secret is
    that of a token with the purpose `calendar`, and is in no log.
    """
    # Guesses count like wrong passwords.
    request.state.failed = True
    found = ends.calendar(ctx, secret.removesuffix(".ics"))
    request.state.failed = False
    return Response(found, media_type="text/calendar")
