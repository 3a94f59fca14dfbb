"""Kits at a million devices: giving thirty items to a fifth of them, asking what one device gets,
signs of life, and waking two thousand devices that wait.
"""

from __future__ import annotations

import asyncio
import json
import time
from functools import partial
from random import Random
from statistics import median, quantiles

import httpx
import psycopg

from bench.agents import FLEET, furnish, load
from bench.cohorts import DEVICES, filters, fleet
from bench.figures import Figure, service, timed
from sortitor.client import Sortitor
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.devices import Selection
from sortitor.schemas.kits import Given, Item, Kit
from sortitor.server.postgres import Cluster

MEMBERS, WAITING = 200_000, 2_000
ROUNDS = 7
_PLATFORMS = ("android", "ios", "windows", "linux")


def _item(number: int) -> Item:
    """Every third one for all devices, the others for a platform, some from a version on."""
    platform = _PLATFORMS[number % 4]
    least = str(11 + number % 5) if number % 2 else ""
    return Item.model_validate(
        {
            "name": f"Item {number}",
            "payload": {"kind": "custom", "key": f"key.{number}", "type": "number", "value": "1"},
            "platforms": {platform: least} if number % 3 else {},
        }
    )


# The same conditions as somebody writes them who knows the table, each once.
_FLOOR = """
INSERT INTO floor_kits (device_id, facts)
SELECT d.id, array_remove(ARRAY[{conditions}]::bigint[], NULL) || {cohort}::bigint
FROM devices d JOIN cohort_members m ON m.device_id = d.id AND m.cohort_id = {cohort}
WHERE d.stage <> 'retired' ORDER BY d.id
"""


def _by_hand(cohort: int) -> str:
    wanted = {
        (_PLATFORMS[number % 4], 11 + number % 5 if number % 2 else 0)
        for number in range(30)
        if number % 3
    }
    each = [
        f"CASE WHEN platform = '{platform}' AND NOT coalesce(os_numbers < ARRAY[{least}], false)"
        f" THEN -{place} END"
        for place, (platform, least) in enumerate(sorted(wanted), 1)
    ]
    return _FLOOR.format(conditions=", ".join(each), cohort=cohort)


def measure(cluster: Cluster) -> list[Figure]:
    """The figures of kits."""
    return [*_given(cluster), *_lived(cluster)]


def _given(cluster: Cluster) -> list[Figure]:
    with service(cluster, "bench_kits") as (_, s, url):
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute(fleet())
            connection.execute("VACUUM ANALYZE")
            cohort = s.cohorts.add(Cohort(name="A fifth", filter=f"id le {MEMBERS}"))
            for number in range(30):
                s.items.add(_item(number))
            to_them = (Given(cohort="A fifth"),)
            kit = Kit(name="Large", items=tuple(f"Item {n}" for n in range(30)), given=to_them)
            # As the database does by itself within a minute of such a change.
            connection.execute("ANALYZE cohort_members")
            connection.execute("CREATE TABLE floor_kits (LIKE device_kits INCLUDING ALL)")
            floor = timed(partial(connection.execute, _by_hand(cohort.id)))
            digest = [""]
            looked = timed(lambda: digest.append(s.kits.preview_add(kit).digest))
            applied = timed(lambda: s.kits.add(kit, digest[-1]))
        asked = _many(s)
    return [
        Figure(
            "30 items to 200,000 devices, previewed and applied / bare SQL",
            looked + applied,
            floor,
            "s",
            "at most 2",
            f"preview {looked:.1f}, apply {applied:.1f}",
        ),
        Figure("what one device gets, 500 assignments, p95", asked, None, "ms", "under 20"),
    ]


def _many(s: Sortitor) -> float:
    """Five hundred assignments: twenty kits, each to twenty-five cohorts."""
    chosen = filters()[:100]
    for number, text in enumerate(chosen):
        s.cohorts.add(Cohort(name=f"Cohort {number}", filter=text))
    for number in range(20):
        given = tuple(Given(cohort=f"Cohort {(number * 5 + n) % 100}") for n in range(25))
        items = tuple(f"Item {(number + n) % 30}" for n in range(8))
        s.kits.add(Kit(name=f"Kit {number}", items=items, given=given))
    random = Random(5)
    s.kits.of_device(1)
    took = [timed(partial(s.kits.of_device, random.randint(1, DEVICES))) for _ in range(300)]
    return quantiles(took, n=20)[18] * 1_000


def _lived(cluster: Cluster) -> list[Figure]:
    with service(cluster, "bench_kits_lived", SORTITOR_LOG_LEVEL="error") as (process, s, url):
        given = furnish(url)
        check_in = "/api/v1/agent/check-in"
        load(process.url, check_in, given)
        before, after = [], []
        s.cohorts.add(Cohort(name="Half", filter=f"id le {FLEET // 2}"))
        for number in range(30):
            s.items.add(_item(number))
        names = tuple(f"Item {n}" for n in range(30))
        kit = Kit(name="All", items=names, given=(Given(), Given(cohort="Half")))
        # In turn, and often: a machine is not as quick at one moment as at another.
        for _ in range(ROUNDS):
            before.append(load(process.url, check_in, given))
            s.kits.add(kit)
            after.append(load(process.url, check_in, given))
            s.kits.remove("All")
        s.kits.add(kit)
        woken = asyncio.run(_woken(process.url, s, given[:WAITING]))
    return [
        Figure(
            "single check-ins a second with kits / without",
            median(after),
            median(before),
            "1/s",
            "≥ 0.95",
        ),
        Figure("push to 2,000 waiting devices, the last one woken", woken, None, "s", "under 2"),
    ]


async def _woken(url: str, s: Sortitor, credentials: list[str]) -> float:
    """Seconds from the push to the last answer."""
    host, port = httpx.URL(url).netloc.decode().split(":")
    body = json.dumps({"seconds": 120})

    async def wait(credential: str) -> float:
        reader, writer = await asyncio.open_connection(host, port)
        writer.write(
            (
                "POST /api/v1/agent/check-in/wait HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer"
                f" {credential}\r\nContent-Type: application/json\r\nContent-Length: {len(body)}"
                f"\r\n\r\n{body}"
            ).encode()
        )
        answer = await reader.readuntil(b"\r\n\r\n")
        assert answer.startswith(b"HTTP/1.1 200"), answer
        told = await reader.readuntil(b"}")
        assert json.loads(told)["woken"], told
        writer.close()
        return time.perf_counter()

    waiting = [asyncio.ensure_future(wait(one)) for one in credentials]
    await asyncio.sleep(8)
    everybody = Selection(filter=f"id le {WAITING}")
    shown = await asyncio.to_thread(s.kits.preview_push, everybody)
    started = time.perf_counter()
    await asyncio.to_thread(s.kits.push, everybody, shown.digest)
    return max(await asyncio.gather(*waiting)) - started
