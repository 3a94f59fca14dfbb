"""What every route does: it decides who may ask before it reads what they send, refuses what it
does not know, takes JSON by its types, and honours an `Idempotency-Key`.

The same key and request within 24 hours get the same answer and do nothing twice. What is taken in
as it comes has no answer kept: the same file twice is one anyway.
"""

from __future__ import annotations

import difflib
import hmac
import inspect
from collections.abc import Awaitable, Callable, Coroutine, Iterable, Iterator, Sequence
from enum import Enum
from functools import partial, wraps
from http import HTTPStatus
from typing import Any

from fastapi import APIRouter, Request, Response
from fastapi._compat import ModelField
from fastapi.dependencies.models import Dependant
from fastapi.dependencies.utils import get_flat_params
from fastapi.exceptions import RequestValidationError
from fastapi.params import Query
from fastapi.routing import APIRoute
from pydantic import BaseModel, ValidationError
from pydantic_core import from_json
from starlette.concurrency import run_in_threadpool
from starlette.routing import Match
from starlette.types import ASGIApp, Receive, Scope, Send

from sortitor.api.http import negotiation
from sortitor.api.http.access import actor_of, admitted, permission_of, service_of
from sortitor.api.http.bodies import STREAM_BODY
from sortitor.api.http.late import LOADING
from sortitor.api.http.short_way import short_way
from sortitor.core.access import Permission
from sortitor.core.errors import BadInput, Conflict, FieldProblem, SortitorError
from sortitor.operations import repeats
from sortitor.operations.context import Claim
from sortitor.schemas.base import SecretAnswer

_Handler = Callable[[Request], Coroutine[Any, Any, Response]]


class Route(APIRoute):
    """A claim of a key is committed with the change, the answer kept right after."""

    def get_route_handler(self) -> _Handler:
        """The handler with its checks before and the keeping of its answer after."""
        way_of = _way_of(self, super().get_route_handler())
        known_parameters = [
            field.alias
            for field in get_flat_params(self.dependant)
            if isinstance(field.field_info, Query)
        ]

        permissions = permissions_of(self)
        streams = self.openapi_extra is STREAM_BODY
        is_secret = _holds_secret(self.response_model)
        produced = answers_of(self)

        address = PREFIX + self.path_format

        async def handler(request: Request) -> Response:
            request.state.route = address
            for permission in permissions:
                await run_in_threadpool(admitted, request, permission)
            _refuse_unknown(request, known_parameters)
            negotiation.require_acceptable(request, produced)
            original = await way_of(request)
            if request.method == "GET":
                return negotiation.conditional(request, _finished(request, await original(request)))
            key = request.headers.get("idempotency-key")
            if request.method != "POST" or not key or streams:
                return _finished(request, await original(request))
            if len(key) > 200:
                raise BadInput(
                    "bad_key", "An Idempotency-Key has at most 200 characters.", "Use a UUID."
                )
            try:
                actor = await run_in_threadpool(actor_of, request)
            except SortitorError:
                # The route itself says who may call it.
                return await original(request)
            service = service_of(request)
            claim = Claim(key, await _request_hash(request, service.digest_key))
            known = await run_in_threadpool(repeats.find, service.engine, service.clock, actor, key)
            if known is not None:
                return _repeat(known, claim)
            request.state.claim = claim
            response = _finished(request, await original(request))
            if is_secret:
                return response
            if response.status_code < 300 and isinstance(response.body, bytes):
                await run_in_threadpool(
                    repeats.keep,
                    service.engine,
                    actor,
                    key,
                    response.status_code,
                    response.body,
                    {
                        name: response.headers[name]
                        for name in _KEPT_HEADERS
                        if name in response.headers
                    },
                )
            return response

        return handler


def _way_of(route: APIRoute, whole: _Handler) -> Callable[[Request], Awaitable[_Handler]]:
    """What finds out, of a request, whether its body is JSON as it must be, and what answers it."""
    body, short = route.body_field, short_way(route)

    async def way_of(request: Request) -> _Handler:
        if body is None:
            return whole
        negotiation.require_json(request, body)
        given = read_json(await request.body(), body)
        if short is None or given is None or not negotiation.sent_kind(request):
            # Of what does not say that it is JSON, the framework makes nothing.
            return whole
        return partial(short, given)

    return way_of


#: The number of the journal entry that a request wrote last: where its way back is.
ENTRY_HEADER = "Sortitor-Journal-Entry"


#: What a repeated request is told again.
_KEPT_HEADERS = (
    "content-type",
    "etag",
    "location",
    "preference-applied",
    "retry-after",
    ENTRY_HEADER.lower(),
)
#: How soon to look after a job that was just begun.
_SOON_SECONDS = 1


def _finished(request: Request, response: Response) -> Response:
    """The answer with what every change says of itself."""
    entry_id = getattr(request.state, "entry_id", None)
    if entry_id is not None and response.status_code < 400:
        response.headers[ENTRY_HEADER] = str(entry_id)
    if response.status_code == HTTPStatus.ACCEPTED:
        response.headers["Retry-After"] = str(_SOON_SECONDS)
        if wants_job(request.headers.get("prefer")):
            response.headers["Preference-Applied"] = "respond-async"
    return response


def wants_job(prefer: str | None) -> bool:
    """Whether the caller would rather follow a job than wait (RFC 7240 §4.1)."""
    wishes = (prefer or "").lower().split(",")
    return any(wish.split(";")[0].strip() == "respond-async" for wish in wishes)


def permissions_of(route: APIRoute) -> set[Permission]:
    """What a caller of the route must be allowed."""
    return set(_permissions(route.dependant))


def table_answer(route: APIRoute) -> dict[str, Any]:
    """The media type of a table, where the route gives its pages as one too."""
    pages = any(field.alias == "cursor" for field in get_flat_params(route.dependant))
    return {"text/csv": {}} if pages else {}


def answers_of(route: APIRoute) -> tuple[str, ...]:
    """The media types that a route can answer with, the usual one last; none where it has nothing
    to say.
    """
    found = [
        media
        for status, told in route.responses.items()
        if str(status).startswith("2")
        for media in told.get("content", {})
    ]
    if route.response_model is not None:
        found = [*table_answer(route), *found, "application/json"]
    return tuple(found)


def _operation_id(route: APIRoute) -> str:
    """The same for ever: programs are made of it."""
    return route.name


class Router(APIRouter):
    """The routes of one subject. Whether a request can be for any of them is seen by the first part
    of its path: each address by itself is compared only then.
    """

    def __init__(self, prefix: str = "", tags: Sequence[str | Enum] = ()) -> None:
        super().__init__(
            prefix=prefix,
            tags=list(tags),
            route_class=Route,
            generate_unique_id_function=_operation_id,
        )
        self._parts = {_first_part(prefix)} if prefix else set[str]()

    def add_api_route(self, path: str, endpoint: Callable[..., Any], **options: Any) -> None:
        """Another address."""
        super().add_api_route(path, _in_one_thread(endpoint), **options)
        self._parts.add(_first_part(self.prefix + path))

    def include_router(self, router: APIRouter, **options: Any) -> None:
        """The addresses of a finished router, as they are."""
        super().include_router(router, **options)
        if isinstance(router, Router):
            self._parts |= router._parts

    def matches(self, scope: Scope) -> tuple[Match, Scope]:
        """Whether a request is for one of the addresses."""
        return super().matches(scope) if self.begins_like(scope) else (Match.NONE, {})

    def begins_like(self, scope: Scope) -> bool:
        """Whether a request's path begins like one of the addresses."""
        return _first_part(scope["path"].removeprefix(PREFIX)) in self._parts


class LateRouter(Router):
    """The routes of a module that is loaded late: all of them take longer than a start may."""

    def __init__(self, parts: Iterable[str], find: Callable[[], APIRouter]) -> None:
        super().__init__()
        self._parts = set(parts)
        self._find = find
        self.is_loaded = False

    def load(self) -> None:
        """The routes, there by now."""
        with LOADING:
            if not self.is_loaded:
                # As they are, not as a router within this one, which would be asked once more.
                self.routes.extend(self._find().routes)
                self.is_loaded = True


class LoadedFirst:
    """Loads late routes for the first request whose path begins like one of theirs, beside the
    event loop: others are answered meanwhile.
    """

    def __init__(self, app: ASGIApp, routers: Iterable[LateRouter]) -> None:
        self._app = app
        self._waiting = list(routers)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Let the request go on to its routes."""
        if self._waiting and scope["type"] == "http":
            for late in self._waiting:
                if late.begins_like(scope):
                    await run_in_threadpool(late.load)
            self._waiting = [late for late in self._waiting if not late.is_loaded]
        await self._app(scope, receive, send)


#: Where every route of this kind stands.
PREFIX = "/api/v1"


def made_at(response: Response, path: str) -> None:
    """Say where what was made is found (RFC 9110 §10.2.2)."""
    response.headers["Location"] = PREFIX + path


def _in_one_thread(endpoint: Callable[..., Any]) -> Callable[..., Any]:
    """A plain function in a thread. FastAPI would put it into one itself, and then into another one
    the question whether its answer is what it says.
    """
    if inspect.iscoroutinefunction(endpoint):
        return endpoint

    @wraps(endpoint)
    async def answered(**values: Any) -> Any:
        return await run_in_threadpool(endpoint, **values)

    return answered


def _first_part(path: str) -> str:
    return path.split("/", 2)[1] if path.startswith("/") else path


def _permissions(dependant: Dependant) -> Iterator[Permission]:
    """What a caller must be allowed, as the route's own dependencies have it."""
    for dependency in dependant.dependencies:
        if permission := permission_of(dependency.call):
            yield permission
        yield from _permissions(dependency)


def _holds_secret(shape: Any) -> bool:
    """Whether an answer is, or lists, what is shown this once."""
    if not isinstance(shape, type) or not issubclass(shape, BaseModel):
        return False
    parts = shape.__pydantic_generic_metadata__["args"]
    return issubclass(shape, SecretAnswer) or any(map(_holds_secret, parts))


def read_json(content: bytes, body: ModelField) -> Any:
    """What JSON says, by its types; None where the body's model has yet to say what it makes of it.

    Raises RequestValidationError for JSON that is not of the body's types: a number is no date, no
    text a number, and a text has neither NUL nor half of a pair.
    """
    if not content:
        return None
    try:
        found = body._type_adapter.validate_json(content, strict=True)
    except ValidationError as error:
        # Behind a validator of our own, a strict model wants tuples and enums themselves: only
        # what JSON itself tells apart is a fault here. The rest is for the model to say.
        faults = [
            {**fault, "loc": ("body", *fault["loc"])}
            for fault in error.errors(include_url=False)
            if fault["type"] in _TYPES and not isinstance(fault["input"], _TYPES[fault["type"]])
        ]
        if faults:
            raise RequestValidationError(faults) from error
        found = None
    if b"\\u0000" in content:
        place = _nul(from_json(content), ())
        if place is not None:
            fault = {"type": "nul", "loc": ("body", *place), "msg": "A text cannot hold a NUL"}
            raise RequestValidationError([fault])
    return found


#: Fault → what is given in its place and is none.
_TYPES: dict[str, tuple[type, ...]] = {
    "json_invalid": (),
    "int_type": (),
    "float_type": (),
    "decimal_type": (str,),
    "bool_type": (),
    "string_type": (),
    "date_type": (str,),
    "datetime_type": (str,),
    "int_from_float": (),
}


def _nul(value: Any, place: tuple[str | int, ...]) -> tuple[str | int, ...] | None:
    """Where a NUL stands."""
    if isinstance(value, str):
        return place if "\0" in value else None
    parts: Iterable[tuple[str | int, Any]] = ()
    if isinstance(value, dict):
        parts = value.items()
    elif isinstance(value, list):
        parts = enumerate(value)
    for key, part in parts:
        if "\0" in str(key):
            return (*place, key)
        if (found := _nul(part, (*place, key))) is not None:
            return found
    return None


def _refuse_unknown(request: Request, known: Sequence[str]) -> None:
    """A condition that nobody heeds would give more than was asked for."""
    if not request.scope["query_string"]:
        return
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


async def _request_hash(request: Request, key: bytes) -> str:
    """A digest of the request that nobody can guess a password from: it takes the key."""
    asked = f"{request.method} {request.url.path}?{request.url.query}\n".encode()
    return hmac.digest(key, asked + await request.body(), "sha256").hex()


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
            "This request was carried out; its answer was lost, or held a secret that is not kept.",
            "Look at the result before you try again.",
        )
    return Response(
        bytes(known.answer),
        known.status,
        headers={**known.headers, "Idempotent-Replay": "true"},
    )
