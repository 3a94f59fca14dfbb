"""The web console's built files, with a strict content security policy."""

from __future__ import annotations

import secrets
from html import escape
from mimetypes import guess_type
from os import PathLike, fspath, stat, stat_result
from pathlib import Path

from fastapi import APIRouter, FastAPI, Request, Response
from fastapi.responses import HTMLResponse
from starlette.datastructures import Headers
from starlette.exceptions import HTTPException
from starlette.staticfiles import StaticFiles
from starlette.types import Scope

from sortitor.api.http.access import COOKIE, service_of
from sortitor.api.http.negotiation import accepted_codings

STATIC = Path(__file__).parents[1] / "static"
_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-{nonce}'; img-src 'self' data:;"
    " font-src 'self'; connect-src 'self'; manifest-src 'self'; base-uri 'none'; form-action"
    " 'self'; frame-ancestors 'none'; object-src 'none'"
)
_MISSING = (
    "<!doctype html><title>Sortitor</title><p>The console is not built. Run <code>make"
    " console</code>; the HTTP interface is at <code>/api/v1</code>."
)

#: The pages of the console by the first part of their address, as its router has them.
PAGES = frozenset(
    {
        "",
        "account",
        "arrivals",
        "cohorts",
        "devices",
        "ends",
        "gate",
        "groups",
        "items",
        "journal",
        "kits",
        "levels",
        "licences",
        "lots",
        "names",
        "orders",
        "passes",
        "people",
        "sign-in",
        "sources",
        "sweeps",
        "today",
        "welcome",
    }
)

#: What every page of somebody who has signed in reads first.
_READ_FIRST = ("session", "vocabulary")

router = APIRouter(include_in_schema=False)


#: How the build packed its files, the smallest first (RFC 9110 §8.4.1, RFC 7932).
_PACKED = (("br", ".br"), ("gzip", ".gz"))


class Assets(StaticFiles):
    """The built files; their names change with their content, so they may be kept for ever."""

    def file_response(
        self,
        full_path: str | PathLike[str],
        stat_result: stat_result,
        scope: Scope,
        status_code: int = 200,
    ) -> Response:
        """The file, packed as the build left it for whoever takes it so, with how long it may be
        kept.
        """
        taken = accepted_codings(Headers(scope=scope).get("accept-encoding", ""))
        for coding, ending in _PACKED:
            packed = f"{fspath(full_path)}{ending}"
            if coding in taken and Path(packed).is_file():
                response = super().file_response(packed, stat(packed), scope, status_code)
                response.headers["Content-Encoding"] = coding
                media_type = guess_type(full_path)[0] or "application/octet-stream"
                response.headers["Content-Type"] = f"{media_type}; charset=utf-8"
                response.headers["Vary"] = "Accept-Encoding"
                break
        else:
            response = super().file_response(full_path, stat_result, scope, status_code)
        response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
        response.headers["X-Content-Type-Options"] = "nosniff"
        return response


def install(app: FastAPI) -> None:
    """Let the app serve the console."""
    app.mount("/assets", Assets(directory=STATIC / "assets", check_dir=False))
    app.include_router(router)


@router.get("/{path:path}")
def page(request: Request, path: str) -> Response:
    """Every other address is a page of the console, which says so itself where there is none; a
    missing address of the interface is not.
    """
    if path.startswith("api/"):
        # What the address is for is said where it is for anything.
        raise HTTPException(405)
    if "." in path.rsplit("/", 1)[-1]:
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
    status = 200 if path.split("/", 1)[0] in PAGES else 404
    base = escape(service_of(request).limits.base)
    html = index.read_text().replace("__CSP_NONCE__", nonce).replace("__BASE__", base)
    html = html.replace('"./assets/', f'"{base}/assets/')
    response = HTMLResponse(html, status, headers)
    # Asked for while the scripts are on their way (RFC 8288): a slow line waits for all at once.
    for name in _READ_FIRST if COOKIE in request.cookies else ():
        response.headers.append("Link", f"</api/v1/{name}>; rel=preload; as=fetch; crossorigin")
    return response
