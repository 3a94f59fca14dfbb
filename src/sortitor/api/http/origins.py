"""Pages of other origins that may call the interface with a token (Fetch standard, CORS)."""

from __future__ import annotations

from collections.abc import Sequence

from fastapi import FastAPI
from starlette.middleware.cors import CORSMiddleware

_METHODS = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS")
_SENT = (
    "Accept",
    "Authorization",
    "Content-Type",
    "Idempotency-Key",
    "If-Match",
    "If-None-Match",
    "Prefer",
    "X-Request-Id",
)
_READ = (
    "Deprecation",
    "ETag",
    "Idempotent-Replay",
    "Link",
    "Location",
    "Preference-Applied",
    "RateLimit",
    "RateLimit-Policy",
    "Retry-After",
    "Sortitor-Journal-Entry",
    "Sunset",
    "X-Request-Id",
)


def open_to(app: FastAPI, origins: Sequence[str]) -> None:
    """Let pages of these origins call the app. The console's cookie is never for them: they send a
    token.
    """
    app.add_middleware(
        CORSMiddleware,
        allow_origins=origins,
        allow_methods=_METHODS,
        allow_headers=_SENT,
        expose_headers=_READ,
        max_age=3_600,
    )
