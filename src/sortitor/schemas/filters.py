"""Filters, for editors."""

from __future__ import annotations

from typing import Any

from pydantic import Field

from sortitor.schemas.base import Answer, Request

FilterText = Field(
    max_length=4_000,
    description=(
        'In the filter language (RFC 7644 §3.4.2.2), such as `site eq "Quillharbour" and platform'
        ' eq "ios"`.'
    ),
)


class FilterGiven(Request):
    """A filter to be read, and which of the devices that fit are counted."""

    filter: str = FilterText
    in_use: bool = Field(
        default=False, description="Count those in use alone, as sweeps and pools do."
    )
    awaited_too: bool = Field(default=False, description="With `in_use`: awaited ones, too.")


class Question(Answer):
    """What a filter probably means that can be read but fits nothing."""

    words: str
    filter: str


class FilterRead(Answer):
    """A filter that can be read: its tree for an editor, and how many devices fit it now."""

    question: Question | None
    tree: dict[str, Any]
    devices: int
    moving: bool


class Attribute(Answer):
    """What a filter can speak of, and how."""

    name: str
    kind: str
    meaning: str
    operators: list[str]
    words: list[str]
    suggests: bool = Field(description="Whether values can be asked for.")
