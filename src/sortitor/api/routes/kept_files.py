"""Routes: files that are kept for devices."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Query, Request, Response
from starlette.concurrency import run_in_threadpool

from sortitor.api.http.access import MayLook, MayPrepare
from sortitor.api.http.bodies import STREAM_BODY
from sortitor.api.http.paging import fields_of
from sortitor.api.http.parts import PARTS, hand_out
from sortitor.api.http.routes import Router, made_at
from sortitor.operations.kits import files
from sortitor.schemas.base import Page, whole
from sortitor.schemas.files import KeptFile
from sortitor.schemas.kits import DIGEST

router = Router(tags=["kits"])

Digest = Annotated[str, Path(pattern=DIGEST, description="The file's SHA-256, in hex.")]


def _told(file: files.KeptFile) -> KeptFile:
    return KeptFile(**fields_of(file.row), items=list(file.items))


@router.get("/files")
def list_files(ctx: MayLook) -> Page[KeptFile]:
    """The files that are kept for devices, by name, each with the items that name it."""
    return whole(_told(one) for one in files.every(ctx))


@router.post("/files", status_code=201, openapi_extra=STREAM_BODY)
async def keep_file(
    request: Request,
    response: Response,
    ctx: MayPrepare,
    name: Annotated[str, Query(min_length=1, max_length=200, description="What it is called.")],
    digest: Annotated[
        str | None,
        Query(pattern="^[0-9a-fA-F]{64}$", description="The SHA-256 that it should have, in hex."),
    ] = None,
) -> KeptFile:
    """Keep a file for devices: the body is its bytes, up to 2 GB, taken in as they come. The same
    file twice is one. An item names it by its digest; what no item names for long goes by itself.
    """
    kept = await files.keep(ctx, request.stream(), name, digest)
    made_at(response, f"/files/{kept.row.digest}")
    return _told(kept)


@router.get("/files/{digest}")
def show_file(ctx: MayLook, digest: Digest) -> KeptFile:
    """One file, and the items that name it."""
    return _told(files.one(ctx, digest))


@router.get(
    "/files/{digest}/content",
    response_class=Response,
    responses=PARTS,
)
async def fetch_file(request: Request, ctx: MayPrepare, digest: Digest) -> Response:
    """The bytes of a file, whole or (`Range`) a part of them."""
    kept = await run_in_threadpool(files.one, ctx, digest)
    return await hand_out(request, ctx.storage, kept.row)


@router.delete("/files/{digest}", status_code=204)
def remove_file(ctx: MayPrepare, digest: Digest) -> None:
    """Let go of a file that no item names. This cannot be taken back: put it in again."""
    files.remove(ctx, digest)
