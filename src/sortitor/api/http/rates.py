"""How often and how much at once: by account where one is known, else by address.

The counts are this process's own. What has been let in before is known by the digest of its
credential, so that a relay or an identity provider is never counted among strangers.
"""

from __future__ import annotations

import asyncio
import hashlib
import ipaddress
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from math import ceil

from cachetools import LRUCache, TTLCache

from sortitor.core.errors import SlowDown

_SECONDS = 60
#: So many callers are known, and so many counted: of more, those who came longest ago begin anew.
_KNOWN = 50_000
_COUNTED = 200_000
_WAIT_SECONDS = 10.0


@dataclass(frozen=True, slots=True)
class Rates:
    """How much one caller may ask for; settings of the same names."""

    account_per_minute: int = 30_000
    stranger_per_minute: int = 600
    failures_per_minute: int = 120
    sign_ins_per_minute: int = 30
    at_once: int = 12


@dataclass(slots=True)
class Caller:
    """Who a request seems to come from: an address, and the digest of what it shows."""

    address: str
    credential: str | None

    @property
    def key(self) -> str:
        """By what it is counted."""
        return self.credential or self.address


@dataclass(slots=True)
class Allowance:
    """What a caller has left, as the headers of every answer say it."""

    what: str
    most: int
    left: int
    seconds: int

    def headers(self) -> list[tuple[bytes, bytes]]:
        """What is left of how much (IETF draft-ietf-httpapi-ratelimit-headers)."""
        left = f'"{self.what}";r={self.left};t={self.seconds}'
        policy = f'"{self.what}";q={self.most};w={_SECONDS}'
        return [(b"ratelimit", left.encode()), (b"ratelimit-policy", policy.encode())]


@dataclass(slots=True)
class _Minute:
    """What one caller has done since the first of it; `over` is when it begins anew."""

    over: float
    done: int = 0


@dataclass
class Counter:
    """The counts of this process, all of them from its event loop."""

    rates: Rates
    _minutes: TTLCache[tuple[str, str], _Minute] = field(
        default_factory=lambda: TTLCache(_COUNTED, _SECONDS)
    )
    _known: LRUCache[str, bool] = field(default_factory=lambda: LRUCache(_KNOWN))
    _slots: dict[str, tuple[asyncio.Semaphore, int]] = field(default_factory=dict)

    def is_known(self, caller: Caller) -> bool:
        """Whether what the caller shows was good before."""
        return caller.credential is not None and self._known.get(caller.credential, False)

    def remember(self, caller: Caller) -> None:
        """What the caller showed was good."""
        if caller.credential is not None:
            self._known[caller.credential] = True

    def forget(self, caller: Caller) -> None:
        """What the caller showed is good no more."""
        if caller.credential is not None:
            self._known.pop(caller.credential, None)

    def count(self, what: str, key: str, per_minute: int) -> None:
        """Count one. Raises SlowDown beyond the rate."""
        self.require_room(what, key, per_minute)
        begun = self._minutes.get((what, key))
        if begun is None:
            begun = self._minutes[what, key] = _Minute(time.monotonic() + _SECONDS)
        begun.done += 1

    def require_room(self, what: str, key: str, per_minute: int) -> Allowance:
        """Raise SlowDown where the rate is reached, without counting."""
        allowance = self.allowance(what, key, per_minute)
        if allowance.left < 1:
            raise _slow_down(allowance)
        return allowance

    def allowance(self, what: str, key: str, per_minute: int) -> Allowance:
        """What is left of a rate."""
        begun = self._minutes.get((what, key))
        if begun is None:
            return Allowance(what, per_minute, per_minute, _SECONDS)
        left = max(per_minute - begun.done, 0)
        return Allowance(what, per_minute, left, max(ceil(begun.over - time.monotonic()), 1))

    async def _take(self, places: asyncio.Semaphore) -> None:
        if not places.locked():
            await places.acquire()
            return
        try:
            async with asyncio.timeout(_WAIT_SECONDS):
                await places.acquire()
        except TimeoutError:
            raise SlowDown(
                5,
                f"More than {self.rates.at_once} requests at once.",
                "Wait for the answers of those that are running.",
            ) from None

    @asynccontextmanager
    async def slot(self, key: str) -> AsyncIterator[None]:
        """One of the places that a caller has at once. Raises SlowDown when none becomes free."""
        places, users = self._slots.get(key) or (asyncio.Semaphore(self.rates.at_once), 0)
        self._slots[key] = (places, users + 1)
        try:
            await self._take(places)
            try:
                yield
            finally:
                places.release()
        finally:
            places, users = self._slots[key]
            if users == 1:
                del self._slots[key]
            else:
                self._slots[key] = (places, users - 1)


def _slow_down(reached: Allowance) -> SlowDown:
    return SlowDown(
        reached.seconds,
        f"More than {reached.most:,} {reached.what} in a minute.",
        "Whoever runs this service can set another rate.",
    )


def caller_of(address: str, authorization: bytes, cookie: bytes) -> Caller:
    """Who a request seems to come from. An IPv6 network of 64 bits is one address."""
    shown = authorization or cookie
    return Caller(_network(address), hashlib.sha256(shown).hexdigest() if shown else None)


def _network(address: str) -> str:
    try:
        found = ipaddress.ip_address(address)
    except ValueError:
        return address
    if found.version == 4:
        return address
    return str(ipaddress.ip_network((found, 64), strict=False).network_address)
