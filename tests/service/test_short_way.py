"""A request that is a JSON body alone is answered the short way, and as it would be the whole."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Any

import pytest
from fastapi import APIRouter, Depends, FastAPI, Header, Request, Response
from fastapi.testclient import TestClient
from pydantic import BaseModel, BeforeValidator, Field

from sortitor.api.http import problems
from sortitor.api.http.routes import Route, Router
from sortitor.api.http.short_way import short_way


class Asked(BaseModel):
    """A body with what strict JSON and a validator of its own make of it."""

    name: Annotated[str, BeforeValidator(lambda value: value.strip())] = Field(max_length=5)
    day: date | None = None
    parts: tuple[int, ...] = ()
    fails: bool = False


class Told(BaseModel):
    """An answer."""

    name: str
    day: date | None
    parts: tuple[int, ...]
    host: str


async def _host(request: Request) -> str:
    return request.url.hostname or ""


Host = Annotated[str, Depends(_host)]


def _add_routes(router: APIRouter) -> None:
    @router.post("/told", status_code=201)
    def tell(request: Request, host: Host, asked: Asked) -> Told:
        if asked.fails:
            return Response("no", 418)  # type: ignore[return-value]
        assert request.method == "POST"
        return Told(name=asked.name, day=asked.day, parts=asked.parts, host=host)

    @router.post("/anything")
    def anything(asked: Asked) -> dict[str, Any]:
        return {"name": asked.name}

    @router.post("/guarded", dependencies=[Depends(_host)])
    def guarded(asked: Asked) -> Told:
        return Told(name=asked.name, day=None, parts=(), host="")

    @router.post("/headed")
    def headed(asked: Asked, x_mark: Annotated[str | None, Header()] = None) -> Told:
        return Told(name=f"{asked.name}{x_mark}", day=None, parts=(), host="")


def _client(router: APIRouter) -> TestClient:
    app = FastAPI()
    problems.install(app)
    _add_routes(router)
    app.include_router(router)
    return TestClient(app)


@pytest.mark.parametrize("path", ["/told", "/anything", "/headed"])
@pytest.mark.parametrize(
    "body",
    [
        {"name": "maud"},
        {"name": " maud ", "day": "2026-11-30", "parts": [1, 2]},
        {"name": "maud", "fails": True},
        {"name": "too long"},
        {"name": "maud", "day": "2026-13-01"},
        {},
    ],
)
def test_both_ways_lead_to_one_answer(path: str, body: dict[str, Any]) -> None:
    headers = {"X-Mark": "!"}
    short = _client(Router()).post(path, json=body, headers=headers)
    whole = _client(APIRouter()).post(path, json=body, headers=headers)
    assert (short.status_code, short.content) == (whole.status_code, whole.content)
    assert short.headers.get("content-type") == whole.headers.get("content-type")


@pytest.mark.parametrize(
    "kind", [None, "", "; a=b", "application/json; charset=utf-8", "text/plain"]
)
def test_what_does_not_say_that_it_is_json_is_none_by_either_way(kind: str | None) -> None:
    """Another site's page may send such a body without asking first."""
    headers = {} if kind is None else {"Content-Type": kind}
    answers = [
        _client(router).post("/told", content=b'{"name": "maud"}', headers=headers)
        for router in (Router(), APIRouter())
    ]
    assert {one.is_success for one in answers} == {kind is not None and "json" in kind}


def test_a_route_that_asks_for_more_goes_the_whole_way() -> None:
    router = Router()
    _add_routes(router)
    goes = {one.path: short_way(one) is not None for one in router.routes if isinstance(one, Route)}
    assert goes == {"/told": True, "/anything": True, "/guarded": False, "/headed": False}
