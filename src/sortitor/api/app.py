"""The FastAPI application: routes, errors, request ids, limits."""

from __future__ import annotations

import importlib
import re
import time
import uuid
from functools import cache, partial
from typing import Any

import structlog
from fastapi import APIRouter, FastAPI
from starlette.routing import BaseRoute
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from sortitor import __version__
from sortitor.api.http import console, document, handbook, origins, problems
from sortitor.api.http.bodies import FILE_BODY, STREAM_BODY, BodyLimit, addresses
from sortitor.api.http.compression import Compression
from sortitor.api.http.guard import Guard
from sortitor.api.http.late import LateRoutes
from sortitor.api.http.measures import Measured
from sortitor.api.http.routes import PREFIX, LateRouter, LoadedFirst
from sortitor.api.http.service import Service
from sortitor.api.routes import health
from sortitor.schemas.base import Problem

_REQUEST_ID = re.compile(r"[A-Za-z0-9._-]{1,64}")
_QUIET = ("/api/v1/agent/check-in", "/healthz", "/assets/", "/handbook/")


def make_app(service: Service, lifespan: Any = None) -> FastAPI:
    """The application of one service."""
    app = FastAPI(
        title="Sortitor",
        version=__version__,
        lifespan=lifespan,
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/v1/openapi.json",
        summary=(
            "Import, declare, admit, name, count and retire devices; every change previewed and"
            " reverted."
        ),
        description=(
            "Times are in UTC (RFC 3339), errors are problems (RFC 9457). What changes something is"
            " previewed first; applying quotes the digest of the preview, and every change is an"
            " entry in the journal, with its way back. The handbook is at `/handbook`."
        ),
        contact={"name": "The people who run this service"},
        license_info={"name": "Apache License 2.0", "identifier": "Apache-2.0"},
        separate_input_output_schemas=False,
    )
    app.state.service = service
    problems.install(app)
    app.router.routes.extend(_routes())
    document.install(app, load_routes)
    handbook.install(app)
    console.install(app)
    app.add_middleware(LoadedFirst, routers=LATE.values())
    app.add_middleware(
        BodyLimit,
        own=cache(partial(_limits_of_files, service)),
        least=min(service.max_upload_bytes, service.limits.max_file_bytes),
        seconds=service.body_seconds,
    )
    app.add_middleware(
        Guard,
        counter=service.counter,
        seconds=service.request_seconds,
        tls=service.tls,
        base=service.limits.base,
    )
    app.add_middleware(Compression)
    if service.origins:
        origins.open_to(app, service.origins)
    app.add_middleware(Measured, measures=service.measures)
    app.add_middleware(_Trace)
    return app


def _limits_of_files(service: Service) -> list[tuple[re.Pattern[str], int]]:
    """The addresses that take files, each with how many bytes."""
    for name in _WITH_FILES:
        LATE[name].load()
    routes = [route for name in _WITH_FILES for route in LATE[name].routes]
    of_body = ((FILE_BODY, service.max_upload_bytes), (STREAM_BODY, service.limits.max_file_bytes))
    return [
        (address, most) for body, most in of_body for address in addresses(PREFIX, routes, body)
    ]


#: The modules of routes, each with the first parts of its addresses. Routes are looked through in
#: their order: what is asked for most comes first.
_SUBJECTS = {
    "agent": ("agent",),
    "devices": ("devices",),
    "ends": ("calendar", "ends", "reminders"),
    "accounts": ("accounts", "session", "sessions", "setup", "tokens"),
    "today": ("today",),
    "people": ("people",),
    "groups": ("groups",),
    "lots": ("lots",),
    "lot_templates": ("lot-templates",),
    "orders": ("orders",),
    "jobs": ("jobs",),
    "cohorts": ("cohorts",),
    "filters": ("filters",),
    "views": ("views",),
    "gate": ("gate",),
    "naming": ("naming",),
    "passes": ("passes",),
    "arrivals": ("arrivals",),
    "terms": ("terms",),
    "mails": ("mails",),
    "licences": ("licences", "pools", "vouchers"),
    "sweeps": ("erasures", "sweep-rules", "sweeps"),
    "holds": ("holds",),
    "kits": (
        "account-trials",
        "catalogue",
        "checklists",
        "cohorts",
        "devices",
        "imagined-kit",
        "item-retries",
        "item-times",
        "items",
        "kit-lints",
        "kit-pushes",
        "kits",
        "own-settings",
        "setup-sheets",
        "sheet-handings",
    ),
    "kept_files": ("files",),
    "sources": ("source-runs", "sources"),
    "levels": ("discrepancies", "levels"),
    "journal": ("journal",),
    "retention": ("retention",),
    "vocabulary": ("vocabulary",),
    "welcome": ("welcome-card",),
}
#: Those that take files.
_WITH_FILES = ("lots", "people", "arrivals", "sources", "kept_files")


def _router_of(name: str) -> APIRouter:
    module = importlib.import_module(f"sortitor.api.routes.{name}")
    router: APIRouter = module.router
    return router


LATE = {name: LateRouter(parts, partial(_router_of, name)) for name, parts in _SUBJECTS.items()}


def load_routes() -> None:
    """Load what is loaded late, but for SCIM: few installations ask for it."""
    for late in LATE.values():
        late.load()
        # A lock is not fair: whoever waits for a module of theirs comes between.
        time.sleep(0.001)


@cache
def _routes() -> list[BaseRoute]:
    """What is asked of any service."""
    errors: dict[int | str, dict[str, Any]] = {
        "4XX": {"model": Problem, "description": "What went wrong, and what to do"}
    }
    api = APIRouter(prefix=PREFIX, responses=errors)
    for late in LATE.values():
        api.include_router(late)
    beside = APIRouter()
    beside.include_router(health.router)
    return [*api.routes, *beside.routes, SCIM]


def _scim() -> APIRouter:
    from sortitor.api.routes import scim  # its models alone take a second

    return scim.router


SCIM = LateRoutes("/scim/v2", _scim)


def loggable(path: str) -> str:
    """The path without the secret that is in it: the code of a pass, which older QR codes carry,
    or that of a calendar's address.
    """
    for begin in ("/welcome/", "/api/v1/calendar/"):
        if path.startswith(begin):
            return f"{begin}…"
    return path


class _Trace:
    """Gives every request an id, in the log and in the answer."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app
        # Bound once, not anew for each request.
        self._log = structlog.get_logger().bind()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        # Ours: the journal keeps it, and nobody may choose what another's request is called.
        request_id = uuid.uuid4().hex
        theirs = dict(scope["headers"]).get(b"x-request-id", b"").decode("latin-1")
        state = scope.setdefault("state", {})
        state["request_id"] = request_id
        started, status = time.perf_counter(), 0

        async def traced(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                message["headers"] = [*message["headers"], (b"x-request-id", request_id.encode())]
            await send(message)

        with structlog.contextvars.bound_contextvars(request_id=request_id):
            await self._app(scope, receive, traced)
            if status >= 500 or not scope["path"].startswith(_QUIET):
                actor, client = state.get("actor"), scope.get("client")
                self._log.info(
                    "request",
                    method=scope["method"],
                    path=loggable(scope["path"]),
                    status=status,
                    account=actor.name if actor else None,
                    client=client[0] if client else None,
                    caller_request_id=theirs if _REQUEST_ID.fullmatch(theirs) else None,
                    milliseconds=round((time.perf_counter() - started) * 1000),
                )
