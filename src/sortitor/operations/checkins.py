"""Check-ins of devices: singly, gathered into batches of two milliseconds, or by a relay."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from psycopg import AsyncConnection, OperationalError
from psycopg.errors import DeadlockDetected
from psycopg_pool import AsyncConnectionPool, PoolTimeout

from sortitor.core.errors import Unavailable
from sortitor.core.lifecycle import Sighting
from sortitor.operations.context import Clock
from sortitor.store import checkins as store

_GATHER_SECONDS = 0.002
_BATCH = 1_000
_TRIES = 3

Seen = tuple[int, str | None, str] | None


@dataclass(slots=True)
class CheckIns:
    """Writes check-ins; a caller is answered only after its batch is committed."""

    pool: AsyncConnectionPool[AsyncConnection[Any]]
    clock: Clock
    _waiting: list[tuple[Sighting, asyncio.Future[Seen]]] = field(default_factory=list)
    _timer: asyncio.TimerHandle | None = None
    _running: set[asyncio.Task[None]] = field(default_factory=set)

    async def many(self, batch: Sequence[Sighting]) -> list[Seen]:
        """A relay's check-ins in one transaction; a time to come is taken as now."""
        now = self.clock.now()
        try:
            for _ in range(_TRIES):
                with contextlib.suppress(DeadlockDetected):
                    return await store.write(self.pool, batch, now)
            return await store.write(self.pool, batch, now)
        except (OperationalError, PoolTimeout) as error:
            raise Unavailable(
                "database_unavailable",
                "The database cannot be reached; nothing was changed.",
                "Try again in a moment.",
            ) from error

    async def one(self, check_in: Sighting) -> Seen:
        """One check-in, written together with those that come within two milliseconds."""
        loop = asyncio.get_running_loop()
        answer: asyncio.Future[Seen] = loop.create_future()
        self._waiting.append((check_in, answer))
        if len(self._waiting) >= _BATCH:
            self._flush()
        elif self._timer is None:
            self._timer = loop.call_later(_GATHER_SECONDS, self._flush)
        return await answer

    def now(self) -> datetime:
        """The present moment of the business."""
        return self.clock.now()

    def _flush(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        batch, self._waiting = self._waiting, []
        task = asyncio.get_running_loop().create_task(self._write(batch))
        self._running.add(task)
        task.add_done_callback(self._running.discard)

    async def _write(self, batch: list[tuple[Sighting, asyncio.Future[Seen]]]) -> None:
        try:
            answers = await self.many([check_in for check_in, _ in batch])
        except Exception as error:  # noqa: BLE001 - whatever it is, every caller of the batch must hear it
            for _, waiting in batch:
                if not waiting.done():
                    waiting.set_exception(error)
            return
        for (_, waiting), answer in zip(batch, answers, strict=True):
            if not waiting.done():
                waiting.set_result(answer)
