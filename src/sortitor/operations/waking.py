"""Devices that wait to be woken: thousands in one process without a thread each. One connection
hears of pushes, whichever process makes them.
"""

from __future__ import annotations

import asyncio
from collections import defaultdict
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any

from sortitor.core.errors import SlowDown, SortitorError
from sortitor.store.checkins import Pool, device_of, pushed, pushed_since
from sortitor.store.notices import PUSHES, heard

_MOST = 5_000
_MOST_OF_ONE = 2
_AGAIN_SECONDS = 2.0


@dataclass
class Waking:
    """Everybody of one process who waits, by device."""

    url: str
    pool: Pool
    _waiting: dict[int, set[asyncio.Future[bool]]] = field(default_factory=lambda: defaultdict(set))
    _number: int = 0
    _line_is_up: bool = False

    async def listen(self) -> None:
        """Hear of pushes until cancelled. Whoever waits while the connection is lost is woken once
        it is back: nothing that was told meanwhile is missed.
        """
        while True:
            with suppress(SortitorError):
                async for told in heard(self.url, PUSHES):
                    if told and told.isdecimal():
                        self._wake(await pushed(self.pool, int(told), list(self._waiting)))
                    elif not self._line_is_up:
                        self._line_is_up = True
                        self._wake(list(self._waiting))
            self._line_is_up = False
            await asyncio.sleep(_AGAIN_SECONDS)

    def _wake(self, ids: list[int]) -> None:
        for device_id in ids:
            for waiting in self._waiting.get(device_id, ()):
                if not waiting.done():
                    waiting.set_result(True)

    async def wait(
        self, secret_hash: bytes, seconds: float, left: asyncio.Future[None]
    ) -> bool | None:
        """Whether the device was woken within so many seconds; None: its credential is not good.
        `left` is done when nobody waits any more. Raises SlowDown.
        """
        device_id = await device_of(self.pool, secret_hash)
        if device_id is None:
            return None
        places = self._waiting[device_id]
        if self._number >= _MOST or len(places) >= _MOST_OF_ONE:
            raise SlowDown(60, "Too many devices wait here.", "Check in now and then instead.")
        woken: asyncio.Future[bool] = asyncio.get_running_loop().create_future()
        places.add(woken)
        self._number += 1
        try:
            # Once its place is taken nothing is missed, and what came before is asked for.
            if await pushed_since(self.pool, device_id):
                return True
            either: tuple[asyncio.Future[Any], ...] = (woken, left)
            await asyncio.wait(either, timeout=seconds, return_when=asyncio.FIRST_COMPLETED)
            return woken.done()
        finally:
            woken.cancel()
            places.discard(woken)
            self._number -= 1
            if not places:
                self._waiting.pop(device_id, None)
