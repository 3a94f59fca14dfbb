"""Sources and levels: a registry run against COPY of the same rows, the comparison of four rosters
against one chain of joins by hand, near misses, and a directory in which nothing has changed.
"""

from __future__ import annotations

import os
import random
import tempfile
import time
from contextlib import ExitStack
from datetime import UTC, datetime
from pathlib import Path

import polars as pl
import psycopg

from bench.figures import Figure
from sortitor.core.levels import near_misses
from sortitor.core.rosters import Told, devices_of
from sortitor.core.sources import Source
from sortitor.core.vocabulary import Role, SecretKind, SourceKind
from sortitor.operations import levels
from sortitor.operations.context import Actor, Clock, Context, Limits
from sortitor.operations.sources import runs
from sortitor.operations.sources.documents import SOURCES
from sortitor.operations.sources.ports import Asked
from sortitor.server.postgres import Cluster
from sortitor.sources import ldap
from sortitor.sources.network import networks_of
from sortitor.stand_ins import directory as stand_in
from sortitor.store import schema
from sortitor.store.engine import make_engine

ROWS = int(os.environ.get("SORTITOR_BENCH_DEVICES", "1000000"))
PEOPLE = 20_000
ROSTERS = 4

_BY_HAND = """
SELECT (d.id IS NOT NULL)::int + 2 * (a.key IS NOT NULL)::int + 4 * (b.key IS NOT NULL)::int
    + 8 * (c.key IS NOT NULL)::int + 16 * (e.key IS NOT NULL)::int AS mask, count(*)
FROM (SELECT d.id, i.value AS serial FROM devices d JOIN identifiers i ON i.device_id = d.id
        AND i.kind = 'serial') d
FULL JOIN (SELECT * FROM roster_devices WHERE source_id = %(one)s) a USING (serial)
FULL JOIN (SELECT * FROM roster_devices WHERE source_id = %(two)s) b USING (serial)
FULL JOIN (SELECT * FROM roster_devices WHERE source_id = %(three)s) c USING (serial)
FULL JOIN (SELECT * FROM roster_devices WHERE source_id = %(four)s) e USING (serial)
GROUP BY 1
"""


def measure(cluster: Cluster) -> list[Figure]:
    """Every figure of the chapter."""
    url = cluster.start("bench_sources")
    engine = make_engine(url, 2)
    try:
        schema.upgrade(engine)
        moment = datetime(2026, 1, 19, 9, 0, tzinfo=UTC)
        clock = Clock(lambda: moment, lambda: datetime.now(UTC))
        ctx = Context(engine, clock, Limits(), Actor("bench", Role.COORDINATOR))
        return [*_registry(ctx, url), *_rosters(ctx, url), *_near(), *_directory()]
    finally:
        engine.dispose()


def _lines(share: float, seed: int) -> pl.DataFrame:
    draw = random.Random(seed)
    kept = [n for n in range(ROWS) if draw.random() < share]
    return pl.DataFrame(
        {
            "key": [f"R{n:08d}" for n in kept],
            "serial": [f"KLM{n:08d}" for n in kept],
            "maker": ["Kelmar"] * len(kept),
            "model": ["Deckhand 11"] * len(kept),
            "platform": ["android"] * len(kept),
            "order_name": ["WL-1"] * len(kept),
        }
    )


def _taken(ctx: Context, source: Source, lines: pl.DataFrame) -> float:
    devices, _ = devices_of(lines)
    kept = SOURCES.add(ctx, source)
    started = time.perf_counter()
    with ctx.changing() as connection:
        runs.take_over(ctx, connection, kept, Told(whole=True, devices=devices), unbraked=True)
    return time.perf_counter() - started


def _registry(ctx: Context, url: str) -> list[Figure]:
    source = Source(name="Registry", kind=SourceKind.REGISTRY, address="https://r.example")
    seconds = _taken(ctx, source, _lines(1, 1))
    floor = 0.0
    with psycopg.connect(url) as connection:
        for table in ("devices", "identifiers", "roster_devices"):
            names = ", ".join(
                row[0]
                for row in connection.execute(
                    "SELECT column_name FROM information_schema.columns WHERE table_name = %s"
                    " AND is_generated = 'NEVER'",
                    [table],
                )
            )
            connection.execute(f"CREATE TABLE floor_{table} (LIKE {table} INCLUDING ALL)")
            with connection.cursor().copy(f"COPY {table} ({names}) TO STDOUT") as out:
                content = b"".join(bytes(piece) for piece in out)
            started = time.perf_counter()
            with connection.cursor().copy(f"COPY floor_{table} ({names}) FROM STDIN") as copy:
                copy.write(content)
            connection.commit()
            floor += time.perf_counter() - started
            connection.execute(f"DROP TABLE floor_{table}")
    return [
        Figure(
            f"registry run of {ROWS:,} new devices / COPY of the same rows",
            seconds,
            floor,
            "s",
            "≤ 2",
        )
    ]


def _rosters(ctx: Context, url: str) -> list[Figure]:
    names = ("two", "three", "four")
    for seed, name in enumerate(names):
        _taken(ctx, Source(name=name, kind=SourceKind.ROSTER), _lines(0.98, seed + 2))
    levels.refresh(ctx)
    started = time.perf_counter()
    levels.refresh(ctx)
    seconds = time.perf_counter() - started
    with psycopg.connect(url) as connection:
        connection.execute("SET work_mem = '256MB'")
        connection.execute("ANALYZE")
        ids = [row[0] for row in connection.execute("SELECT id FROM sources ORDER BY id")]
        values = dict(zip(("one", *names), ids, strict=True))
        started = time.perf_counter()
        connection.execute(_BY_HAND, values).fetchall()
        floor = time.perf_counter() - started
    what = f"comparison of {ROSTERS} rosters of {ROWS:,} / one chain of full joins by hand"
    return [Figure(what, seconds, floor, "s", "≤ 2")]


def _near() -> list[Figure]:
    draw = random.Random(7)
    values = [f"K{draw.randrange(10**9):09d}{draw.choice('ABCDEFGH')}" for _ in range(ROWS)]
    unknown = [value.replace("0", "O", 1) for value in values[: ROWS // 10]]
    theirs = pl.DataFrame({"key": [str(n) for n in range(len(unknown))], "value": unknown})
    ours = pl.DataFrame({"device_id": range(ROWS), "value": values})
    started = time.perf_counter()
    near_misses(theirs, ours)
    seconds = time.perf_counter() - started
    return [
        Figure(
            f"near misses of {len(unknown):,} numbers among {ROWS:,}", seconds, None, "s", "< 60"
        )
    ]


def _directory() -> list[Figure]:
    if not stand_in.is_there():
        return []
    people = [stand_in.person(f"p{n}", f"Person {n}", f"p{n}@x.example") for n in range(PEOPLE)]
    ldif = stand_in.ldif_of([*stand_in.top(), *people])
    with ExitStack() as around:
        folder = Path(around.enter_context(tempfile.TemporaryDirectory())) / "slapd"
        directory = around.enter_context(stand_in.running(folder, ldif))
        source = Source(
            name="Directory",
            kind=SourceKind.DIRECTORY,
            address=directory.address,
            authority=directory.authority,
            branches=(stand_in.BASE,),
            bind_name=stand_in.ROOT,
        )
        secrets = {SecretKind.PASSWORD: stand_in.PASSWORD.encode()}
        started = time.perf_counter()
        ldap.read(
            source,
            secrets,
            Asked(whole=True),
            lambda phase, done, total: None,
            networks_of(["127.0.0.0/8"]),
        )
        seconds = time.perf_counter() - started
    return [Figure(f"a directory of {PEOPLE:,} people read whole", seconds, None, "s", "< 10")]
