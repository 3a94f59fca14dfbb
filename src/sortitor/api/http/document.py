"""The OpenAPI document, so that it says what the service does: every error is a problem (RFC 9457)
of its own media type.
"""

from __future__ import annotations

from typing import Any

from fastapi import FastAPI

_PROBLEM = {
    "application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}},
}
_ERRORS = {
    "4XX": "What went wrong, and what to do",
    "503": "Not at the moment; `Retry-After` says when to try again",
}


def install(app: FastAPI) -> None:
    """Let the app give the document as it is put right here."""
    made = app.openapi

    def document() -> dict[str, Any]:
        if app.openapi_schema is None:
            app.openapi_schema = _put_right(made())
        return app.openapi_schema

    app.openapi = document  # type: ignore[method-assign]


def _put_right(document: dict[str, Any]) -> dict[str, Any]:
    for path in document["paths"].values():
        for operation in path.values():
            answers = operation["responses"]
            for status in [one for one in answers if one.startswith("4")]:
                del answers[status]
            for status, words in _ERRORS.items():
                answers[status] = {"description": words, "content": _PROBLEM}
    for name in ("HTTPValidationError", "ValidationError"):
        document["components"]["schemas"].pop(name, None)
    return document
