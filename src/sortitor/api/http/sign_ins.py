"""Signing in without letting strangers take the service's memory, threads or connections.

One password is checked at a time, on a thread that does nothing else; a directory is asked on few
others, so that one which hangs keeps nobody else waiting. Who fails is slowed down by name and
address together, whether the name is known or not; the right password always gets in.
"""

from __future__ import annotations

import asyncio
import contextvars
import hashlib
from collections import OrderedDict
from collections.abc import AsyncIterator, Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from typing import TypeVar

from starlette.concurrency import run_in_threadpool

from sortitor.core.accounts import name_key
from sortitor.core.errors import NotSignedIn, SlowDown
from sortitor.operations import accounts
from sortitor.operations.context import Actor, Context

_FREE_FAILURES = 3
_LONGEST_SECONDS = 8.0
_MOST_WAITING = 60
_MOST_OF_ONE = 5
_REMEMBERED = 20_000
_ASKING_AT_ONCE = 4
_hashing = ThreadPoolExecutor(1, "passwords")
T = TypeVar("T")


@dataclass
class _Tries:
    failures: int = 0
    waiting: int = 0
    lock: asyncio.Lock = field(default_factory=asyncio.Lock)


@dataclass
class SignIns:
    """The sign-ins of one process: to accounts, or at the door."""

    _tries: OrderedDict[str, _Tries] = field(default_factory=OrderedDict)
    _waiting: int = 0
    _asking: ThreadPoolExecutor = field(
        default_factory=lambda: ThreadPoolExecutor(_ASKING_AT_ONCE, "directory")
    )

    async def attempt(
        self, ctx: Context, name: str, password: str, address: str
    ) -> tuple[Actor, str]:
        """The account and a new session's secret. Raises NotSignedIn, or SlowDown when too many
        try at once.
        """
        async with self._turn(name, address) as tries:
            try:
                tried = await on_the_hashing_thread(
                    lambda: accounts.try_password(ctx, name, password)
                )
                if tried.asks is not None:
                    tried = await self._ask(lambda: accounts.ask_directory(ctx, tried, password))
                found = await run_in_threadpool(
                    accounts.open_session, ctx, tried, address, tries.failures
                )
            except NotSignedIn:
                tries.failures += 1
                raise
            tries.failures = 0
            return found

    async def at_the_door(
        self, login: str, address: str, show: Callable[[], tuple[T, bool]]
    ) -> tuple[T, bool]:
        """What comes of showing the directory's password: the answer, and whether it was right."""
        async with self._turn(login, address) as tries:
            answer, right = await self._ask(show)
            tries.failures = 0 if right else tries.failures + 1
            return answer, right

    async def _ask(self, act: Callable[[], T]) -> T:
        return await _on(self._asking, act)

    @asynccontextmanager
    async def _turn(self, name: str, address: str) -> AsyncIterator[_Tries]:
        """The tries of a name from an address, one after the other, once they have waited."""
        tries = self._of(name, address)
        if self._waiting >= _MOST_WAITING or tries.waiting >= _MOST_OF_ONE:
            raise SlowDown(5, "Too many sign-ins at once.")
        self._waiting += 1
        tries.waiting += 1
        try:
            async with tries.lock:
                await asyncio.sleep(_delay(tries.failures))
                yield tries
        finally:
            self._waiting -= 1
            tries.waiting -= 1

    def _of(self, name: str, address: str) -> _Tries:
        key = hashlib.sha256(f"{name_key(name)}\0{address}".encode()).hexdigest()
        tries = self._tries.setdefault(key, _Tries())
        self._tries.move_to_end(key)
        if len(self._tries) > _REMEMBERED:
            self._tries.popitem(last=False)
        return tries


async def on_the_hashing_thread(act: Callable[[], T]) -> T:
    """What the act returns, done after those that came before it."""
    return await _on(_hashing, act)


async def _on(threads: ThreadPoolExecutor, act: Callable[[], T]) -> T:
    context = contextvars.copy_context()
    return await asyncio.get_running_loop().run_in_executor(threads, context.run, act)


def _delay(failures: int) -> float:
    if failures < _FREE_FAILURES:
        return 0.0
    return min(0.5 * 2.0 ** min(failures - _FREE_FAILURES, 10), _LONGEST_SECONDS)
