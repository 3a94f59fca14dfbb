"""Check-ins: the one write that comes all day from every device, so it has a path of its own.

Asynchronous psycopg, one statement for a whole batch, answered after the commit.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from typing import Any, LiteralString, TypeAlias

from psycopg import AsyncConnection, AsyncCursor
from psycopg import Error as PsycopgError
from psycopg.errors import DeadlockDetected
from psycopg_pool import AsyncConnectionPool
from tenacity import retry, retry_if_exception_type, stop_after_attempt

from sortitor.core.lifecycle import Sighting
from sortitor.store.failures import translate
from sortitor.store.settling import settle_async

Pool: TypeAlias = AsyncConnectionPool[AsyncConnection[Any]]

_TRIES = 4

# Taken in order of id, so that two batches with common devices seldom meet head on; should they,
# one is tried again.
# A sighting that came late (through a relay) never sets last_seen_at back.
_SIGHT = """
WITH given AS (
    -- As one JSON text: four arrays would take the driver longer to write than PostgreSQL to work
    -- through.
    SELECT place, decode(secret_hash, 'hex') AS secret_hash, least(seen_at, %(now)s) AS seen_at,
        os_version
    FROM jsonb_to_recordset(%(given)s::jsonb) AS g (place int, secret_hash text,
        seen_at timestamptz, os_version text)
), found AS (
    -- One look-up each (OFFSET 0 keeps it so): joined as sets, all credentials would be read for
    -- a handful.
    SELECT g.place, g.seen_at, g.os_version, c.device_id FROM given g
    CROSS JOIN LATERAL (SELECT device_id FROM credentials WHERE secret_hash = g.secret_hash
        AND revoked_at IS NULL AND claim_id IS NULL OFFSET 0) c
), latest AS (
    SELECT DISTINCT ON (f.device_id) f.device_id, f.seen_at, f.os_version
    FROM found f JOIN devices d ON d.id = f.device_id
    -- What is reported missing or stolen has no more to say.
    WHERE d.stage <> 'retired' AND d.flag IS NULL
    ORDER BY f.device_id, f.seen_at DESC
), written AS (
    UPDATE sightings s SET last_seen_at = greatest(s.last_seen_at, k.seen_at),
        since = greatest(s.last_seen_at, k.seen_at)
    FROM latest k WHERE s.device_id = k.device_id RETURNING s.device_id
)
SELECT f.place, f.device_id, k.seen_at, k.os_version
FROM found f JOIN written w USING (device_id) JOIN latest k USING (device_id)
"""

# A look of its own, after the sightings are written: a sweep that held them is seen. The last
# column is the revision of what a device gets; null: it has to be worked out first. One that was
# asked to look again sees another.
_LOOK = """
SELECT d.id, d.name, d.stage, d.stage = 'dormant'
        OR d.os_version IS DISTINCT FROM coalesce(g.os_version, d.os_version), (
    SELECT o.revision || CASE WHEN k.asked > 0 THEN '.' || k.asked ELSE '' END
        || CASE d.stage WHEN 'parked' THEN '.parked' ELSE '' END
    FROM (SELECT d.id) AS one LEFT JOIN device_kits k ON k.device_id = one.id
    JOIN kit_outcomes o ON o.key = coalesce(k.key, hash_array_extended('{}'::bigint[], 0)))
FROM jsonb_to_recordset(%(given)s::jsonb) AS g (id bigint, os_version text)
CROSS JOIN LATERAL (SELECT * FROM devices WHERE id = g.id AND stage <> 'retired' AND flag IS NULL
    OFFSET 0) d
"""

# A dormant device is in use again.
_CHANGE = """
WITH given AS (
    SELECT g.*, d.stage AS former, d.os_version AS former_version, d.retire_on AS former_day
    FROM jsonb_to_recordset(%(given)s::jsonb) AS g (id bigint, seen_at timestamptz,
        os_version text) JOIN devices d USING (id) ORDER BY id FOR UPDATE OF d
)
UPDATE devices d SET os_version = coalesce(g.os_version, d.os_version),
    stage = CASE d.stage WHEN 'dormant' THEN 'active' ELSE d.stage END,
    stage_at = CASE d.stage WHEN 'dormant' THEN g.seen_at ELSE d.stage_at END,
    retire_on = NULL
FROM given g WHERE d.id = g.id AND d.stage <> 'retired' AND d.flag IS NULL
RETURNING d.id, d.stage, g.former = 'dormant', g.former_day,
    d.os_version IS DISTINCT FROM g.former_version
"""

_KITS = """
SELECT w.id, (
    SELECT o.revision || CASE WHEN k.asked > 0 THEN '.' || k.asked ELSE '' END
    FROM (SELECT w.id) AS d LEFT JOIN device_kits k ON k.device_id = d.id
    JOIN kit_outcomes o ON o.key = coalesce(k.key, hash_array_extended('{}'::bigint[], 0)))
FROM unnest(%(ids)s::bigint[]) AS w (id)
"""

_WOKEN = """
WITH entry AS (
    INSERT INTO journal (at, actor, operation, subject, summary)
    VALUES (%(at)s, 'device', 'device.wake', 'device', %(summary)s) RETURNING id
)
INSERT INTO journal_effects (entry_id, device_id, before, after)
SELECT entry.id, w.id,
    jsonb_build_object('stage', 'dormant') || CASE WHEN w.day IS NULL THEN '{}'
        ELSE jsonb_build_object('retire_on', w.day) END,
    jsonb_build_object('stage', 'active') || CASE WHEN w.day IS NULL THEN '{}'
        ELSE jsonb_build_object('retire_on', NULL) END
FROM entry, unnest(%(ids)s::bigint[], %(days)s::date[]) AS w (id, day)
"""


async def write(pool: Pool, batch: Sequence[Sighting], now: datetime) -> list[SeenRow | None]:
    """A time to come is taken as now; a batch that met another head on is tried again.

    For each check-in the device, or None where the credential is not (or no longer) good.
    """
    try:
        return await _write(pool, batch, now)
    except PsycopgError as error:
        raise translate(error) from error


@dataclass(frozen=True, slots=True)
class SeenRow:
    """A device that gave a sign of life, and the revision of what it gets; None: it has to be
    worked out first.
    """

    device_id: int
    name: str | None
    stage: str
    kit: str | None


@retry(
    retry=retry_if_exception_type(DeadlockDetected), stop=stop_after_attempt(_TRIES), reraise=True
)
async def _write(pool: Pool, batch: Sequence[Sighting], now: datetime) -> list[SeenRow | None]:
    answers: list[SeenRow | None] = [None] * len(batch)
    lines = [
        {
            "place": place,
            "secret_hash": c.secret_hash.hex(),
            "seen_at": c.seen_at.isoformat(),
            "os_version": c.os_version,
        }
        for place, c in enumerate(batch)
    ]
    async with pool.connection() as connection, connection.cursor() as cursor:
        await cursor.execute(_SIGHT, {"given": json.dumps(lines), "now": now}, prepare=True)
        places, told = dict[int, int](), dict[int, dict[str, Any]]()
        async for place, device_id, seen_at, os_version in cursor:
            places[place] = device_id
            told[device_id] = {"id": device_id, "seen_at": str(seen_at), "os_version": os_version}
        found, others = dict[int, SeenRow](), list[dict[str, Any]]()
        given = json.dumps(list(told.values()))
        await cursor.execute(_LOOK, {"given": given}, prepare=True)
        async for device_id, name, stage, has_changed, kit in cursor:
            found[device_id] = SeenRow(device_id, name, stage, kit)
            if has_changed:
                others.append(told[device_id])
        if others:
            async with connection.transaction():
                found |= await _changed(cursor, found, others, now)
    for place, device_id in places.items():
        answers[place] = found.get(device_id)
    return answers


async def _changed(
    cursor: AsyncCursor[Any],
    found: Mapping[int, SeenRow],
    told: Sequence[Mapping[str, Any]],
    now: datetime,
) -> dict[int, SeenRow]:
    """Those that wake, or that tell another version, as they are from now on."""
    await cursor.execute(_CHANGE, {"given": json.dumps(told)})
    stages, woken, moved = dict[int, str](), dict[int, date | None](), list[int]()
    async for device_id, stage, has_woken, day, has_updated in cursor:
        stages[device_id] = stage
        if has_woken:
            woken[device_id] = day
        if has_woken or has_updated:
            moved.append(device_id)
    if woken:
        summary = (
            "A dormant device checked in and is active again"
            if len(woken) == 1
            else f"{len(woken)} dormant devices checked in and are active again"
        )
        of_them = {"ids": sorted(woken), "days": [woken[one] for one in sorted(woken)]}
        await cursor.execute(_WOKEN, {"at": now, "summary": summary, **of_them})
    if moved:
        await settle_async(cursor.connection, sorted(moved), ("stage", "os_version", "retire_on"))
    await cursor.execute(_KITS, {"ids": moved})
    kits = dict(await cursor.fetchall())
    return {
        one: replace(found[one], stage=stage, kit=kits.get(one, found[one].kit))
        for one, stage in stages.items()
    }


async def device_of(pool: Pool, secret_hash: bytes) -> int | None:
    """The device of a good credential that may still ask."""
    query = """
        SELECT d.id FROM credentials c JOIN devices d ON d.id = c.device_id
        WHERE c.secret_hash = %s AND c.revoked_at IS NULL AND c.claim_id IS NULL
            AND d.stage <> 'retired' AND d.flag IS NULL
    """
    found = await _read(pool, query, secret_hash)
    return int(found[0][0]) if found else None


async def pushed(pool: Pool, number: int, among: Sequence[int]) -> list[int]:
    """Which of some devices a push wakes."""
    query = """
        SELECT w.id FROM unnest(%s::bigint[]) AS w (id) WHERE w.id IN
            (SELECT unnest(devices) FROM kit_pushes WHERE id = %s)
    """
    return [int(row[0]) for row in await _read(pool, query, list(among), number)]


async def pushed_since(pool: Pool, device_id: int) -> bool:
    """Whether a device was pushed after its last sign of life: it has to look."""
    query = """
        SELECT true FROM sightings s JOIN kit_pushes p ON p.at > s.last_seen_at
        WHERE s.device_id = %s AND s.device_id = ANY (p.devices) LIMIT 1
    """
    return bool(await _read(pool, query, device_id))


async def _read(pool: Pool, query: LiteralString, *values: Any) -> list[tuple[Any, ...]]:
    try:
        async with pool.connection() as connection:
            return await (await connection.execute(query, values)).fetchall()
    except PsycopgError as error:
        raise translate(error) from error
