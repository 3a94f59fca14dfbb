"""Request bodies, bounded before they are read: in size by route, and in time."""

from __future__ import annotations

import asyncio
import re
import time
from collections.abc import Iterable, Sequence
from typing import Annotated, Any

from fastapi import Depends, Request
from fastapi.routing import APIRoute
from starlette.exceptions import HTTPException
from starlette.routing import BaseRoute, compile_path
from starlette.types import ASGIApp, Message, Receive, Scope, Send

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
_JSON_BYTES = 2_000_000
#: Slower than this no line is that anybody works with.
_BYTES_A_SECOND = 32_000


async def _body(request: Request) -> bytes:
    return await request.body()


FileBody = Annotated[bytes, Depends(_body)]


def file_addresses(prefix: str, routes: Iterable[BaseRoute]) -> list[re.Pattern[str]]:
    """The addresses of the routes whose body is a file."""
    return [
        compile_path(prefix + route.path)[0]
        for route in routes
        if isinstance(route, APIRoute) and route.openapi_extra is FILE_BODY
    ]


class BodyLimit:
    """Refuses a body while it arrives: one that is too large, whatever it says it is, and one that
    comes too slowly.

    `files` (addresses) take up to `file_bytes`, everything else 2 MB. A body has `seconds`, and
    more the longer it is.
    """

    def __init__(
        self, app: ASGIApp, file_bytes: int, files: Sequence[re.Pattern[str]], seconds: float
    ) -> None:
        self._app, self._file_bytes = app, file_bytes
        self._files, self._seconds = files, seconds

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        limit = self._limit(scope)
        length = dict(scope["headers"]).get(b"content-length", b"")
        announced = int(length) if length.isdigit() else 0
        seen, whole, began = 0, False, time.monotonic()

        async def counted() -> Message:
            nonlocal seen, whole
            if whole:
                # What comes after the body is that somebody leaves.
                return await receive()
            if announced > limit:
                raise _too_large(limit)
            left = began + self._seconds + seen / _BYTES_A_SECOND - time.monotonic()
            try:
                message = await asyncio.wait_for(receive(), max(left, 0.001))
            except TimeoutError:
                raise HTTPException(
                    408,
                    f"The body came too slowly: {seen:,} bytes in"
                    f" {time.monotonic() - began:.0f} seconds.",
                    {"Connection": "close"},
                ) from None
            whole = message["type"] != "http.request" or not message.get("more_body")
            seen += len(message.get("body", b""))
            if seen > limit:
                raise _too_large(limit)
            return message

        await self._app(scope, counted, send)

    def _limit(self, scope: Scope) -> int:
        is_file = any(address.match(scope["path"]) for address in self._files)
        return self._file_bytes if is_file else _JSON_BYTES


def _too_large(limit: int) -> HTTPException:
    # Closing tells a sender that is still busy to stop.
    return HTTPException(
        413,
        f"The body is larger than {limit / 1_000_000:g} MB. Split the file.",
        {"Connection": "close"},
    )
