"""Entity tags: what was read is what is changed (RFC 9110 §8.8.3, §13.1.1)."""

from __future__ import annotations

from typing import Annotated

from fastapi import Header, Response

from sortitor.api.http.negotiation import COMPRESSED_TAG
from sortitor.core.errors import BadInput, Unread
from sortitor.core.numerals import number_in

IfMatch = Annotated[str | None, Header(description="The ETag that was read")]


def version_in(if_match: str | None) -> str | None:
    """The version in an If-Match header; None without one, or for any."""
    text = (if_match or "").strip().replace(COMPRESSED_TAG, '"').removeprefix("W/").strip('"')
    return text if text not in ("", "*") else None


def revision_of(if_match: str | None) -> int | None:
    """The revision in an If-Match header; None without one."""
    text = version_in(if_match)
    if text is None:
        return None
    revision = number_in(text)
    if revision is None:
        raise BadInput(
            "bad_etag", f"{if_match!r} is not an ETag that this service gave.", "Read it again."
        )
    return revision


def edited(if_match: str | None, digest: str | None, what: str) -> int | None:
    """The revision that an edit was made from; None for any, or where a digest covers it. Raises
    Unread for an edit that says neither, which would take another's change back unseen.
    """
    if not (if_match or "").strip() and digest is None:
        raise Unread(what)
    return revision_of(if_match)


def tag(response: Response, revision: int | str) -> None:
    """Give the answer the entity tag of this revision."""
    response.headers["ETag"] = f'"{revision}"'
