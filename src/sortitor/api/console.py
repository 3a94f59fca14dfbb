"""The web console's built files, with a strict content security policy."""

from __future__ import annotations

import secrets
from pathlib import Path

from fastapi import APIRouter, Response
from fastapi.responses import FileResponse, HTMLResponse
from starlette.exceptions import HTTPException

STATIC = Path(__file__).parent / "static"
_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-{nonce}'; img-src 'self' data:;"
    " font-src 'self'; connect-src 'self'; manifest-src 'self'; base-uri 'none'; form-action"
    " 'self'; frame-ancestors 'none'; object-src 'none'"
)
_MISSING = (
    "<!doctype html><title>Sortitor</title><p>The console is not built. Run <code>make"
    " console</code>; the HTTP interface is at <code>/api/v1</code>."
)

router = APIRouter(include_in_schema=False)


@router.get("/assets/{path:path}")
def asset(path: str) -> FileResponse:
    """A built file; its name changes with its content, so it may be kept for ever."""
    file = (STATIC / "assets" / path).resolve()
    if not file.is_relative_to(STATIC.resolve()) or not file.is_file():
        raise HTTPException(404)
    return FileResponse(
        file,
        headers={
            "Cache-Control": "public, max-age=31536000, immutable",
            "X-Content-Type-Options": "nosniff",
        },
    )


@router.get("/{path:path}")
def page(path: str) -> Response:
    """Every other address is a page of the console; a missing address of the interface is not."""
    if path.startswith("api/") or "." in path.rsplit("/", 1)[-1]:
        raise HTTPException(404)
    index = STATIC / "index.html"
    if not index.exists():
        return HTMLResponse(_MISSING, 503)
    nonce = secrets.token_urlsafe(16)
    headers = {
        "Content-Security-Policy": _POLICY.format(nonce=nonce),
        "Cache-Control": "no-store",
        "X-Content-Type-Options": "nosniff",
        "Referrer-Policy": "no-referrer",
        "X-Frame-Options": "DENY",
    }
    return HTMLResponse(index.read_text().replace("__CSP_NONCE__", nonce), headers=headers)
