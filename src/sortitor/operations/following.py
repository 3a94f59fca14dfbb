"""Following jobs without a thread or a question each: one connection hears of all jobs, and one
look at a job serves everybody who follows it.
"""

from __future__ import annotations

import asyncio
import time
from collections import Counter
from collections.abc import AsyncGenerator, Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from typing import TypeVar

from sortitor.core.errors import SlowDown, SortitorError
from sortitor.store.notices import JOBS, heard

_OF_ONE, _OF_ALL = 10, 200
_QUIET_SECONDS = 0.3
_AGAIN_SECONDS = 2.0
_GLANCE_SECONDS = 1.0
T = TypeVar("T")


@dataclass
class _Watched:
    """What is known of a job; `news` is set whenever something was told of it."""

    news: asyncio.Event = field(default_factory=asyncio.Event)
    lock: asyncio.Lock = field(default_factory=asyncio.Lock)
    looked_at: float = 0.0
    found: object = None
    followers: int = 0


@dataclass
class Following:
    """Everybody of one process who follows jobs."""

    url: str
    _jobs: dict[int, _Watched] = field(default_factory=dict)
    _of: Counter[str] = field(default_factory=Counter)

    async def listen(self) -> None:
        """Hear of jobs until cancelled; a lost connection is made anew, and everybody looks."""
        while True:
            with suppress(SortitorError):
                async for told in heard(self.url, JOBS):
                    number = int(told) if told and told.isdecimal() else None
                    self._tell(number)
            await asyncio.sleep(_AGAIN_SECONDS)

    def _tell(self, number: int | None) -> None:
        found = self._jobs.values() if number is None else [self._jobs.get(number)]
        for watched in found:
            if watched is not None:
                watched.news.set()

    @contextmanager
    def place(self, who: str) -> Iterator[None]:
        """A follower's place. Raises SlowDown when somebody, or all together, have too many."""
        if self._of[who] >= _OF_ONE or self._of.total() >= _OF_ALL:
            raise SlowDown(10, "Too many streams at once.", "Close one of them.")
        self._of[who] += 1
        try:
            yield
        finally:
            self._of[who] -= 1
            if not self._of[who]:
                del self._of[who]

    async def looks(
        self, number: int, look: Callable[[], T], seconds: float
    ) -> AsyncGenerator[T | None]:
        """The job whenever something was told of it, at most every 0.3 seconds; None when nothing
        was told for so many seconds.
        """
        watched = self._jobs.setdefault(number, _Watched())
        watched.followers += 1
        try:
            while True:
                watched.news.clear()
                yield await self._look(watched, look)
                try:
                    await asyncio.wait_for(watched.news.wait(), seconds)
                except TimeoutError:
                    yield None
                else:
                    await asyncio.sleep(_QUIET_SECONDS)
        finally:
            watched.followers -= 1
            if not watched.followers:
                self._jobs.pop(number, None)

    async def _look(self, watched: _Watched, look: Callable[[], T]) -> T:
        """What one look finds, for everybody who asks within the same moment."""
        async with watched.lock:
            if time.monotonic() - watched.looked_at >= _QUIET_SECONDS or watched.found is None:
                watched.found = await asyncio.to_thread(look)
                watched.looked_at = time.monotonic()
            return watched.found  # type: ignore[return-value]


@dataclass
class Glance:
    """One look a second at something that many follow, however many they are."""

    _found: object = None
    _looked_at: float = -_AGAIN_SECONDS
    _lock: asyncio.Lock = field(default_factory=asyncio.Lock)

    async def at(self, look: Callable[[], T]) -> T:
        """What was seen within the last second."""
        async with self._lock:
            if time.monotonic() - self._looked_at >= _GLANCE_SECONDS:
                self._found = await asyncio.to_thread(look)
                self._looked_at = time.monotonic()
            return self._found  # type: ignore[return-value]
