"""Licence pools."""

from __future__ import annotations

from pydantic import Field

from sortitor.core.licences import PoolState
from sortitor.schemas.base import Answer, Name, Request


class PoolNew(Request):
    """A licence product: seats held, and which devices need one."""

    name: Name
    seats: int = Field(ge=0, le=100_000_000)
    filter: str | None = Field(
        default=None,
        max_length=4_000,
        description="Which devices, in the filter language; null means all.",
    )
    awaited_too: bool = False


class Pool(Answer):
    """A pool with the seats it needs; the count's devices are at /devices?pool=ID."""

    id: int
    revision: int
    name: str
    seats: int
    filter: str | None
    awaited_too: bool
    needed: int
    state: PoolState
    free: int
