"""Entity tags: what was read is what is changed (RFC 9110 §8.8.3, §13.1.1)."""

from __future__ import annotations

from typing import Annotated

from fastapi import Header, Response

from sortitor.core.errors import BadInput

IfMatch = Annotated[str | None, Header(description="The ETag that was read")]


def revision_of(if_match: str | None) -> int | None:
    """The revision in an If-Match header; None without one."""
    text = (if_match or "").strip().removeprefix("W/").strip('"')
    if not text or text == "*":
        return None
    if not text.isdigit():
        raise BadInput(
            "bad_etag", f"{if_match!r} is not an ETag that this service gave.", "Read it again."
        )
    return int(text)


def tag(response: Response, revision: int) -> None:
    """Give the answer the entity tag of this revision."""
    response.headers["ETag"] = f'"{revision}"'
