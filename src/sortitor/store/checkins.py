"""Check-ins: the one write that comes all day from every device, so it has a path of its own.

Asynchronous psycopg, one statement for a whole batch, answered after the commit.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from typing import Any, LiteralString, TypeAlias

from psycopg import AsyncConnection
from psycopg import Error as PsycopgError
from psycopg.errors import DeadlockDetected
from psycopg_pool import AsyncConnectionPool
from tenacity import retry, retry_if_exception_type, stop_after_attempt

from sortitor.core.lifecycle import Sighting
from sortitor.store.failures import translate
from sortitor.store.settling import settle_async

Pool: TypeAlias = AsyncConnectionPool[AsyncConnection[Any]]

_TRIES = 4

# Taken in order of id, and devices before their sightings, so that two batches with common devices
# seldom meet head on; should they, one is tried again.
# Most devices are as they were, and only their sightings are written: what changes with the first
# sign of life of a day, a new version, or a device that wakes, is decided by the row that is held.
# The last column is the revision of what a device gets; null: it has to be worked out first. One
# that was asked to look again sees another.
# A sighting that came late (through a relay) never sets last_seen_at back. A dormant device is in
# use again.
_UPDATE = """
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
    SELECT DISTINCT ON (f.device_id) d.id, d.name, d.stage, f.seen_at, f.os_version,
        d.stage = 'dormant' OR d.seen_on < day_here(f.seen_at)
            OR d.os_version IS DISTINCT FROM coalesce(f.os_version, d.os_version) AS moves
    FROM found f JOIN devices d ON d.id = f.device_id
    -- What is reported missing or stolen has no more to say.
    WHERE d.stage <> 'retired' AND d.flag IS NULL ORDER BY f.device_id, f.seen_at DESC
), held AS (
    SELECT d.id, d.stage AS former, d.os_version AS former_version, d.retire_on AS former_day,
        k.seen_at, coalesce(k.os_version, d.os_version) AS os_version
    FROM latest k JOIN devices d ON d.id = k.id
    WHERE k.moves AND d.stage <> 'retired' AND d.flag IS NULL ORDER BY d.id FOR UPDATE OF d
), moved AS (
    UPDATE devices d SET seen_on = greatest(d.seen_on, day_here(h.seen_at)),
        os_version = h.os_version,
        stage = CASE h.former WHEN 'dormant' THEN 'active' ELSE h.former END,
        stage_at = CASE h.former WHEN 'dormant' THEN h.seen_at ELSE d.stage_at END,
        retire_on = NULL
    FROM held h WHERE d.id = h.id
    RETURNING d.id, d.stage, h.former = 'dormant' AS woken,
        h.os_version IS DISTINCT FROM h.former_version AS updated, h.former_day
), written AS (
    UPDATE sightings s SET last_seen_at = greatest(s.last_seen_at, k.seen_at)
    FROM latest k LEFT JOIN moved m USING (id)
    WHERE s.device_id = k.id AND (m.id IS NOT NULL OR NOT k.moves)
    RETURNING k.id, k.name, coalesce(m.stage, k.stage) AS stage, m.woken, m.updated, m.former_day
)
SELECT f.place, w.id, coalesce(w.woken, false), w.name, w.stage, coalesce(w.updated, false),
    w.former_day, (
    SELECT o.revision || CASE WHEN k.asked > 0 THEN '.' || k.asked ELSE '' END
        || CASE w.stage WHEN 'parked' THEN '.parked' ELSE '' END
    FROM (SELECT w.id) AS d LEFT JOIN device_kits k ON k.device_id = d.id
    JOIN kit_outcomes o ON o.key = coalesce(k.key, hash_array_extended('{}'::bigint[], 0)))
FROM found f JOIN written w ON w.id = f.device_id
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
        await cursor.execute(_UPDATE, {"given": json.dumps(lines), "now": now}, prepare=True)
        woken, updated = dict[int, date | None](), set[int]()
        async for place, device_id, has_woken, name, stage, has_updated, day, kit in cursor:
            answers[place] = SeenRow(device_id, name, stage, kit)
            if has_woken:
                woken[device_id] = day
            if has_updated:
                updated.add(device_id)
        if woken:
            summary = (
                "A dormant device checked in and is active again"
                if len(woken) == 1
                else f"{len(woken)} dormant devices checked in and are active again"
            )
            of_them = {"ids": sorted(woken), "days": [woken[one] for one in sorted(woken)]}
            await cursor.execute(_WOKEN, {"at": now, "summary": summary, **of_them})
        if woken or updated:
            others = sorted(woken.keys() | updated)
            await settle_async(connection, others, ("stage", "os_version", "retire_on"))
            await cursor.execute(_KITS, {"ids": others})
            kits = dict(await cursor.fetchall())
            answers = [
                one and replace(one, kit=kits.get(one.device_id, one.kit)) for one in answers
            ]
    return answers


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
