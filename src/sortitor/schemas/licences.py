"""Licence pools."""

from __future__ import annotations

from pydantic import Field

from sortitor.core.licences import PoolState
from sortitor.core.vocabulary import Ownership, Platform
from sortitor.schemas.base import Answer, Name, Request


class PoolNew(Request):
    """A licence product: seats held, and which devices need one; empty lists mean all."""

    name: Name
    seats: int = Field(ge=0, le=100_000_000)
    platforms: list[Platform] = []
    ownerships: list[Ownership] = []
    awaited_too: bool = False


class Pool(Answer):
    """A pool with the seats it needs; the count's devices are at /devices?pool=ID."""

    id: int
    revision: int
    name: str
    seats: int
    platforms: list[Platform]
    ownerships: list[Ownership]
    awaited_too: bool
    needed: int
    state: PoolState
    free: int
