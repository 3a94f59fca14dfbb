"""The built handbook at `/handbook`, for whoever has an account or not: it tells no facts."""

from __future__ import annotations

import re
from base64 import b64encode
from functools import cache
from hashlib import sha256
from pathlib import Path
from typing import Any

from fastapi import FastAPI, Response
from starlette.responses import HTMLResponse
from starlette.staticfiles import StaticFiles

HANDBOOK = Path(__file__).parents[1] / "handbook"
_MISSING = (
    "<!doctype html><title>Sortitor</title><p>The handbook is not built. Run <code>make"
    " docs</code>."
)
_INLINE_SCRIPT = re.compile(rb"<script>(.*?)</script>", re.DOTALL)
_POLICY = (
    "default-src 'none'; script-src 'self' {scripts}; style-src 'self' 'unsafe-inline'; img-src"
    " 'self' data:; font-src 'self'; connect-src 'self'; worker-src 'self'; base-uri 'none';"
    " form-action 'self'; frame-ancestors 'none'; object-src 'none'"
)


class Pages(StaticFiles):
    """The pages, which run their own scripts and no others."""

    def file_response(self, *given: Any, **options: Any) -> Response:
        """The file, with the policy for its scripts."""
        response = super().file_response(*given, **options)
        response.headers["Content-Security-Policy"] = _policy()
        response.headers["Cache-Control"] = "no-cache"
        response.headers["X-Content-Type-Options"] = "nosniff"
        response.headers["Referrer-Policy"] = "no-referrer"
        return response


@cache
def _policy() -> str:
    """Scripts within a page are known by their SHA-256 (CSP Level 3 §6.7.2.3)."""
    found = {
        b64encode(sha256(script).digest()).decode()
        for page in sorted(HANDBOOK.rglob("*.html"))
        for script in _INLINE_SCRIPT.findall(page.read_bytes())
    }
    return _POLICY.format(scripts=" ".join(f"'sha256-{digest}'" for digest in sorted(found)))


def install(app: FastAPI) -> None:
    """Let the app serve the handbook."""
    if HANDBOOK.exists():
        app.mount("/handbook", Pages(directory=HANDBOOK, html=True))
    else:
        app.add_route("/handbook", lambda request: HTMLResponse(_MISSING, 503))
