"""Errors on the wire (RFC 9457): the one place where an error of ours becomes an HTTP status."""

from __future__ import annotations

import logging
from http import HTTPStatus
from typing import Any

import structlog
from fastapi import FastAPI, Request
from fastapi.encoders import jsonable_encoder
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, Response
from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect
from starlette.routing import Match

from sortitor.api.http import console
from sortitor.core import errors
from sortitor.schemas.base import Preview, Problem, ProblemField

log = structlog.get_logger()
#: A note on an error that is in the log.
_LOGGED = "It is in the log."

#: The first class that fits decides.
STATUS: dict[type[errors.SortitorError], HTTPStatus] = {
    errors.TooLarge: HTTPStatus.REQUEST_ENTITY_TOO_LARGE,
    errors.NotAcceptable: HTTPStatus.NOT_ACCEPTABLE,
    errors.Unsupported: HTTPStatus.UNSUPPORTED_MEDIA_TYPE,
    errors.BadInput: HTTPStatus.UNPROCESSABLE_ENTITY,
    errors.SlowDown: HTTPStatus.TOO_MANY_REQUESTS,
    errors.NotSignedIn: HTTPStatus.UNAUTHORIZED,
    errors.NotAllowed: HTTPStatus.FORBIDDEN,
    errors.NotFound: HTTPStatus.NOT_FOUND,
    errors.Unread: HTTPStatus.PRECONDITION_REQUIRED,
    errors.Stale: HTTPStatus.PRECONDITION_FAILED,
    errors.Conflict: HTTPStatus.CONFLICT,
    # Not 502: a client takes that for a fault of ours that passes, and tries again.
    errors.SourceFault: HTTPStatus.FAILED_DEPENDENCY,
    errors.Unavailable: HTTPStatus.SERVICE_UNAVAILABLE,
}


def status_of(error: errors.SortitorError) -> HTTPStatus:
    """The HTTP status that says what the error is."""
    return next(status for kind, status in STATUS.items() if isinstance(error, kind))


def answer(
    request: Request, problem: Problem, headers: dict[str, str] | None = None
) -> JSONResponse:
    """The problem as a response."""
    problem.request_id = getattr(request.state, "request_id", None)
    if request.url.path.startswith("/scim/"):
        # Identity providers expect the error bodies of their own standard (RFC 7644 §3.12).
        if problem.status == HTTPStatus.UNPROCESSABLE_ENTITY:
            problem.status = HTTPStatus.BAD_REQUEST
        told = {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:Error"],
            "status": str(problem.status),
            "detail": problem.detail,
        }
        return JSONResponse(told, problem.status, headers, media_type="application/scim+json")
    # Only the problem's own empty members are left out; a preview inside it is whole.
    content = {
        name: value for name, value in jsonable_encoder(problem).items() if value is not None
    }
    return JSONResponse(content, problem.status, headers, media_type="application/problem+json")


#: Names of RFC 9110 §15.5 for which some versions of Python have those of its forerunners.
_PHRASES = {413: "Content Too Large", 416: "Range Not Satisfiable", 422: "Unprocessable Content"}


def phrase_of(status: int) -> str:
    """What a status is called (RFC 9110 §15)."""
    return _PHRASES.get(status) or HTTPStatus(status).phrase


def problem_of(
    status: HTTPStatus,
    code: str,
    detail: str,
    remedy: str = "",
    fields: list[ProblemField] | None = None,
    **more: Any,
) -> Problem:
    """A problem with its stable type."""
    return Problem(
        type=f"urn:sortitor:problem:{code}",
        title=phrase_of(status),
        status=status,
        detail=detail,
        code=code,
        remedy=remedy,
        errors=fields or [],
        **more,
    )


async def _ours(request: Request, error: Exception) -> JSONResponse:
    assert isinstance(error, errors.SortitorError)
    return respond(request, error)


def respond(request: Request, error: errors.SortitorError) -> JSONResponse:
    """The answer that tells an error of ours."""
    status = status_of(error)
    headers = {}
    if status is HTTPStatus.UNAUTHORIZED:
        headers["WWW-Authenticate"] = "Bearer"
    if isinstance(error, errors.SlowDown | errors.Busy):
        headers["Retry-After"] = str(error.wait_seconds)
    elif status is HTTPStatus.SERVICE_UNAVAILABLE:
        headers["Retry-After"] = "5"
    preview = (
        Preview.model_validate(error.preview) if isinstance(error, errors.FactsMoved) else None
    )
    fields = [
        ProblemField(pointer=p.pointer, code=p.code, detail=p.detail, suggestion=p.suggestion)
        for p in error.problems
    ]
    return answer(
        request,
        problem_of(status, error.code, error.detail, error.remedy, fields, preview=preview),
        headers,
    )


async def _invalid(request: Request, error: Exception) -> JSONResponse:
    assert isinstance(error, RequestValidationError)
    fields = []
    for fault in error.errors():
        place = [str(part) for part in fault["loc"]]
        pointer = "/" + "/".join(place[1:] if place and place[0] == "body" else place)
        detail = (
            _WORDS[fault["type"]].format(name=place[-1])
            if fault["type"] in _WORDS
            else f"{fault['msg'].removeprefix('Value error, ')}."
        )
        fields.append(ProblemField(pointer=pointer, code=str(fault["type"]), detail=detail))
    detail = (
        f"{fields[0].pointer}: {fields[0].detail}"
        if fields
        else "The request cannot be understood."
    )
    return answer(
        request,
        problem_of(
            HTTPStatus.UNPROCESSABLE_ENTITY,
            "invalid_request",
            detail,
            "Correct the fields named; nothing was changed.",
            fields,
        ),
    )


#: For faults that the models name too tersely.
_WORDS = {
    "extra_forbidden": "There is no field {name!r} here.",
    "missing": "{name!r} is missing.",
    "json_invalid": "The body is not JSON.",
}


_NOTHING = "There is nothing at this address."


async def _http(request: Request, error: Exception) -> JSONResponse:
    assert isinstance(error, HTTPException)
    status = HTTPStatus(error.status_code)
    headers = dict(error.headers or {})
    if status is HTTPStatus.METHOD_NOT_ALLOWED:
        allowed = _methods(request)
        if not allowed:
            status = HTTPStatus.NOT_FOUND
        headers["Allow"] = ", ".join(allowed)
    texts = {
        404: _NOTHING,
        405: f"{request.method} is not possible here.",
        400: "The request's body cannot be read.",
    }
    detail = texts.get(status, error.detail)
    return answer(
        request, problem_of(status, phrase_of(status).lower().replace(" ", "_"), detail), headers
    )


def possible(request: Request) -> Response:
    """Which methods an address knows; 404 where there is none."""
    allowed = _methods(request)
    if not allowed:
        return answer(request, problem_of(HTTPStatus.NOT_FOUND, "not_found", _NOTHING))
    return Response(status_code=204, headers={"Allow": ", ".join([*allowed, "OPTIONS"])})


_METHODS = ("GET", "POST", "PUT", "PATCH", "DELETE")


def _methods(request: Request) -> list[str]:
    """What is possible at an address (RFC 9110 §10.2.1); nothing where only a page of the console
    would be.
    """
    data = request.url.path.startswith(("/api/", "/scim/"))
    routes = [
        route
        for route in request.app.routes
        if not (data and getattr(route, "original_router", None) is console.router)
    ]
    found = [
        method
        for method in _METHODS
        if any(
            route.matches({**request.scope, "method": method})[0] is Match.FULL for route in routes
        )
    ]
    return [*found, "HEAD"] if "GET" in found else found


async def _gone(request: Request, error: Exception) -> Response:
    """Whoever asked has hung up before all was said; nobody hears the answer."""
    return Response(status_code=HTTPStatus.BAD_REQUEST)


async def _unexpected(request: Request, error: Exception) -> JSONResponse:
    log.error("unexpected_error", exc_info=error, path=request.url.path)
    error.add_note(_LOGGED)
    return answer(
        request,
        problem_of(
            HTTPStatus.INTERNAL_SERVER_ERROR,
            "unexpected",
            "Something went wrong that should not; nothing was changed.",
            "Try again; if it stays, give the request id to whoever runs this service.",
        ),
        # The server hears of the error too, and ends the connection: the next request on it would
        # be lost (RFC 9112 §9.6).
        {"Connection": "close"},
    )


def is_new(record: logging.LogRecord) -> bool:
    """Whether a line of the server's own log tells an error that is not in ours already: errors go
    on to the server once they are answered.
    """
    error = record.exc_info[1] if record.exc_info else None
    return _LOGGED not in getattr(error, "__notes__", ())


def install(app: FastAPI) -> None:
    """Let the app answer every error this way."""
    app.add_exception_handler(errors.SortitorError, _ours)
    app.add_exception_handler(RequestValidationError, _invalid)
    app.add_exception_handler(HTTPException, _http)
    app.add_exception_handler(ClientDisconnect, _gone)
    app.add_exception_handler(Exception, _unexpected)
