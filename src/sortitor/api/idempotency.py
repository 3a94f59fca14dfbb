"""`Idempotency-Key` on POST: the same key and request within 24 hours get the same answer and do nothing twice."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Coroutine
from typing import Any

from fastapi import Request, Response
from fastapi.routing import APIRoute
from starlette.concurrency import run_in_threadpool

from sortitor.api.access import actor_of, service_of
from sortitor.core.errors import BadInput, Conflict, SortitorError
from sortitor.operations import repeats
from sortitor.operations.context import Claim

_Handler = Callable[[Request], Coroutine[Any, Any, Response]]


class IdempotentRoute(APIRoute):
    """A route that honours the key. The claim is committed with the change, the answer kept right after."""

    def get_route_handler(self) -> _Handler:
        """The handler with the key's check before and its keeping after."""
        original = super().get_route_handler()

        async def handler(request: Request) -> Response:
            key = request.headers.get("idempotency-key")
            if request.method != "POST" or not key:
                return await original(request)
            if len(key) > 200:
                raise BadInput("bad_key", "An Idempotency-Key has at most 200 characters.", "Use a UUID.")
            try:
                actor = await run_in_threadpool(actor_of, request)
            except SortitorError:
                # The route itself says who may call it.
                return await original(request)
            claim = Claim(key, await _request_hash(request))
            service = service_of(request)
            known = await run_in_threadpool(repeats.find, service.engine, service.clock, actor, key)
            if known is not None:
                return _repeat(known, claim)
            request.state.claim = claim
            response = await original(request)
            if response.status_code < 300 and isinstance(response.body, bytes):
                await run_in_threadpool(repeats.keep, service.engine, actor, key, response.status_code, response.body, response.media_type or "")
            return response

        return handler


async def _request_hash(request: Request) -> str:
    digest = hashlib.sha256(f"{request.method} {request.url.path}?{request.url.query}\n".encode())
    digest.update(await request.body())
    return digest.hexdigest()


def _repeat(known: Any, claim: Claim) -> Response:
    if known.request_hash != claim.request_hash:
        raise BadInput("key_reused", "This Idempotency-Key was used for another request.", "Use a new key for each request.")
    if known.status is None:
        raise Conflict("already_done", "This request was carried out, but its answer was lost.", "Look at the result before you try again.")
    return Response(bytes(known.answer), known.status, media_type=known.media_type, headers={"Idempotent-Replay": "true"})
