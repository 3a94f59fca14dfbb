"""What every route does: it refuses parameters that it does not know, and honours an
`Idempotency-Key`.

The same key and request within 24 hours get the same answer and do nothing twice.
"""

from __future__ import annotations

import difflib
import hashlib
from collections.abc import Callable, Coroutine, Sequence
from typing import Any

from fastapi import Request, Response
from fastapi.dependencies.utils import get_flat_params
from fastapi.params import Query
from fastapi.routing import APIRoute
from starlette.concurrency import run_in_threadpool

from sortitor.api.http.access import actor_of, service_of
from sortitor.core.errors import BadInput, Conflict, FieldProblem, SortitorError
from sortitor.operations import repeats
from sortitor.operations.context import Claim

_Handler = Callable[[Request], Coroutine[Any, Any, Response]]


class Route(APIRoute):
    """A claim of a key is committed with the change, the answer kept right after."""

    def get_route_handler(self) -> _Handler:
        """The handler with its checks before and the keeping of its answer after."""
        original = super().get_route_handler()
        known_parameters = [
            field.alias
            for field in get_flat_params(self.dependant)
            if isinstance(field.field_info, Query)
        ]

        async def handler(request: Request) -> Response:
            _refuse_unknown(request, known_parameters)
            key = request.headers.get("idempotency-key")
            if request.method != "POST" or not key:
                return await original(request)
            if len(key) > 200:
                raise BadInput(
                    "bad_key", "An Idempotency-Key has at most 200 characters.", "Use a UUID."
                )
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
                await run_in_threadpool(
                    repeats.keep,
                    service.engine,
                    actor,
                    key,
                    response.status_code,
                    response.body,
                    response.media_type or "",
                )
            return response

        return handler


def _refuse_unknown(request: Request, known: Sequence[str]) -> None:
    """A condition that nobody heeds would give more than was asked for."""
    if unknown := next((name for name in request.query_params if name not in known), None):
        near = difflib.get_close_matches(unknown, known, 1)
        remedy = (
            f"Did you mean {near[0]!r}?"
            if near
            else f"It knows {', '.join(known)}."
            if known
            else "It knows none."
        )
        detail = f"{unknown!r} is not a parameter of this request."
        raise BadInput(
            "unknown_parameter",
            detail,
            remedy,
            (FieldProblem(f"/query/{unknown}", "unknown_parameter", detail),),
        )


async def _request_hash(request: Request) -> str:
    digest = hashlib.sha256(f"{request.method} {request.url.path}?{request.url.query}\n".encode())
    digest.update(await request.body())
    return digest.hexdigest()


def _repeat(known: Any, claim: Claim) -> Response:
    if known.request_hash != claim.request_hash:
        raise BadInput(
            "key_reused",
            "This Idempotency-Key was used for another request.",
            "Use a new key for each request.",
        )
    if known.status is None:
        raise Conflict(
            "already_done",
            "This request was carried out, but its answer was lost.",
            "Look at the result before you try again.",
        )
    return Response(
        bytes(known.answer),
        known.status,
        media_type=known.media_type,
        headers={"Idempotent-Replay": "true"},
    )
