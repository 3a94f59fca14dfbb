"""Which devices a request means."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, StringConstraints

from sortitor.schemas.base import Request


class Selection(Request):
    """Which devices: all that is said must hold; an empty list says nothing."""

    ids: list[int] = Field(default=[], max_length=10_000)
    identifiers: list[Annotated[str, StringConstraints(max_length=10_000)]] = Field(
        default=[], max_length=10_000, description="Of any kind, as they are written."
    )
    person_id: int | None = None
    cohort_id: int | None = None
    lot_id: int | None = Field(default=None, description="What this lot added or changed.")
    query: str | None = Field(
        default=None,
        max_length=200,
        description="Serial, its last characters, IMEI, name, person, asset tag.",
    )
    filter: str | None = Field(
        default=None,
        max_length=4_000,
        description=(
            'In the filter language (RFC 7644 §3.4.2.2), such as `site sw "Quill" and idleDays ge'
            " 90`."
        ),
    )
