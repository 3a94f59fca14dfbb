"""Files as request bodies, bounded before they are read whole."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Depends, Request
from starlette.exceptions import HTTPException
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


async def _body(request: Request) -> bytes:
    return await request.body()


FileBody = Annotated[bytes, Depends(_body)]


class BodyLimit:
    """Refuses a body that is too large while it arrives: files up to `file_bytes`, anything else up
    to 2 MB.
    """

    def __init__(self, app: ASGIApp, file_bytes: int) -> None:
        self._app, self._file_bytes = app, file_bytes

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        headers = dict(scope["headers"])
        is_json = headers.get(b"content-type", b"").startswith(b"application/json")
        limit = _JSON_BYTES if is_json else self._file_bytes
        seen = 0

        async def counted() -> Message:
            nonlocal seen
            message = await receive()
            seen += len(message.get("body", b""))
            if seen > limit or (seen and int(headers.get(b"content-length", b"0") or 0) > limit):
                # Closing tells a sender that is still busy to stop.
                raise HTTPException(
                    413,
                    f"The body is larger than {limit / 1_000_000:g} MB. Split the file.",
                    {"Connection": "close"},
                )
            return message

        await self._app(scope, counted, send)
