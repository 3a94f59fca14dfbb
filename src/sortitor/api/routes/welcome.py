"""Routes: the welcome card, and what a person's page shows of it."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Request, Response
from starlette.concurrency import run_in_threadpool

from sortitor.api.http.access import Anonymous, MayLook, MayPrepare
from sortitor.api.http.etags import IfMatch, revision_of, tag
from sortitor.api.http.routes import Router, made_at
from sortitor.core.errors import BadInput
from sortitor.core.welcome import WelcomeCard
from sortitor.operations import welcome
from sortitor.operations.welcome import MOST_BYTES, WELCOME, WELCOME_ID
from sortitor.schemas.base import Page, Preview, whole
from sortitor.schemas.documents import Revision
from sortitor.schemas.gate import Saved
from sortitor.schemas.welcome import PictureKept, WelcomeApply, WelcomeDetail

router = Router(prefix="/welcome-card", tags=["welcome"])


@router.get("")
def read_welcome_card(ctx: Anonymous, response: Response) -> WelcomeDetail:
    """The card, which everybody sees who opens the person's page."""
    kept = welcome.read(ctx)
    tag(response, kept.revision)
    return WelcomeDetail(**kept.document.model_dump(), revision=kept.revision)


@router.get("/revisions")
def list_welcome_card_revisions(ctx: MayLook) -> Page[Revision]:
    """What was changed of it, newest first."""
    return whole(Revision.model_validate(row) for row in WELCOME.revisions(ctx, WELCOME_ID))


@router.post("/preview")
def preview_welcome_card(ctx: MayLook, given: WelcomeCard) -> Preview:
    """What a change would be; nothing is written."""
    return Preview.model_validate(WELCOME.preview_edit(ctx, WELCOME_ID, given))


@router.post("/apply")
def apply_welcome_card(
    ctx: MayPrepare, response: Response, given: WelcomeApply, if_match: IfMatch = None
) -> Saved:
    """Save the card as previewed."""
    kept = WELCOME.edit(
        ctx,
        WELCOME_ID,
        given.card,
        revision=revision_of(if_match),
        digest=given.digest,
        reason=given.reason,
    )
    tag(response, kept.revision)
    return Saved(revision=kept.revision)


@router.post(
    "/pictures",
    status_code=201,
    openapi_extra={
        "requestBody": {
            "required": True,
            "content": {"application/octet-stream": {"schema": {"type": "string"}}},
        }
    },
)
async def upload_picture(request: Request, response: Response, ctx: MayPrepare) -> PictureKept:
    """Upload a picture: PNG, JPEG or WebP of up to 2 MB; it is made anew from its pixels."""
    content = await request.body()
    if len(content) > MOST_BYTES:
        raise BadInput("bad_picture", "The picture is too large.", "Make it smaller.")
    digest = await run_in_threadpool(welcome.add_picture, ctx, content)
    made_at(response, f"/welcome-card/pictures/{digest}")
    return PictureKept(digest=digest)


Digest = Annotated[str, Path(pattern=r"^[0-9a-f]{64}$", description="The picture's digest.")]


@router.get(
    "/pictures/{digest}",
    response_class=Response,
    responses={200: {"content": {"image/png": {}}}},
)
def show_picture(ctx: Anonymous, digest: Digest) -> Response:
    """A picture of the welcome card, as it was made anew."""
    headers = {"Cache-Control": "public, max-age=31536000, immutable"}
    return Response(welcome.picture(ctx, digest), media_type="image/png", headers=headers)
