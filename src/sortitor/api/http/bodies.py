"""Request bodies, bounded before they are read: in size by route, and in time."""

from __future__ import annotations

import asyncio
import re
import time
from collections.abc import Callable, Iterable, Sequence
from typing import Annotated, Any

from anyio import to_thread
from fastapi import Depends, Request
from fastapi.routing import APIRoute
from starlette.exceptions import HTTPException
from starlette.routing import BaseRoute, compile_path
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from sortitor.core.previews import sized

FILE_BODY: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "content": {
            "text/csv": {"schema": {"type": "string", "format": "binary"}},
            "application/octet-stream": {"schema": {"type": "string", "format": "binary"}},
            "text/plain": {"schema": {"type": "string"}},
        },
    }
}
#: A body that is taken in as it comes, and never held whole.
STREAM_BODY: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "content": {
            "application/octet-stream": {"schema": {"type": "string", "format": "binary"}},
        },
    }
}
_JSON_BYTES = 2_000_000
#: Slower than this no line is that anybody works with.
_BYTES_A_SECOND = 32_000


async def _body(request: Request) -> bytes:
    return await request.body()


FileBody = Annotated[bytes, Depends(_body)]


def addresses(prefix: str, routes: Iterable[BaseRoute], body: object) -> list[re.Pattern[str]]:
    """The addresses of the routes with this body."""
    return [
        compile_path(prefix + route.path)[0]
        for route in routes
        if isinstance(route, APIRoute) and route.openapi_extra is body
    ]


class BodyLimit:
    """Refuses a body while it arrives: one that is too large, whatever it says it is, and one that
    comes too slowly.

    `own` gives the addresses that have a limit of their own, each with how much they take; `least`
    is what every address takes. A body has `seconds`, and more the longer it is.
    """

    def __init__(
        self,
        app: ASGIApp,
        own: Callable[[], Sequence[tuple[re.Pattern[str], int]]],
        least: int,
        seconds: float,
    ) -> None:
        self._app, self._own, self._seconds = app, own, seconds
        self._least = min(least, _JSON_BYTES)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        length = dict(scope["headers"]).get(b"content-length", b"")
        announced = int(length) if length.isdigit() else 0
        seen, whole, began = 0, False, time.monotonic()
        limit = self._least

        async def heed(size: int) -> None:
            nonlocal limit
            if size > limit:
                limit = await to_thread.run_sync(self._limit, scope["path"])
            if size > limit:
                raise _too_large(limit)

        async def counted() -> Message:
            nonlocal seen, whole
            if whole:
                # What comes after the body is that somebody leaves.
                return await receive()
            await heed(announced)
            left = began + self._seconds + seen / _BYTES_A_SECOND - time.monotonic()
            try:
                async with asyncio.timeout(max(left, 0.001)):
                    message = await receive()
            except TimeoutError:
                raise HTTPException(
                    408,
                    f"The body came too slowly: {seen:,} bytes in"
                    f" {time.monotonic() - began:.0f} seconds.",
                    {"Connection": "close"},
                ) from None
            whole = message["type"] != "http.request" or not message.get("more_body")
            seen += len(message.get("body", b""))
            await heed(seen)
            return message

        await self._app(scope, counted, send)

    def _limit(self, path: str) -> int:
        fitting = (most for address, most in self._own() if address.match(path))
        return next(fitting, _JSON_BYTES)


def _too_large(limit: int) -> HTTPException:
    # Closing tells a sender that is still busy to stop.
    return HTTPException(
        413,
        f"The body is larger than {sized(limit)}. Split the file.",
        {"Connection": "close"},
    )
