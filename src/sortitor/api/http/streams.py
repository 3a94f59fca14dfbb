"""Server-sent events: places, beginnings, heartbeats, and whether the reader may still look."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import ExitStack
from typing import Any

from fastapi import Request
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool
from starlette.types import Receive, Scope, Send

from sortitor.api.http.access import admitted, service_of
from sortitor.core.access import Permission
from sortitor.core.errors import SortitorError
from sortitor.operations.context import Context

HEARTBEAT_SECONDS = 15.0
#: How long a reader who was cut off waits before asking again.
BEGINNING = "retry: 2000\n\n"
HEARTBEAT = ": nothing new\n\n"
EVENT_STREAM: dict[int | str, dict[str, Any]] = {200: {"content": {"text/event-stream": {}}}}


class _Stream(StreamingResponse):
    """A stream that gives its place back however it ends."""

    def __init__(self, content: AsyncIterator[str], place: ExitStack) -> None:
        super().__init__(
            content, media_type="text/event-stream", headers={"Cache-Control": "no-store"}
        )
        self._place = place

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        with self._place:
            await super().__call__(scope, receive, send)


def stream(request: Request, ctx: Context, content: AsyncIterator[str]) -> StreamingResponse:
    """The events, with a place for the reader. Raises SlowDown when there is none."""
    place = ExitStack()
    place.enter_context(service_of(request).following.place(ctx.actor.name))
    if ctx.leash is not None:
        ctx.leash.loosen()
    return _Stream(content, place)


def event(number: int, name: str, data: str) -> str:
    """One event with its number."""
    return f"id: {number}\nevent: {name}\ndata: {data}\n\n"


async def may_still_look(request: Request) -> bool:
    """Whether the account is still signed in and may look."""
    request.state.actor = None
    try:
        await run_in_threadpool(admitted, request, Permission.LOOK)
    except SortitorError:
        return False
    return True
