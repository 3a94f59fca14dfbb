"""Numbers that take long to count: a reader of a large fleet gets what was counted last, with its
age, and whoever finds it older than a few seconds has it counted again meanwhile.

Of a fleet that is not large, and wherever counting is quick, every reader counts.
"""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import Any

from sortitor import __version__
from sortitor.core.errors import OutOfTime
from sortitor.operations.context import Context, Leash
from sortitor.store import kept_numbers as store
from sortitor.store.kept_numbers import KeptRow

_log = logging.getLogger(__name__)
#: What takes longer is kept, where there are so many devices.
SLOW_SECONDS, LARGE_FLEET = 0.03, 30_000
#: Younger than this is as good as new; older than that is nobody's answer.
_FRESH, _OLD = timedelta(seconds=5), timedelta(minutes=15)
#: Counting again and again takes no more than this part of the time.
_SHARE = 0.1
_STOP_SECONDS = 5


@dataclass(frozen=True, slots=True)
class Counting:
    """How numbers of a family are counted: as plain JSON. `about` is what they depend on beside
    the fleet: of something else they are counted anew at once.
    """

    family: str
    count: Callable[[Context], Any]
    about: str = ""

    @property
    def told(self) -> str:
        """Of what is kept: another version may count otherwise."""
        return f"{__version__} {self.about}"


@dataclass(frozen=True, slots=True)
class Counted:
    """Family → what was counted, the oldest of it so many seconds ago."""

    values: dict[str, Any]
    age_seconds: int

    def __getitem__(self, family: str) -> Any:
        return self.values[family]


def known(ctx: Context, countings: Sequence[Counting]) -> Counted:
    """The numbers of some families."""
    with ctx.glancing() as connection:
        is_large = store.fleet_size(connection) >= LARGE_FLEET
        kept = store.some(connection, [one.family for one in countings]) if is_large else {}
    now, values, age = ctx.clock.wall(), {}, timedelta()
    for one in countings:
        row = kept.get(one.family)
        if row is None or row.about != one.told or now - row.counted_at > _OLD:
            values[one.family] = _count(ctx, one, row) if is_large else one.count(ctx)
            continue
        values[one.family] = row.value
        age = max(age, now - row.counted_at)
        if now - row.counted_at > max(_FRESH, timedelta(seconds=row.seconds / _SHARE)):
            _meanwhile.count(ctx, one, row)
    return Counted(values, round(age.total_seconds()))


def keep_up(ctx: Context, countings: Sequence[Counting]) -> None:
    """Count anew what is kept; by schedule."""
    with ctx.reading() as connection:
        kept = store.some(connection, [one.family for one in countings])
    # A worker that is asked to end counts another time.
    with suppress(OutOfTime):
        for one in countings:
            if one.family in kept:
                _count_alone(ctx, one, kept[one.family])


def _count(
    ctx: Context, counting: Counting, former: KeptRow | None, by: Context | None = None
) -> Any:
    """Count, and keep it where that is slow, in the place of what was kept."""
    started = time.perf_counter()
    value = counting.count(by or ctx)
    seconds = time.perf_counter() - started
    if seconds >= SLOW_SECONDS:
        row = KeptRow(counting.family, counting.told, value, ctx.clock.wall(), seconds)
        with ctx.bookkeeping() as connection:
            store.put(connection, row)
    elif former is not None:
        with ctx.bookkeeping() as connection:
            store.let_go(connection, counting.family)
    return value


def _count_alone(ctx: Context, counting: Counting, former: KeptRow) -> None:
    """Count unless somebody else is at it."""
    with ctx.bookkeeping() as connection:
        if store.is_alone(connection, counting.family):
            _count(ctx, counting, former, ctx.aside())


class _Meanwhile:
    """What this process counts while its readers have their answers: one after the other, so that
    it takes one core of the database at most.
    """

    def __init__(self) -> None:
        self._wanted: dict[str, tuple[Context, Counting, KeptRow]] = {}
        self._now: str | None = None
        self._is_working = False
        self._lock = threading.Lock()
        self._leash, self._thread = Leash(None), threading.Thread()

    def stop(self) -> None:
        """Count no more, and wait for what is being counted to let its connections go."""
        with self._lock:
            self._wanted.clear()
            leash, self._leash = self._leash, Leash(None)
            thread = self._thread
        leash.end()
        if thread.is_alive():
            thread.join(_STOP_SECONDS)

    def count(self, ctx: Context, counting: Counting, former: KeptRow) -> None:
        """Have it counted in a thread of its own."""
        alone = replace(ctx, leash=self._leash, claim=None, request_id=None)
        with self._lock:
            if counting.family != self._now:
                self._wanted.setdefault(counting.family, (alone, counting, former))
            if self._is_working or not self._wanted:
                return
            self._is_working = True
            self._thread = threading.Thread(target=self._work, daemon=True)
            self._thread.start()

    def _work(self) -> None:
        while wanted := self._next():
            ctx, counting, former = wanted
            try:
                with suppress(OutOfTime):
                    _count_alone(ctx, counting, former)
            except Exception as error:  # noqa: BLE001 - the next reader asks again
                _log.warning("numbers_not_counted family=%s error=%s", counting.family, error)

    def _next(self) -> tuple[Context, Counting, KeptRow] | None:
        with self._lock:
            self._now = next(iter(self._wanted), None)
            self._is_working = self._now is not None
            return None if self._now is None else self._wanted.pop(self._now)


_meanwhile = _Meanwhile()


def stop() -> None:
    """Count nothing more meanwhile: the process ends."""
    _meanwhile.stop()
