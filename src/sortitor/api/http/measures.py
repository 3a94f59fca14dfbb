"""What this process has done, for whoever watches it: requests by route and status, and itself."""

from __future__ import annotations

import time

from prometheus_client import (
    CollectorRegistry,
    Counter,
    GCCollector,
    Histogram,
    Info,
    PlatformCollector,
    ProcessCollector,
)
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from sortitor import __version__

#: A check-in takes milliseconds, a preview of the whole fleet seconds.
_BUCKETS = (0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30, 60)
_NO_ROUTE = "other"


class Measures:
    """The measures of one process."""

    def __init__(self) -> None:
        self.registry = CollectorRegistry()
        ProcessCollector(registry=self.registry)
        PlatformCollector(registry=self.registry)
        GCCollector(registry=self.registry)
        Info("sortitor_build", "Which version runs", registry=self.registry).info(
            {"version": __version__}
        )
        self._requests = Counter(
            "sortitor_http_requests",
            "Requests by method, route and status",
            ["method", "route", "status"],
            registry=self.registry,
        )
        self._seconds = Histogram(
            "sortitor_http_request_duration_seconds",
            "How long requests took, by method and route",
            ["method", "route"],
            buckets=_BUCKETS,
            registry=self.registry,
        )

    def count(self, method: str, route: str, status: int, seconds: float) -> None:
        """A request that was answered."""
        self._requests.labels(method, route, str(status)).inc()
        self._seconds.labels(method, route).observe(seconds)


class Measured:
    """Counts what passes through it."""

    def __init__(self, app: ASGIApp, measures: Measures) -> None:
        self._app, self._measures = app, measures

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        began, status = time.perf_counter(), 0

        async def heard(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
            await send(message)

        try:
            await self._app(scope, receive, heard)
        finally:
            method = scope["method"] if scope["method"] in _METHODS else _NO_ROUTE
            self._measures.count(method, _route_of(scope), status, time.perf_counter() - began)


#: What is served beside the interface, as one each.
_PARTS = ("/assets", "/handbook", "/healthz", "/metrics", "/readyz", "/scim")
_METHODS = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS")


def _route_of(scope: Scope) -> str:
    """The address as the interface describes it: one series a route, however many things it has."""
    found: str | None = scope.get("state", {}).get("route")
    if found is not None:
        return found
    first = "/" + scope["path"].split("/", 2)[1]
    return first if first in _PARTS else _NO_ROUTE
