"""A file of 1 GB put in and fetched: how long beside a copy of it on the same disk, and how much
memory the service takes for it.
"""

from __future__ import annotations

import re
import shutil
import tempfile
import threading
import time
from functools import partial
from pathlib import Path
from random import Random

from bench.figures import Figure, service, timed
from sortitor.client.files import digest_of
from sortitor.server.postgres import Cluster

_MB, _MEGABYTES = 1024**2, 1_000


class _Peak:
    """The most memory that a process takes while it is watched, in MB."""

    def __init__(self, pid: int) -> None:
        self._status, self._over = Path(f"/proc/{pid}/status"), threading.Event()
        self.first = self.most = self._now()
        self._thread = threading.Thread(target=self._watch)
        self._thread.start()

    def _now(self) -> float:
        return int(re.findall(r"VmRSS:\s+(\d+) kB", self._status.read_text())[0]) / 1_024

    def _watch(self) -> None:
        while not self._over.wait(0.02):
            self.most = max(self.most, self._now())

    def end(self) -> float:
        """By how much it grew."""
        self._over.set()
        self._thread.join()
        return self.most - self.first


def measure(cluster: Cluster) -> list[Figure]:
    """The figures of files."""
    with (
        tempfile.TemporaryDirectory() as folder,
        service(cluster, "bench_files", SORTITOR_FILES_AT=f"{folder}/kept") as (process, s, _),
    ):
        source, back = Path(folder) / "large", Path(folder) / "back"
        _write(source, _MEGABYTES)
        small = Path(folder) / "small"
        _write(small, 10)
        s.files.fetch(s.files.put(small).digest, back)
        copied = timed(partial(shutil.copyfile, source, back))
        hashed = timed(partial(digest_of, source))
        peak = _Peak(process.process.pid)
        began = time.perf_counter()
        kept = s.files.put(source)
        put = time.perf_counter() - began
        fetched = timed(partial(s.files.fetch, kept.digest, back))
        grown = peak.end()
    floor = copied + hashed
    return [
        Figure("1 GB put in / copied and hashed", put, floor, "s", "–"),
        Figure("1 GB fetched / copied and hashed", fetched, floor, "s", "–"),
        Figure(
            "memory that both take", grown, None, "MB", "constant", "after 10 MB went both ways"
        ),
    ]


def _write(path: Path, megabytes: int) -> None:
    random = Random(megabytes)
    with path.open("wb") as file:
        for _ in range(megabytes):
            file.write(random.randbytes(_MB))
