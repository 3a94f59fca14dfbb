"""Compressed answers (RFC 9110 §8.4): those of text over a kilobyte, for callers who take gzip."""

from __future__ import annotations

from starlette.datastructures import MutableHeaders
from starlette.middleware.gzip import GZipMiddleware
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from sortitor.api.http.negotiation import COMPRESSED_TAG

_LEAST_BYTES = 1_000
#: Quick rather than small: an answer is packed while somebody waits.
_LEVEL = 5
#: Files are handed out in parts, with a digest of their bytes.
_AS_THEY_ARE = ("/api/v1/files/", "/api/v1/agent/")


class Compression:
    """See the module. A packed answer has a tag of its own: its bytes are others."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app
        self._packing = GZipMiddleware(app, _LEAST_BYTES, _LEVEL)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or scope["path"].startswith(_AS_THEY_ARE):
            await self._app(scope, receive, send)
            return
        if scope["method"] == "HEAD":
            await self._app(scope, receive, _unmeasured(send))
            return

        async def tagged(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                tag = headers.get("etag", "")
                # A weak tag is of what is said, not of its bytes.
                if "content-encoding" in headers and tag.startswith('"'):
                    headers["ETag"] = tag.removesuffix('"') + COMPRESSED_TAG
            await send(message)

        await self._packing(scope, receive, tagged)


def _unmeasured(send: Send) -> Send:
    """For HEAD: how long a packed answer would be is known only to whoever packs it."""

    async def told(message: Message) -> None:
        if message["type"] == "http.response.start":
            headers = MutableHeaders(scope=message)
            if int(headers.get("content-length", 0)) >= _LEAST_BYTES:
                del headers["content-length"]
        await send(message)

    return told
