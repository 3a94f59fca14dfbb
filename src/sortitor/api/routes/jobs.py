"""Routes: long work and its progress."""

from __future__ import annotations

import time
from collections.abc import AsyncIterator
from contextlib import aclosing
from functools import partial
from typing import Annotated, Any

from fastapi import Header, Query, Request, Response
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool

from sortitor.api.http.access import MayImport, MayLook, service_of
from sortitor.api.http.paging import Cursor, Limit, Number, fields_of, page, read_number
from sortitor.api.http.routes import PREFIX, Router, made_at
from sortitor.api.http.streams import (
    BEGINNING,
    EVENT_STREAM,
    HEARTBEAT,
    HEARTBEAT_SECONDS,
    event,
    may_still_look,
    stream,
)
from sortitor.core.vocabulary import JobState
from sortitor.operations import jobs
from sortitor.operations.context import Context
from sortitor.operations.jobs import JobRow
from sortitor.schemas.base import Page
from sortitor.schemas.jobs import Job

router = Router(prefix="/jobs", tags=["jobs"])
Prefer = Annotated[
    str | None, Header(description="`respond-async` (RFC 7240): answer with a job at once")
]
_OVER = (JobState.DONE, JobState.FAILED, JobState.CANCELLED)


#: Where what a job of a kind is about is found; the others are about lots.
_ABOUT = {"source": "/source-runs/{}", "level": "/levels"}


def _shape(ctx: Context, row: JobRow) -> Job:
    about = _ABOUT.get(row.kind, "/lots/{}").format(row.subject_id)
    return Job.model_validate({**fields_of(row), "result": f"{ctx.limits.base}{PREFIX}{about}"})


def accepted(ctx: Context, response: Response, row: JobRow) -> Job:
    """202 with the place where the job is followed."""
    response.status_code = 202
    made_at(response, f"/jobs/{row.id}")
    return _shape(ctx, row)


@router.get("", response_model=Page[Job])
def list_jobs(
    request: Request,
    response: Response,
    ctx: MayLook,
    running: Annotated[bool, Query(description="Only those that are not over")] = False,
    cursor: Cursor = None,
    limit: Limit = 50,
) -> Any:
    """Jobs, newest first."""
    return page(
        request,
        response,
        jobs.page(ctx, read_number(cursor), limit + 1, running),
        limit,
        partial(_shape, ctx),
        lambda row: row.id,
    )


@router.get("/{job_id}")
def show_job(ctx: MayLook, job_id: Number) -> Job:
    """How far one job is."""
    return _shape(ctx, jobs.one(ctx, job_id))


@router.post("/{job_id}/cancel")
def cancel_job(ctx: MayImport, job_id: Number) -> Job:
    """Stop a job; nothing of it is kept."""
    return _shape(ctx, jobs.cancel(ctx, job_id))


@router.get(
    "/{job_id}/events",
    response_class=StreamingResponse,
    responses=EVENT_STREAM,
)
async def follow_job(request: Request, ctx: MayLook, job_id: Number) -> StreamingResponse:
    """The job as server-sent events, one whenever it has gone on, until it is over; a comment every
    15 seconds while it stands.
    """
    await run_in_threadpool(jobs.one, ctx, job_id)
    return stream(request, ctx, _events(request, ctx, job_id))


async def _events(request: Request, ctx: Context, job_id: int) -> AsyncIterator[str]:
    following = service_of(request).following
    number, last, quiet = 0, "", time.monotonic()
    yield BEGINNING
    looks = following.looks(job_id, lambda: _shape(ctx, jobs.one(ctx, job_id)), HEARTBEAT_SECONDS)
    async with aclosing(looks):
        async for job in looks:
            text = last if job is None else job.model_dump_json()
            if text != last:
                last, number, quiet = text, number + 1, time.monotonic()
                yield event(number, "job", text)
            elif time.monotonic() - quiet >= HEARTBEAT_SECONDS:
                quiet = time.monotonic()
                # Whoever may look no more is shown no more.
                if not await may_still_look(request):
                    return
                yield HEARTBEAT
            if job is not None and job.state in _OVER:
                return
