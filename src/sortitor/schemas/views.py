"""Saved views of the device list."""

from __future__ import annotations

from pydantic import Field

from sortitor.schemas.base import Answer, Name, Request, Text


class ViewSettings(Request):
    """A list of devices as somebody likes to see it."""

    filter: str | None = Field(default=None, max_length=4_000)
    columns: list[Text] = Field(default=[], max_length=40)
    sort: str = Field(default="id", max_length=40)
    descending: bool = False


class ViewNew(Request):
    """A view to be kept; of the same name it takes the place of the former."""

    name: Name
    shared: bool = False
    settings: ViewSettings


class View(Answer):
    """A saved view; `mine` may be removed."""

    id: int
    name: str
    shared: bool
    mine: bool
    by: str
    settings: ViewSettings
