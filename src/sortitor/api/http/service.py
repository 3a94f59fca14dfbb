"""What the routes are given: the engine, the clock and the bounds, made once at start-up."""

from __future__ import annotations

from dataclasses import dataclass

from sortitor.operations.checkins import CheckIns, Pool
from sortitor.operations.context import Clock, Engine, Limits


@dataclass(slots=True)
class Service:
    """One running service; `check_ins` is there once its pool is open."""

    engine: Engine
    clock: Clock
    limits: Limits
    async_pool: Pool
    max_upload_bytes: int
    secure_cookies: bool = False
    check_ins: CheckIns | None = None
