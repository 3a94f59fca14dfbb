"""Signing in without letting strangers take the service's memory, threads or connections.

One password is checked at a time, on a thread that does nothing else. Who fails is slowed down by
name and address together, whether the name is known or not; the right password always gets in.
"""

from __future__ import annotations

import asyncio
import contextvars
import hashlib
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import TypeVar

from sortitor.core.accounts import name_key
from sortitor.core.errors import NotSignedIn, SlowDown
from sortitor.operations import accounts
from sortitor.operations.context import Actor, Context

_FREE_FAILURES = 3
_LONGEST_SECONDS = 8.0
_MOST_WAITING = 60
_MOST_OF_ONE = 5
_REMEMBERED = 20_000
_hashing = ThreadPoolExecutor(1, "passwords")
T = TypeVar("T")


@dataclass
class _Tries:
    failures: int = 0
    waiting: int = 0
    lock: asyncio.Lock = field(default_factory=asyncio.Lock)


@dataclass
class SignIns:
    """The sign-ins of one process."""

    _tries: OrderedDict[str, _Tries] = field(default_factory=OrderedDict)
    _waiting: int = 0

    async def attempt(
        self, ctx: Context, name: str, password: str, address: str
    ) -> tuple[Actor, str]:
        """The account and a new session's secret. Raises NotSignedIn, or SlowDown when too many
        try at once.
        """
        tries = self._of(name, address)
        if self._waiting >= _MOST_WAITING or tries.waiting >= _MOST_OF_ONE:
            raise SlowDown(5, "Too many sign-ins at once.")
        self._waiting += 1
        tries.waiting += 1
        try:
            async with tries.lock:
                await asyncio.sleep(_delay(tries.failures))
                return await self._checked(ctx, name, password, address, tries)
        finally:
            self._waiting -= 1
            tries.waiting -= 1

    async def _checked(
        self, ctx: Context, name: str, password: str, address: str, tries: _Tries
    ) -> tuple[Actor, str]:
        try:
            found = await on_the_hashing_thread(
                lambda: accounts.sign_in(ctx, name, password, address, tries.failures)
            )
        except NotSignedIn:
            tries.failures += 1
            raise
        tries.failures = 0
        return found

    def _of(self, name: str, address: str) -> _Tries:
        key = hashlib.sha256(f"{name_key(name)}\0{address}".encode()).hexdigest()
        tries = self._tries.setdefault(key, _Tries())
        self._tries.move_to_end(key)
        if len(self._tries) > _REMEMBERED:
            self._tries.popitem(last=False)
        return tries


async def on_the_hashing_thread(act: Callable[[], T]) -> T:
    """What the act returns, done after those that came before it."""
    context = contextvars.copy_context()
    return await asyncio.get_running_loop().run_in_executor(_hashing, context.run, act)


def _delay(failures: int) -> float:
    if failures < _FREE_FAILURES:
        return 0.0
    return min(0.5 * 2.0 ** min(failures - _FREE_FAILURES, 10), _LONGEST_SECONDS)
