"""A day of a fleet, pressed into half an hour: signs of life without end, arrivals, lots, edits,
lists, searches, previews, exports. At the end memory and tables are as large as they were after a
third of it, nothing went wrong, and it is told how long each kind of request took.

    make soak
    SOAK_MINUTES=5 SOAK_DEVICES=100000 make soak
"""

from __future__ import annotations

import hashlib
import os
import secrets
import sys
import tempfile
import threading
import time
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from statistics import median, quantiles

import psycopg

from bench.figures import service
from bench.million import fill, furnish
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Activation, Ownership
from sortitor.schemas.arrivals import Knock, RelayedCheckIn
from sortitor.schemas.devices import Selection
from sortitor.schemas.orders import Order
from sortitor.schemas.passes import PassTerms
from sortitor.server.postgres import Cluster

MINUTES = float(os.environ.get("SOAK_MINUTES", "30"))
DEVICES = int(os.environ.get("SOAK_DEVICES", "1000000"))
RELAYED, CREDENTIALS = 200, 20_000
#: How much larger the end may be than it was after a third.
_GROWTH = 1.25


@dataclass
class Day:
    """What happens, and how it went."""

    url: str
    token: str
    credentials: list[str]
    code: str
    folder: Path
    ended: threading.Event = field(default_factory=threading.Event)
    took: dict[str, list[float]] = field(default_factory=lambda: defaultdict(list))
    failed: list[str] = field(default_factory=list)

    def keep_doing(self, kind: str, pause: float, act: Callable[[Sortitor, int], None]) -> None:
        """One kind of thing, again and again, with its pause."""
        number = 0
        with Sortitor(self.url, self.token, timeout_seconds=900) as s:
            while not self.ended.is_set():
                number += 1
                started = time.perf_counter()
                try:
                    act(s, number)
                except Exception as error:  # noqa: BLE001 - every failure is told at the end
                    self.failed.append(f"{kind}: {error!r}"[:300])
                self.took[kind].append(time.perf_counter() - started)
                self.ended.wait(pause)


def relay(day: Day, s: Sortitor, number: int) -> None:
    """Two hundred signs of life by a relay."""
    first = number * RELAYED % CREDENTIALS
    now = datetime.now(UTC)
    some = day.credentials[first : first + RELAYED]
    s.agent.relay([RelayedCheckIn(credential=one, seen_at=now) for one in some])


def knock(day: Day, s: Sortitor, number: int) -> None:
    """A new device arrives."""
    serial = f"SOAK{threading.get_ident() % 100_000}-{number}"
    s.agent.knock(
        Knock(code=day.code, platform="android", os_version="15", maker="Maker 0", serial=serial)
    )


def lot(day: Day, s: Sortitor, number: int) -> None:
    """A thousand devices by file; every second one is taken back."""
    path = day.folder / f"lot-{number}.csv"
    rows = "\n".join(f"LOT{number:05}{row:05},Maker 1,Quay {row % 40}" for row in range(1_000))
    path.write_text(f"serial,maker,site\n{rows}\n")
    found = s.lots.check(path, defaults={"platform": "android", "ownership": "corporate"})
    s.lots.apply(found.id, s.lots.preview(found.id).digest)
    if number % 2:
        s.lots.revert(found.id, s.lots.preview_revert(found.id).digest)


def declare(day: Day, s: Sortitor, number: int) -> None:
    """Five hundred devices get another owner."""
    first = Random(number).randrange(DEVICES - 500)
    chosen = Selection(filter=f"id ge {first} and id lt {first + 500}")
    to = (Ownership.CORPORATE, Ownership.PARTNER)[number % 2]
    s.devices.declare(chosen, to, s.devices.preview_declare(chosen, to).digest)


def edit(day: Day, s: Sortitor, number: int) -> None:
    """An order is added and removed."""
    name = s.orders.add(Order(name=f"SOAK-{number}")).name
    s.orders.remove(name)


def look(day: Day, s: Sortitor, number: int) -> None:
    """Pages as coordinators open them."""
    random = Random(number)
    http = s._transport.http
    for path in (
        "/today",
        "/cohorts",
        "/pools",
        f"/devices/{random.randrange(1, DEVICES)}",
        f"/devices?query=SN{random.randrange(1, DEVICES):08}",
        f'/devices?filter=site eq "Quay {random.randrange(40)}"&sort=name',
        "/journal",
        "/arrivals",
    ):
        started = time.perf_counter()
        http.get(path).raise_for_status()
        kind = f"GET {path.partition('?')[0].rstrip('0123456789')}"
        day.took[kind].append(time.perf_counter() - started)


def sweep(day: Day, s: Sortitor, number: int) -> None:
    """Whom a rule would take."""
    s.sweeps.preview(1 + number % 8)


def take_out(day: Day, s: Sortitor, number: int) -> None:
    """The devices of a site as a file."""
    where = {"filter": f'site eq "Quay {number % 40}"'}
    s._transport.http.get("/devices/file", params=where).raise_for_status()


KINDS: tuple[tuple[Callable[[Day, Sortitor, int], None], int, float], ...] = (
    (relay, 1, 0.2),
    (knock, 2, 0.5),
    (look, 2, 1.0),
    (declare, 1, 5.0),
    (edit, 1, 3.0),
    (sweep, 1, 10.0),
    (lot, 1, 20.0),
    (take_out, 1, 30.0),
)


def furnished(url: str, s: Sortitor) -> tuple[list[str], str]:
    """Credentials of some devices, and a pass that everybody may use."""
    fill(url, DEVICES)
    furnish(s, url)
    given = [secrets.token_urlsafe(24) for _ in range(CREDENTIALS)]
    with psycopg.connect(url) as connection:
        chosen = connection.execute(
            "SELECT id FROM devices WHERE stage = 'active' ORDER BY id LIMIT %s", [CREDENTIALS]
        )
        ids = [row[0] for row in chosen]
        del given[len(ids) :]
        statement = "COPY credentials (secret_hash, device_id, created_at) FROM STDIN"
        with connection.cursor().copy(statement) as copying:
            for secret, number in zip(given, ids, strict=True):
                digest = hashlib.sha256(secret.encode()).digest()
                copying.write_row((digest, number, datetime.now(UTC)))
    code = s.passes.add(PassTerms(label="soak", activation=Activation.SHARED)).code
    return given, code


def sizes(url: str) -> dict[str, int]:
    """Table → bytes with its indexes."""
    with psycopg.connect(url) as connection:
        found = connection.execute(
            "SELECT relname, pg_total_relation_size(oid) FROM pg_class"
            " WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace"
        )
        return {str(row[0]): int(str(row[1])) for row in found}


def megabytes(pid: int) -> float:
    """The memory that a process holds now."""
    status = Path(f"/proc/{pid}/status").read_text().splitlines()
    return int(next(one.split()[1] for one in status if one.startswith("VmRSS"))) / 1024


def live(day: Day, pid: int, database: str) -> list[str]:
    """Let the day pass; gives what was not as it should be."""
    threads = [
        threading.Thread(
            target=day.keep_doing,
            args=(act.__name__, pause, lambda s, n, act=act: act(day, s, n)),
            daemon=True,
        )
        for act, times, pause in KINDS
        for _ in range(times)
    ]
    for one in threads:
        one.start()
    began, memory, after_a_third = time.monotonic(), list[float](), dict[str, int]()
    while (passed := time.monotonic() - began) < MINUTES * 60:
        time.sleep(5)
        memory.append(megabytes(pid))
        if not after_a_third and passed > MINUTES * 20:
            after_a_third = sizes(database)
            print(f"after a third: {memory[-1]:.0f} MB", flush=True)
    day.ended.set()
    for one in threads:
        one.join(120)
    return [*_memory(memory), *_tables(after_a_third, sizes(database))]


def _memory(held: list[float]) -> list[str]:
    third = len(held) // 3
    middle, last = max(held[third : 2 * third]), max(held[2 * third :])
    print(f"memory: {middle:.0f} MB at most in the middle, {last:.0f} MB at the end")
    return [f"memory grew from {middle:.0f} to {last:.0f} MB"] if last > _GROWTH * middle else []


def _tables(third: dict[str, int], end: dict[str, int]) -> list[str]:
    """Tables that only hold what is there: those of the journal and of arrivals grow as they
    should, by what happened.
    """
    grown = []
    for name in ("devices", "identifiers", "cohort_members", "credentials", "device_seats"):
        print(f"{name}: {third[name] / 2**20:,.0f} MB after a third, {end[name] / 2**20:,.0f} MB")
        if end[name] > _GROWTH * third[name]:
            grown.append(f"{name} grew from {third[name]:,} to {end[name]:,} bytes")
    return grown


def main() -> None:
    """Run it; ends with 1 when something was not as it should be."""
    with tempfile.TemporaryDirectory() as folder:
        Path(folder).chmod(0o755)
        cluster = Cluster(Path(folder) / "soak")
        cluster.start()
        try:
            limits = {"SORTITOR_STRANGER_PER_MINUTE": "100000", "SORTITOR_LOG_LEVEL": "error"}
            with service(cluster, "soak", **limits) as (process, s, url):
                credentials, code = furnished(url, s)
                token = str(s._transport.http.headers["Authorization"]).removeprefix("Bearer ")
                day = Day(process.url, token, credentials, code, Path(folder))
                print(f"{DEVICES:,} devices; {MINUTES:g} minutes begin", flush=True)
                faults = live(day, process.process.pid, url)
        finally:
            cluster.stop()
    for kind, times in sorted(day.took.items()):
        slowest = quantiles(times, n=20)[-1] if len(times) > 2 else max(times)
        print(
            f"{kind:<28} {len(times):>7,} p50 {median(times) * 1000:>8,.0f} ms"
            f"  p95 {slowest * 1000:>8,.0f} ms"
        )
    faults += day.failed[:20]
    for fault in faults:
        print("NOT AS IT SHOULD BE:", fault)
    sys.exit(1 if faults else 0)


if __name__ == "__main__":
    main()
