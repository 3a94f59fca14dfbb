"""Check-ins of devices: by a relay, or singly, of which those that come meanwhile go together."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime

from sortitor.core.errors import Unavailable
from sortitor.core.lifecycle import Sighting
from sortitor.operations.context import Clock
from sortitor.store import checkins as store
from sortitor.store.checkins import Pool as Pool
from sortitor.store.checkins import SeenRow

#: So many are written at once, in so many batches at a time.
_BATCH, _AT_ONCE = 1_000, 2

Seen = SeenRow | None


@dataclass(slots=True)
class CheckIns:
    """Writes check-ins; a caller is answered only after its batch is committed."""

    pool: Pool
    clock: Clock
    _waiting: list[tuple[Sighting, asyncio.Future[Seen]]] = field(default_factory=list)
    _soon: asyncio.Handle | None = None
    _running: set[asyncio.Task[None]] = field(default_factory=set)

    async def many(self, batch: Sequence[Sighting]) -> list[Seen]:
        """A relay's check-ins in one transaction; a time to come is taken as now."""
        return await store.write(self.pool, batch, self.clock.now())

    async def one(self, check_in: Sighting) -> Seen:
        """One check-in, written at once, or with the others that wait for a batch to be done."""
        loop = asyncio.get_running_loop()
        answer: asyncio.Future[Seen] = loop.create_future()
        self._waiting.append((check_in, answer))
        if self._soon is None:
            # Those that were read at the same moment go together.
            self._soon = loop.call_soon(self._flush)
        return await answer

    def now(self) -> datetime:
        """The present moment of the business."""
        return self.clock.now()

    def _flush(self) -> None:
        self._soon = None
        if not self._waiting or len(self._running) >= _AT_ONCE:
            return
        batch, self._waiting = self._waiting[:_BATCH], self._waiting[_BATCH:]
        task = asyncio.get_running_loop().create_task(self._write(batch))
        self._running.add(task)
        task.add_done_callback(self._done)

    def _done(self, task: asyncio.Task[None]) -> None:
        self._running.discard(task)
        self._flush()

    async def _write(self, batch: list[tuple[Sighting, asyncio.Future[Seen]]]) -> None:
        try:
            answers = await self.many([check_in for check_in, _ in batch])
        except Exception as error:  # noqa: BLE001 - every caller of the batch must hear it
            await self._fail(batch, error)
            return
        for (_, waiting), answer in zip(batch, answers, strict=True):
            if not waiting.done():
                waiting.set_result(answer)

    async def _fail(
        self, batch: list[tuple[Sighting, asyncio.Future[Seen]]], error: Exception
    ) -> None:
        """One that cannot be written does not take the others along: each is tried by itself, but
        where the database is away.
        """
        if len(batch) > 1 and not isinstance(error, Unavailable):
            for one in batch:
                await self._write([one])
            return
        for _, waiting in batch:
            if not waiting.done():
                waiting.set_exception(error)
