"""What the routes are given: the engine, the clock and the bounds, made once at start-up."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from psycopg import AsyncConnection
from psycopg_pool import AsyncConnectionPool
from sqlalchemy import Engine

from sortitor.operations.checkins import CheckIns
from sortitor.operations.context import Clock, Limits


@dataclass(slots=True)
class Service:
    """One running service; `check_ins` is there once its pool is open."""

    engine: Engine
    clock: Clock
    limits: Limits
    async_pool: AsyncConnectionPool[AsyncConnection[Any]]
    max_upload_bytes: int
    secure_cookies: bool = False
    check_ins: CheckIns | None = None
