"""The registry by HTTP: what servers ask (`/v1`), the office where resellers deliver (`/office`),
and its page.
"""

from __future__ import annotations

import html
import random
import time
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from typing import Annotated, Any, Literal
from urllib.parse import parse_qs

from fastapi import FastAPI, Header, Query, Request
from fastapi.responses import HTMLResponse, JSONResponse, PlainTextResponse, Response
from pydantic import BaseModel, ConfigDict, Field

from sortitor.stand_ins.registry.shelf import Refused, Shelf

_MOST_PAGE = 5_000


class Faults(BaseModel):
    """What goes wrong on command: shares of requests from 0 to 1, seconds to wait, minutes by which
    the clock is off.
    """

    model_config = ConfigDict(extra="forbid")

    busy: float = Field(default=0, ge=0, le=1, description="Answers 429.")
    retry_after: float = Field(default=1, ge=0, description="Seconds it asks to wait then.")
    fails: float = Field(default=0, ge=0, le=1, description="Answers 500.")
    cut: float = Field(default=0, ge=0, le=1, description="Ends in the middle of a page.")
    slow_seconds: float = Field(default=0, ge=0, le=120)
    skew_minutes: float = Field(default=0, description="How far its clock is before ours.")


class Order(BaseModel):
    """What a reseller delivers."""

    reseller: str
    order: str
    devices: list[dict[str, Any]]
    added_at: str | None = None


class Act(BaseModel):
    """What a server wants done with devices."""

    act: Literal["assign", "unassign", "release", "set-sheet", "clear-sheet", "bring-in"]
    devices: list[str] = []
    reseller: str | None = None
    sheet: dict[str, Any] | None = None
    digest: str | None = None
    trying: bool = False


class NewServer(BaseModel):
    """A customer's server."""

    name: str


def make_registry(shelf: Shelf, seed: int | None = None) -> FastAPI:
    """The application over a registry's books; `seed` makes its faults the same every time."""
    app = FastAPI(title=f"{shelf.name} registry", docs_url=None, redoc_url=None)
    app.state.faults = Faults()
    chance = random.Random(seed)

    @app.exception_handler(Refused)
    async def refused(_: Request, error: Refused) -> JSONResponse:
        return JSONResponse({"code": error.code, "detail": error.detail}, error.status)

    @app.middleware("http")
    async def with_faults(request: Request, forward: Any) -> Response:
        faults: Faults = app.state.faults
        if not request.url.path.startswith("/v1"):
            return await forward(request)  # type: ignore[no-any-return]
        if faults.slow_seconds:
            time.sleep(faults.slow_seconds)
        if chance.random() < faults.busy:
            busy = {"code": "busy", "detail": "too many requests"}
            return JSONResponse(busy, 429, {"Retry-After": f"{faults.retry_after:g}"})
        if chance.random() < faults.fails:
            return JSONResponse({"code": "broken", "detail": "this page fails"}, 500)
        answer: Response = await forward(request)
        moment = datetime.now(UTC) + timedelta(minutes=faults.skew_minutes)
        answer.headers["Date"] = format_datetime(moment, usegmt=True)
        if chance.random() < faults.cut:
            # Half of a page under a length that promises all of it.
            return PlainTextResponse(
                '{"devices": [{"id": "R0',
                media_type="application/json",
                headers={"Content-Length": "100000"},
            )
        return answer

    _server_side(app, shelf)
    _office(app, shelf)
    return app


Authorization = Annotated[str, Header()]


def _server_side(app: FastAPI, shelf: Shelf) -> None:
    def server_of(authorization: str) -> Any:
        scheme, _, token = authorization.partition(" ")
        if scheme.lower() != "bearer":
            raise Refused(401, "no_token", "a bearer token is wanted")
        return shelf.server_of(token)

    @app.get("/v1/devices")
    def devices(
        authorization: Authorization = "",
        cursor: str | None = None,
        limit: Annotated[int, Query(ge=1, le=_MOST_PAGE)] = 1_000,
    ) -> dict[str, Any]:
        told, following, more = shelf.page(server_of(authorization), cursor, limit)
        return {"devices": told, "next": following, "more": more}

    @app.get("/v1/find")
    def find(
        query: str,
        authorization: Authorization = "",
        limit: Annotated[int, Query(ge=1, le=500)] = 100,
    ) -> dict[str, Any]:
        server_of(authorization)
        return {
            "devices": [
                {**held.told(held.server or ""), "assigned_to": held.server}
                for held in shelf.find(query, limit)
            ]
        }

    @app.post("/v1/acts")
    def acts(given: Act, authorization: Authorization = "") -> dict[str, Any]:
        done, refused = shelf.act(
            server_of(authorization),
            given.act,
            given.devices,
            given.reseller,
            given.sheet,
            given.digest,
            given.trying,
        )
        return {"done": done, "refused": refused}


def _office(app: FastAPI, shelf: Shelf) -> None:
    @app.post("/office/servers")
    def add_server(given: NewServer) -> dict[str, str]:
        return {"name": shelf.add_server(given.name).name}

    @app.post("/office/servers/{name}/token", response_class=PlainTextResponse)
    async def make_token(name: str, request: Request, days: float = 365) -> str:
        return shelf.make_token(name, await request.body(), days)

    @app.post("/office/orders")
    def deliver(given: Order) -> dict[str, int]:
        added = given.added_at or shelf.now().isoformat(timespec="seconds")
        return {"added": shelf.deliver(given.reseller, given.order, given.devices, added)}

    @app.put("/office/faults")
    def set_faults(given: Faults) -> Faults:
        app.state.faults = given
        return given

    @app.post("/office/lapse")
    def lapse() -> dict[str, str]:
        shelf.lapse()
        return {"cursors": "lapsed"}

    @app.get("/", response_class=HTMLResponse)
    def page() -> str:
        return _page(shelf)

    @app.post("/token", response_class=PlainTextResponse)
    async def token_by_form(request: Request) -> Response:
        form = parse_qs((await request.body()).decode(errors="replace"))
        server, certificate = (form.get(name, [""])[0] for name in ("server", "certificate"))
        text = shelf.make_token(server, certificate.encode())
        return PlainTextResponse(
            text, headers={"Content-Disposition": 'attachment; filename="token.txt"'}
        )


_PAGE = """<!doctype html><html lang="en"><meta charset="utf-8"><title>{name} registry</title>
<style>body{{font:16px/1.5 system-ui,sans-serif;max-width:60rem;margin:2rem auto;padding:0 1rem;
color:#1d2a30}}table{{border-collapse:collapse;width:100%}}td,th{{text-align:left;
padding:.3rem .6rem;border-bottom:1px solid #c9d3d8}}textarea{{width:100%;
font:13px/1.4 monospace}}button{{padding:.4rem 1rem}}
.n{{text-align:right;font-variant-numeric:tabular-nums}}</style>
<h1>{name} registry</h1><p>Every device that {name} sold, and the server it is assigned to.
This is a stand-in that ships with Sortitor.</p>
<h2>Servers</h2><table><tr><th>Server<th>Token until<th>Takes from<th class=n>Devices</tr>{servers}
</table>
<h2>Orders</h2><table><tr><th>Reseller<th>Order<th class=n>Devices<th class=n>Assigned</tr>{orders}
</table>
<h2>A token for a server</h2><p>Paste the certificate that the server shows. The token is encrypted
for its key and is good for a year; the former one ends at once.</p>
<form method="post" action="/token">
<p><label>Server <select name="server">{options}</select></label>
<p><label>Certificate<br><textarea name="certificate" rows="8" required></textarea></label>
<p><button>Make the token</button></form></html>"""


def _page(shelf: Shelf) -> str:
    by_order: dict[tuple[str, str], list[int]] = {}
    by_server: dict[str, int] = {}
    for held in shelf.all():
        line = by_order.setdefault((held.reseller, held.order or ""), [0, 0])
        line[0] += 1
        if held.server:
            line[1] += 1
            by_server[held.server] = by_server.get(held.server, 0) + 1
    servers = "".join(
        f"<tr><td>{html.escape(one.name)}<td>{html.escape(one.token_ends_at[:10] or 'none yet')}"
        f"<td>{html.escape(', '.join(one.takes_from) or 'nobody')}"
        f"<td class=n>{by_server.get(one.name, 0):,}</tr>"
        for one in shelf.servers.values()
    )
    orders = "".join(
        f"<tr><td>{html.escape(reseller)}<td>{html.escape(order)}<td class=n>{total:,}"
        f"<td class=n>{assigned:,}</tr>"
        for (reseller, order), (total, assigned) in sorted(by_order.items())
    )
    options = "".join(f"<option>{html.escape(name)}</option>" for name in shelf.servers)
    return _PAGE.format(
        name=html.escape(shelf.name), servers=servers, orders=orders, options=options
    )
