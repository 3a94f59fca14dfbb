"""Check-ins: singly against an endpoint without a database, by a relay against a bare UPDATE."""

from __future__ import annotations

import asyncio
import hashlib
import json
import secrets
import time
from functools import partial
from statistics import median

import httpx
import psycopg

from bench.figures import Figure, service, timed
from sortitor.server.postgres import Cluster

CLIENTS = 32
SECONDS = 5.0
FLEET = 20_000


def furnish(url: str) -> list[str]:
    """An active fleet with credentials, written directly; gives the secrets."""
    given = [secrets.token_urlsafe(24) for _ in range(FLEET)]
    with psycopg.connect(url) as connection:
        connection.execute(
            "INSERT INTO devices (stage, stage_at, platform, created_at, enrolled_at) SELECT"
            " 'active', now(), 'linux', now(), now() FROM generate_series(1, %s)",
            [FLEET],
        )
        connection.execute("INSERT INTO sightings SELECT id, NULL FROM devices")
        with (
            connection.cursor() as cursor,
            cursor.copy(
                "COPY credentials (secret_hash, device_id, created_at) FROM STDIN"
            ) as copying,
        ):
            for number, secret in enumerate(given, 1):
                copying.write_row(
                    (hashlib.sha256(secret.encode()).digest(), number, "2026-01-01T00:00:00Z")
                )
        connection.execute("ANALYZE")
    return given


async def per_second(url: str, path: str, secrets_: list[str] | None) -> float:
    """Requests a second by a number of clients with keep-alive; each device in turn."""
    done = 0
    until = time.perf_counter() + SECONDS

    async def one(number: int) -> None:
        nonlocal done
        reader, writer = await asyncio.open_connection(*httpx.URL(url).netloc.decode().split(":"))
        place = number
        while time.perf_counter() < until:
            if secrets_ is None:
                head = f"GET {path} HTTP/1.1\r\nHost: x\r\n\r\n"
            else:
                head = (
                    f"POST {path} HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer"
                    f" {secrets_[place % FLEET]}\r\nContent-Type:"
                    " application/json\r\nContent-Length: 2\r\n\r\n{}"
                )
            writer.write(head.encode())
            answer = await reader.readuntil(b"\r\n\r\n")
            assert answer.startswith(b"HTTP/1.1 200"), answer
            length = next(
                int(line.split(b":")[1])
                for line in answer.split(b"\r\n")
                if line.lower().startswith(b"content-length")
            )
            await reader.readexactly(length)
            done += 1
            place += CLIENTS
        writer.close()

    started = time.perf_counter()
    await asyncio.gather(*(one(n) for n in range(CLIENTS)))
    return done / (time.perf_counter() - started)


def load(url: str, path: str, given: list[str] | None) -> float:
    """Requests a second; the service is a process of its own."""
    return asyncio.run(per_second(url, path, given))


def measure(cluster: Cluster) -> list[Figure]:
    """Single check-ins and a relay's thousand."""
    with service(cluster, "bench_agents", SORTITOR_LOG_LEVEL="error") as (process, _, url):
        given = furnish(url)
        load(process.url, "/healthz", None)
        bare = load(process.url, "/healthz", None)
        single = load(process.url, "/api/v1/agent/check-in", given)
        with httpx.Client(base_url=process.url, timeout=60) as client:

            def body(number: int) -> bytes:
                return json.dumps(
                    {
                        "check_ins": [
                            {"credential": secret, "seen_at": f"2026-11-24T08:00:{number:02}Z"}
                            for secret in given[:1000]
                        ]
                    }
                ).encode()

            def relay(content: bytes) -> None:
                answer = client.post(
                    "/api/v1/agent/check-ins",
                    content=content,
                    headers={"Content-Type": "application/json"},
                )
                assert answer.json()["received"] == 1000

            relays = median([timed(partial(relay, body(number))) for number in range(25)])
        with psycopg.connect(url) as connection:

            def update() -> None:
                connection.execute(
                    "UPDATE sightings s SET last_seen_at = g.seen_at FROM unnest(%s::bigint[],"
                    " %s::timestamptz[]) AS g (id, seen_at) WHERE s.device_id = g.id",
                    [list(range(2_000, 3_000)), ["2026-11-24T08:00:00Z"] * 1000],
                )
                connection.commit()

            floor = median([timed(update) for _ in range(25)])
    return [
        Figure(
            "single check-ins per second / endpoint without database", single, bare, "1/s", "≥ 0.25"
        ),
        Figure(
            "relay: devices per second / bare UPDATE … FROM",
            1000 / relays,
            1000 / floor,
            "1/s",
            "≥ 0.5",
        ),
    ]
