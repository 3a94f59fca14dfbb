"""Files that are kept for devices."""

from __future__ import annotations

from pydantic import Field

from sortitor.schemas.base import Answer, Time


class KeptFile(Answer):
    """A file that is kept for devices."""

    digest: str = Field(description="Its SHA-256, in hex.")
    name: str = Field(description="What it was called when it was put in.")
    size: int = Field(description="Bytes.")
    at: Time = Field(description="When it was put in.")
    by: str = Field(description="Who did.")
    used_at: Time = Field(description="When an item last named it.")
    items: list[str] = Field(description="The items that name it.")
