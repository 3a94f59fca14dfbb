"""Cursor pages, and the same lists as CSV."""

from __future__ import annotations

import base64
import binascii
import csv
import io
import json
from collections.abc import Callable, Sequence
from dataclasses import fields
from datetime import datetime
from typing import Annotated, Any, TypeVar

from fastapi import Path, Query, Request, Response
from pydantic import BaseModel

from sortitor.api.http.negotiation import chosen
from sortitor.core.cells import harmless
from sortitor.core.errors import BadInput
from sortitor.core.json_texts import json_in
from sortitor.schemas.base import Page

#: The largest number that PostgreSQL gives (bigint).
LARGEST = 2**63 - 1
Number = Annotated[int, Path(ge=1, le=LARGEST, description="Its number.")]
Limit = Annotated[int, Query(ge=1, le=500, description="How many at most.")]
Cursor = Annotated[str | None, Query(description="The `next` of the page before.", max_length=1000)]
Item = TypeVar("Item", bound=BaseModel)


def read_cursor(cursor: str | None) -> Any:
    """What a cursor holds; None without one. Raises BadInput for a cursor that is not ours."""
    if not cursor:
        return None
    try:
        return json_in(base64.urlsafe_b64decode(cursor + "=" * (-len(cursor) % 4)))
    except (ValueError, binascii.Error) as error:
        raise BadInput(
            "bad_cursor",
            "The cursor is not one that this service gave.",
            "Start from the first page.",
        ) from error


def read_number(cursor: str | None) -> int | None:
    """The number in the cursor of a list ordered by number."""
    value: int | None = read_cursor(cursor)
    if value is not None and not _is_number(value):
        raise BadInput(
            "bad_cursor", "The cursor belongs to another list.", "Start from the first page."
        )
    return value


def _is_number(value: Any) -> bool:
    return type(value) is int and abs(value) <= LARGEST


def _is_text(value: Any) -> bool:
    """Whether it is one that the database can hold: without NUL, without half of a pair."""
    if not isinstance(value, str) or "\0" in value:
        return False
    return not any("\ud800" <= letter <= "\udfff" for letter in value)


def read_key(cursor: str | None) -> list[Any] | None:
    """The pair (sort value, number) in the cursor of a sorted list."""
    value = read_cursor(cursor)
    if value is not None and not (
        isinstance(value, list)
        and len(value) == 2
        and _is_number(value[1])
        and (_is_number(value[0]) or _is_text(value[0]))
    ):
        raise BadInput(
            "bad_cursor", "The cursor belongs to another list.", "Start from the first page."
        )
    return value


def write_cursor(value: Any) -> str:
    """The cursor that holds a value."""
    text = json.dumps(value, default=lambda v: v.isoformat() if isinstance(v, datetime) else str(v))
    return base64.urlsafe_b64encode(text.encode()).decode().rstrip("=")


def fields_of(row: Any) -> dict[str, Any]:
    """The fields of a row by name, as they are: `dataclasses.asdict` copies all that is in them,
    which takes longer than to read them from the database.
    """
    return {field.name: getattr(row, field.name) for field in fields(row)}


def page(
    request: Request,
    response: Response,
    rows: Sequence[Any],
    limit: int,
    shape: Callable[[Any], Item],
    key: Callable[[Any], Any],
    total: int | None = None,
) -> Page[Item] | Response:
    """A page of up to `limit` of the `limit + 1` rows asked for, with a Link header (RFC 8288); CSV
    where the caller accepts it.
    """
    items = [shape(row) for row in rows[:limit]]
    following = write_cursor(key(rows[limit - 1])) if len(rows) > limit else None
    links = {}
    if following:
        # Relative (RFC 8288 §3.2): what a request calls this host is not to be believed.
        url = request.url.include_query_params(cursor=following)
        links["Link"] = f'<{url.path}?{url.query}>; rel="next"'
        response.headers.update(links)
    if chosen(request, ("text/csv", "application/json")) == "text/csv":
        return Response(as_csv(items), media_type="text/csv; charset=utf-8", headers=links)
    return Page(items=items, next=following, total=total)


def as_csv(items: Sequence[BaseModel]) -> str:
    """Lines of CSV (RFC 4180), one an item; cells that a spreadsheet would run are made harmless by
    an apostrophe.
    """
    if not items:
        return ""
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator="\r\n")
    names = list(type(items[0]).model_fields)
    writer.writerow(names)
    for item in items:
        values = item.model_dump(mode="json")
        writer.writerow([harmless(values[name]) for name in names])
    return buffer.getvalue()
