"""Numbers for those who run the service, kept ready: a reader never counts the fleet."""

from __future__ import annotations

import json
import threading
from dataclasses import asdict, dataclass
from datetime import timedelta

from sortitor.core.vocabulary import JobState, MailState
from sortitor.operations import licences
from sortitor.operations.context import Context
from sortitor.store import accounts as facts
from sortitor.store import engine, today
from sortitor.store import work as waiting

_FACT = "numbers"
_OLD = timedelta(minutes=5)
_counting = threading.Lock()


@dataclass(frozen=True, slots=True)
class Numbers:
    """Devices by stage, refusals by reason, and `(pool, seats needed, seats)`; `counted_at` is
    seconds since 1970.
    """

    stages: dict[str, int]
    refusals: dict[str, int]
    pools: list[tuple[str, int, int]]
    counted_at: float


def probe(ctx: Context) -> None:
    """Raise Unavailable unless the database answers."""
    engine.probe(ctx.engine)


def numbers(ctx: Context) -> Numbers:
    """The business's numbers as a worker counted them last; where none works, they are counted
    when they are old, by one reader at a time.
    """
    found = _kept(ctx)
    if found is not None and ctx.clock.wall().timestamp() - found.counted_at < _OLD.total_seconds():
        return found
    with _counting:
        again = _kept(ctx)
        if again is not None and again != found:
            return again
        return count(ctx)


@dataclass(frozen=True, slots=True)
class Work:
    """What waits and who works; `queue_age` in seconds, 0 where nothing waits. Connections of the
    pool are this process's.
    """

    jobs: dict[str, int]
    mails: dict[str, int]
    queue_age: float
    workers: int
    database_bytes: int
    connections: int
    pool_in_use: int
    pool_most: int


def work(ctx: Context) -> Work:
    """What waits and who works, now."""
    with ctx.reading() as connection:
        found = waiting.found(connection)
    in_use, most = engine.in_use(ctx.engine)
    told = asdict(found)
    # One that nothing is in is told too: a number that comes and goes cannot be watched.
    told["jobs"] = dict.fromkeys(JobState, 0) | told["jobs"]
    told["mails"] = dict.fromkeys(MailState, 0) | told["mails"]
    return Work(**told, pool_in_use=in_use, pool_most=most)


def count(ctx: Context) -> Numbers:
    """Count, and keep what was counted."""
    pools = []
    for counted in licences.every(ctx):
        pool = counted.kept.document
        pools.append((pool.name, counted.needed, counted.standing.seats))
    with ctx.reading() as connection:
        stages = {row.stage: row.devices for row in today.stages(connection)}
        refusals = today.refusals_by_reason(connection)
    found = Numbers(stages, refusals, pools, ctx.clock.wall().timestamp())
    with ctx.bookkeeping() as connection:
        facts.set_fact(connection, _FACT, json.dumps(asdict(found)))
    return found


def _kept(ctx: Context) -> Numbers | None:
    with ctx.reading() as connection:
        text = facts.fact(connection, _FACT)
    return None if text is None else Numbers(**json.loads(text))
