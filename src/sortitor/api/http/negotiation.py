"""What a caller accepts, sends and knows already (RFC 9110 §12.5, §8.3, §13.1)."""

from __future__ import annotations

from hashlib import blake2b

import mimeparse
from fastapi import Request, Response
from fastapi._compat import ModelField
from fastapi.params import Body

from sortitor.core.errors import NotAcceptable, Unsupported

#: What a compressed answer's tag ends with: its bytes are others.
COMPRESSED_TAG = '-gzip"'
_ANY = "*/*"


def chosen(request: Request, produced: tuple[str, ...]) -> str:
    """Which of the media types a caller wants most; the last of them where all are alike, empty
    where none is accepted.
    """
    accept = ", ".join(request.headers.getlist("accept")) or _ANY
    if accept == _ANY:
        return produced[-1]
    try:
        found: str = mimeparse.best_match(produced, accept)
    except mimeparse.MimeTypeParseException:
        return produced[-1]
    return found


def require_acceptable(request: Request, produced: tuple[str, ...]) -> None:
    """Raise NotAcceptable where no answer of the route is one that the caller takes."""
    if produced and not chosen(request, produced):
        raise NotAcceptable(
            "not_acceptable",
            f"There is no answer of the kind {request.headers.get('accept', '')[:100]}.",
            f"Accept {' or '.join(reversed(produced))}.",
        )


def sent_kind(request: Request) -> str:
    """The media type that a body says it is of, without parameters; empty where it says none."""
    return request.headers.get("content-type", "").partition(";")[0].strip().lower()


def require_json(request: Request, body: ModelField) -> None:
    """Raise Unsupported for a body that does not say it is JSON, or the kind of JSON it is to
    be.
    """
    sent = sent_kind(request)
    info = body.field_info
    wanted = info.media_type if isinstance(info, Body) else "application/json"
    if sent not in ("", wanted, "application/json"):
        raise Unsupported(
            "unsupported_media_type",
            f"A body of the kind {sent[:100]} is not taken here.",
            f"Send {wanted}.",
        )


def conditional(request: Request, response: Response) -> Response:
    """The answer to a GET with its tag; 304 where it is what the caller knows (RFC 9110
    §13.1.2).
    """
    if response.status_code != 200 or not isinstance(getattr(response, "body", None), bytes):
        return response
    tag = response.headers.get("etag")
    if tag is None:
        digest = blake2b(bytes(response.body), digest_size=12).hexdigest()
        tag = response.headers["ETag"] = f'"{digest}"'
    known = known_as(request.headers.get("if-none-match"), tag)
    return response if known is None else Response(status_code=304, headers={"ETag": known})


def known_as(if_none_match: str | None, tag: str) -> str | None:
    """The tag as the caller has it, however its bytes were packed; None where it is not among those
    that the caller tells. They are compared weakly.
    """
    told = [one.strip().removeprefix("W/") for one in (if_none_match or "").split(",")]
    if "*" in told:
        return tag
    return next((one for one in told if one.replace(COMPRESSED_TAG, '"') == tag), None)


def accepted_codings(accept: str) -> set[str]:
    """The codings of content that a caller takes (RFC 9110 §12.5.3), those with weight 0 left
    out.
    """
    taken = set()
    for part in accept.lower().split(","):
        coding, *parameters = (one.strip() for one in part.split(";"))
        weight = next((one[2:] for one in parameters if one.startswith("q=")), "1")
        if coding and weight.strip("0."):
            taken.add(coding)
    return taken
