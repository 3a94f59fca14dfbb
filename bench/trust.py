"""What trust costs: strangers who sign in, the seal of the journal, backups of a million"
" devices."""

from __future__ import annotations

import subprocess
import threading
import time
from pathlib import Path
from statistics import mean, quantiles
from tempfile import TemporaryDirectory

import httpx
import psycopg

from bench.cohorts import fleet
from bench.figures import Figure, service, timed
from sortitor.client import Sortitor
from sortitor.operations import seals
from sortitor.operations.context import Context
from sortitor.server import backups
from sortitor.server.postgres import Cluster, binaries
from sortitor.server.settings import Settings
from sortitor.server.wiring import runtime

_STRANGERS = 40
_BLOCKS, _WRITES = 20, 400


def measure(cluster: Cluster) -> list[Figure]:
    """All of it, on a database filled once."""
    figures = []
    with service(
        cluster, "bench_trust", SORTITOR_SIGN_INS_PER_MINUTE="100000", SORTITOR_WORKER="false"
    ) as made:
        process, s, url = made
        s.accounts.me()
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute(fleet())
            connection.execute("ANALYZE")
        figures.append(_strangers(process.url, s))
        figures.append(_sealing(s, url))
        figures += _keeping(cluster, url)
    return figures


def _strangers(address: str, s: Sortitor) -> Figure:
    """A list for somebody who is signed in, while forty strangers guess passwords."""
    quiet = _page_times(s, 60)
    over = threading.Event()

    def guess(number: int) -> None:
        with httpx.Client(base_url=address, timeout=60) as client:
            while not over.is_set():
                given = {"name": f"guess {number}", "password": "guess guess guess"}
                client.post("/api/v1/session", json=given)

    threads = [threading.Thread(target=guess, args=(number,)) for number in range(_STRANGERS)]
    for thread in threads:
        thread.start()
    time.sleep(1)
    busy = _page_times(s, 60)
    over.set()
    for thread in threads:
        thread.join()
    return Figure(
        "p95 of a list, 40 strangers signing in / nobody",
        quantiles(busy, n=20)[-1] * 1000,
        quantiles(quiet, n=20)[-1] * 1000,
        "ms",
        "≤ 3",
    )


def _page_times(s: Sortitor, times: int) -> list[float]:
    return [timed(lambda: list(s.devices.list(most=50))) for _ in range(times)]


def _sealing(s: Sortitor, url: str) -> Figure:
    """Changes while a process seals as a worker does, against changes while none does: block by
    block in turns, so that both meet the same machine.
    """
    [first] = list(s.devices.list(most=1))
    times: dict[bool, list[float]] = {True: [], False: []}
    with runtime(Settings(database_url=url)) as run:
        ctx = run.context("schedule")
        seals.seal(ctx)
        for block in range(_BLOCKS):
            sealing = block % 2 == 0
            over = threading.Event()
            worker = threading.Thread(target=_seal, args=(ctx, over))
            if sealing:
                worker.start()
            for number in range(_WRITES):
                name = f"BENCH-{block}-{number}"
                times[sealing].append(timed(lambda name=name: s.devices.name(first.id, name, None)))
            over.set()
            if sealing:
                worker.join()
            seals.seal(ctx)
    return Figure(
        "a change while the journal is sealed / while it is not",
        mean(times[True]) * 1000,
        mean(times[False]) * 1000,
        "ms",
        "≤ 1.03",
        f"{_BLOCKS} blocks of {_WRITES} changes in turns",
    )


def _seal(ctx: Context, over: threading.Event) -> None:
    while not over.wait(2):
        seals.seal(ctx)


def _keeping(cluster: Cluster, url: str) -> list[Figure]:
    bare, environment = backups._for_programs(url)
    programs = binaries()
    with TemporaryDirectory() as folder:
        place = Path(folder)
        raw, ours = place / "raw.dump", place / "ours.sortitor"
        dump = [programs / "pg_dump", "--format=custom", "--compress=1", "-f", raw, bare]

        def floor() -> None:
            subprocess.run(dump, env=environment, check=True)

        floor()
        plain = timed(floor)
        made = timed(lambda: backups.write_backup(url, ours, {}))
        figures = [Figure("backup of a million devices / pg_dump", made, plain, "s", "≤ 1.2")]
        server = cluster.start("bench_back")
        restore = [programs / "pg_restore", "--no-owner", "--no-acl", "-d"]
        back, _ = backups._for_programs(server)
        plain = timed(lambda: subprocess.run([*restore, back, raw], env=environment, check=True))
        _drop(cluster, "bench_back")
        empty = cluster.start("bench_ours")
        took = timed(lambda: backups.restore_outside(ours, empty, {"k": place / "k"}, None))
        _drop(cluster, "bench_ours")
        figures.append(Figure("restore, verified / pg_restore", took, plain, "s", "≤ 1.2"))
    return figures


def _drop(cluster: Cluster, name: str) -> None:
    with psycopg.connect(cluster.start("postgres"), autocommit=True) as connection:
        connection.execute(f"DROP DATABASE {name} WITH (FORCE)")
