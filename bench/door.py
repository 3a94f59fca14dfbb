"""The door: knocks a second by eight clients against the bare SQL that writes the same rows, and a
list of 5,000 assignments against the bare UPDATE.
"""

from __future__ import annotations

import asyncio
import csv
import io
import json
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from itertools import count
from pathlib import Path
from statistics import median
from typing import Any

import httpx
import psycopg

from bench.figures import Figure, another, service, timed
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Activation
from sortitor.schemas.passes import PassTerms
from sortitor.server.postgres import Cluster
from sortitor.stand_ins.numbers import completed

CLIENTS = 8
SECONDS = 6.0
WAITING = 5_000
ROUNDS = 5
PHONES = 4_000
UNLIMITED = {"SORTITOR_STRANGER_PER_MINUTE": "1000000"}

# The rows of a knock that is admitted, copied from one that was.
_ROWS = """
WITH device AS (
    INSERT INTO devices (stage, stage_at, platform, os_version, maker, model, ownership,
        ownership_basis, name, name_basis, enrolled_at, created_at)
    SELECT stage, stage_at, platform, os_version, maker, model, ownership, ownership_basis,
        %(name)s, name_basis, enrolled_at, created_at
    FROM devices WHERE id = %(like)s RETURNING id, enrolled_at
), sighting AS (
    INSERT INTO sightings SELECT id, enrolled_at FROM device
), identifier AS (
    INSERT INTO identifiers (device_id, kind, value, maker, given)
    SELECT id, 'serial', %(name)s, 'kelmar', %(name)s FROM device
), entry AS (
    INSERT INTO journal (at, actor, operation, subject, subject_id, summary)
    SELECT now(), 'device', 'device.knock', 'device', id, 'Kelmar Mate 3 admitted' FROM device
    RETURNING id
), effect AS (
    INSERT INTO journal_effects (entry_id, device_id, before, after)
    SELECT entry.id, device.id, e.before, e.after FROM entry, device, journal_effects e
    WHERE e.device_id = %(like)s
), credential AS (
    INSERT INTO credentials (secret_hash, device_id, created_at)
    SELECT sha256(%(name)s::bytea), id, now() FROM device
), arrival AS (
    INSERT INTO arrivals (at, moved_at, decided_at, outcome, device_id, pass_id, stated, reasons,
        trace, facts)
    SELECT a.at, a.moved_at, a.decided_at, a.outcome, device.id, a.pass_id, a.stated, a.reasons,
        a.trace, a.facts FROM arrivals a, device WHERE a.device_id = %(like)s
), used AS (
    UPDATE passes SET uses = uses + 1 WHERE id = 1
)
UPDATE counters SET next_number = next_number + 1
"""


def per_second(act: Callable[[int], None]) -> float:
    """How often a second eight at once do it."""
    numbers = count()
    started = time.perf_counter()

    def one(_: int) -> int:
        done = 0
        while time.perf_counter() - started < SECONDS:
            act(next(numbers))
            done += 1
        return done

    with ThreadPoolExecutor(CLIENTS) as threads:
        done = sum(threads.map(one, range(CLIENTS)))
    return done / (time.perf_counter() - started)


def unknown(prefix: str) -> Callable[[int], dict[str, Any]]:
    """What devices that nobody told of say of themselves, by their number."""
    return lambda number: {"serial": f"{prefix}{number:08}"}


def declared(number: int) -> dict[str, Any]:
    """What a phone of the lot says of itself."""
    return {"serial": f"LOT{number:05}", "imeis": _imeis(number)}


def _imeis(number: int) -> list[str]:
    return [completed(f"3569381{place:07}") for place in (2 * number, 2 * number + 1)]


def declare(s: Sortitor) -> None:
    """A lot of phones, each with two IMEIs."""
    lines = [f"LOT{number:05},{','.join(_imeis(number))}" for number in range(PHONES)]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "phones.csv"
        path.write_text("\n".join(["serial,imei,second imei", *lines]))
        lot = s.lots.check(path, defaults={"platform": "android", "ownership": "corporate"})
        s.lots.apply(lot.id, s.lots.preview(lot.id).digest)


async def knocks(
    urls: Sequence[str], code: str, told: Callable[[int], dict[str, Any]], most: int = sys.maxsize
) -> float:
    """Knocks a second over eight connections to the services in turn, written as they go over the
    wire: no more than so many, of devices that say this of themselves.
    """
    numbers = iter(range(most))
    started = time.perf_counter()
    done = 0

    async def one(url: str) -> None:
        nonlocal done
        host, port = httpx.URL(url).netloc.decode().split(":")
        reader, writer = await asyncio.open_connection(host, port)
        for number in numbers:
            if time.perf_counter() - started >= SECONDS:
                break
            stated = {
                "code": code,
                "platform": "android",
                "os_version": "14",
                "maker": "Kelmar",
                "model": "Mate 3",
                **told(number),
            }
            body = json.dumps(stated).encode()
            writer.write(
                b"POST /api/v1/agent/knock HTTP/1.1\r\nHost: x\r\nContent-Type: application/json"
                b"\r\nContent-Length: %d\r\n\r\n%b" % (len(body), body)
            )
            head = await reader.readuntil(b"\r\n\r\n")
            assert head.startswith(b"HTTP/1.1 200"), head
            length = int(head.lower().split(b"content-length:")[1].split(b"\r\n")[0])
            answer = json.loads(await reader.readexactly(length))
            assert answer["outcome"] == "admitted", answer
            done += 1
        writer.close()

    await asyncio.gather(*(one(urls[place % len(urls)]) for place in range(CLIENTS)))
    return done / (time.perf_counter() - started)


def bare(url: str) -> float:
    """Transactions a second that write the rows of a knock."""
    with psycopg.connect(url) as connection:
        found = connection.execute("SELECT min(id) FROM devices WHERE stage = 'active'").fetchone()
    pools = [psycopg.connect(url) for _ in range(CLIENTS)]
    free = list(pools)

    def write(number: int) -> None:
        connection = free.pop()
        connection.execute(_ROWS, {"name": f"BARE-{number}", "like": (found or (0,))[0]})
        connection.commit()
        free.append(connection)

    try:
        return per_second(write)
    finally:
        for connection in pools:
            connection.close()


def assignments(s: Sortitor, url: str) -> tuple[float, float]:
    """Seconds of a list of parked devices, applied; and of the bare UPDATE of as many, by turns:
    the median of several.
    """
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(
            "INSERT INTO people (user_name, name, created_at, changed_at) SELECT 'p' || n,"
            " 'Person ' || n, now(), now() FROM generate_series(1, %s) n",
            [WAITING],
        )
        rounds = [_assigned(s, connection, f"WAIT{number}-") for number in range(ROUNDS)]
    applied, updated = zip(*rounds, strict=True)
    return median(applied), median(updated)


def _assigned(s: Sortitor, connection: psycopg.Connection[Any], prefix: str) -> tuple[float, float]:
    connection.execute(
        "WITH d AS (INSERT INTO devices (stage, stage_at, enrolled_at, platform, created_at)"
        " SELECT 'parked', now(), now(), 'android', now() FROM generate_series(1, %s)"
        " RETURNING id), i AS (INSERT INTO identifiers (device_id, kind, value, maker) SELECT"
        " id, 'serial', %s || id, '' FROM d) INSERT INTO arrivals (at, moved_at, outcome,"
        " device_id, stated, reasons, trace) SELECT now(), now(), 'parked', id, '{}', '[]',"
        " '[]' FROM d",
        [WAITING, prefix],
    )
    connection.execute("INSERT INTO sightings SELECT id, NULL FROM devices ON CONFLICT DO NOTHING")
    connection.execute("ANALYZE")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "waiting.csv"
        path.write_bytes(filled(s.arrivals.waiting_file().decode("utf-8-sig")))
        digest = s.arrivals.preview_assignments(path).digest
        applied = timed(partial(s.arrivals.apply_assignments, path, digest))

    connection.execute("DROP TABLE IF EXISTS given")
    connection.execute(
        "CREATE TEMP TABLE given AS SELECT id, person_id FROM devices WHERE person_id IS NOT"
        " NULL AND id IN (SELECT device_id FROM identifiers WHERE value LIKE %s || '%%')",
        [prefix],
    )
    undone = "UPDATE devices d SET person_id = NULL, stage = %s FROM given g WHERE g.id = d.id"
    connection.execute(undone, ["parked"])
    connection.execute("VACUUM ANALYZE devices, given")
    updated = timed(
        lambda: connection.execute(
            "UPDATE devices d SET person_id = g.person_id, stage = 'active', stage_at = now()"
            " FROM given g WHERE g.id = d.id"
        )
    )
    # The next round's list is of its own devices.
    connection.execute(undone, ["retired"])
    connection.execute("VACUUM ANALYZE devices")
    return applied, updated


def filled(text: str) -> bytes:
    """The list with a person in every row."""
    rows = list(csv.DictReader(io.StringIO(text)))
    assert len(rows) == WAITING, len(rows)
    out = io.StringIO()
    writer = csv.DictWriter(out, list(rows[0]))
    writer.writeheader()
    for number, row in enumerate(rows, 1):
        writer.writerow({**row, "Person": f"p{number}"})
    return out.getvalue().encode()


def measure(cluster: Cluster) -> list[Figure]:
    """The figures of the door."""
    with (
        service(cluster, "bench_door", SORTITOR_LOG_LEVEL="error", **UNLIMITED) as (first, s, url),
        another(cluster, url, SORTITOR_LOG_LEVEL="error", **UNLIMITED) as second,
    ):
        terms = PassTerms(label="bench", activation=Activation.SHARED)
        code = s.passes.add(terms).code
        both = (first.url, second.url)
        asyncio.run(knocks(both, code, unknown("WARM")))
        alone = asyncio.run(knocks((first.url,), code, unknown("ONE")))
        knocked = asyncio.run(knocks(both, code, unknown("TWO")))
        floor = bare(url)
        declare(s)
        phones = asyncio.run(knocks((first.url,), code, declared, PHONES))
        applied, update = assignments(s, url)
    what = "knocks admitted per second, 8 clients"
    return [
        Figure(f"{what}, one service / bare SQL", alone, floor, "1/s", "≥ 0.3"),
        Figure(f"{what}, two services / bare SQL", knocked, floor, "1/s", "≥ 0.35"),
        Figure("knocks of phones that a lot declared / of others", phones, alone, "1/s", "≥ 0.5"),
        Figure("list of 5,000 assignments / bare UPDATE", applied, update, "s", "at most 3"),
    ]
