"""Files handed out whole or in parts (RFC 9110 §14), with their digest (RFC 9530)."""

from __future__ import annotations

import asyncio
import re
from base64 import b64encode
from collections.abc import AsyncIterator
from typing import Any
from urllib.parse import quote

from fastapi import Request, Response
from fastapi.responses import StreamingResponse
from starlette.types import Message, Send

from sortitor.api.http.negotiation import known_as
from sortitor.operations.kits.files import FileRow
from sortitor.operations.kits.ports import Storage

#: Whoever takes nothing for so long has gone.
_STALLED_SECONDS = 60
_ONE_PART = re.compile(r"bytes=([0-9]{0,19})-([0-9]{0,19})")
PARTS: dict[int | str, dict[str, Any]] = {
    200: {"content": {"application/octet-stream": {}}, "description": "The bytes."},
    206: {"description": "The part that was asked for."},
    304: {"description": "It is what the caller has."},
    416: {"description": "The file has no such part."},
}


class _Pieces(StreamingResponse):
    """An answer that ends when nobody takes it any more."""

    async def stream_response(self, send: Send) -> None:
        """Send it as it comes."""

        async def patient(message: Message) -> None:
            await asyncio.wait_for(send(message), _STALLED_SECONDS)

        await super().stream_response(patient)


async def hand_out(request: Request, storage: Storage, file: FileRow) -> Response:
    """The file, or the part of it that is asked for; a caller who has it already is told so."""
    tag = f'"{file.digest}"'
    headers = {
        "ETag": tag,
        "Accept-Ranges": "bytes",
        "Repr-Digest": f"sha-256=:{b64encode(bytes.fromhex(file.digest)).decode()}:",
        "Content-Disposition": f"attachment; filename*=UTF-8''{quote(file.name, safe='')}",
    }
    if known_as(request.headers.get("if-none-match"), tag):
        return Response(status_code=304, headers=headers)
    part = _part(request, file.size, tag)
    if part is None:
        return Response(
            status_code=416, headers={**headers, "Content-Range": f"bytes */{file.size}"}
        )
    begin, end = part
    is_whole = (begin, end) == (0, file.size)
    if not is_whole:
        headers["Content-Range"] = f"bytes {begin}-{end - 1}/{file.size}"
    headers["Content-Length"] = str(end - begin)
    status, kind = 200 if is_whole else 206, "application/octet-stream"
    if getattr(request.state, "bare", False):
        return Response(status_code=status, headers=headers, media_type=kind)
    # Storage that is away says so before the answer has begun.
    pieces = storage.read(file.digest, begin, end)
    first = await anext(pieces)
    return _Pieces(_from(first, pieces), status, headers, kind)


async def _from(first: bytes, others: AsyncIterator[bytes]) -> AsyncIterator[bytes]:
    yield first
    async for piece in others:
        yield piece


def _part(request: Request, size: int, tag: str) -> tuple[int, int] | None:
    """From which byte to before which; None: there is no such part. What is no range of bytes, or
    are several, is answered by the whole file, as the standard lets.
    """
    asked = _ONE_PART.fullmatch(request.headers.get("range", "").strip())
    if asked is None or request.headers.get("if-range", tag) != tag:
        return 0, size
    first, last = asked.groups()
    if not first:
        # The last so many bytes.
        length = min(int(last or 0), size) if last else 0
        return (size - length, size) if length else None
    begin, end = int(first), min(int(last), size - 1) + 1 if last else size
    return (begin, end) if begin < end else None
