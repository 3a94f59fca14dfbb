"""A figure: what was measured, its floor, and the ratio that counts."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path
from statistics import median
from typing import Any

import psycopg
from psycopg import sql
from tests.processes import Process, serve

from sortitor.client import Sortitor
from sortitor.core.vocabulary import Role
from sortitor.operations import accounts
from sortitor.operations.context import Actor, Context
from sortitor.server.postgres import Cluster
from sortitor.server.settings import Settings
from sortitor.server.wiring import runtime


@dataclass(frozen=True)
class Figure:
    """`value` and `floor` in `unit`; `ratio` is value over floor; `aim` says what it should be."""

    name: str
    value: float
    floor: float | None
    unit: str
    aim: str
    remark: str = ""

    @property
    def ratio(self) -> float | None:
        """Value over floor."""
        return self.value / self.floor if self.floor else None

    def as_json(self) -> dict[str, Any]:
        """For the results file."""
        return {**asdict(self), "ratio": self.ratio}


def table(figures: Sequence[Figure]) -> str:
    """The figures for people."""
    lines = [f"{'figure':<58} {'measured':>12} {'floor':>12} {'ratio':>7}  aim"]
    for f in figures:
        floor = f"{f.floor:,.2f}" if f.floor is not None else "–"
        ratio = f"{f.ratio:.2f}" if f.ratio is not None else "–"
        lines.append(
            f"{f.name:<58} {f.value:>12,.2f} {floor:>12} {ratio:>7}  {f.aim}"
            f" ({f.unit}{'; ' + f.remark if f.remark else ''})"
        )
    return "\n".join(lines)


def timed(act: Callable[[], Any]) -> float:
    """Seconds that it took."""
    started = time.perf_counter()
    act()
    return time.perf_counter() - started


def typical(act: Callable[[], Any], times: int) -> float:
    """The median of several runs, in seconds."""
    return median(timed(act) for _ in range(times))


@contextmanager
def service(
    cluster: Cluster, name: str, **environment: str
) -> Iterator[tuple[Process, Sortitor, str]]:
    """A service process on a database of its own, an administrator's client, and the database's
    URL.
    """
    url = cluster.start(name)
    with runtime(Settings(database_url=url, state_dir=cluster.directory)) as run:
        system = Context(run.engine, run.clock, run.limits, Actor("setup", Role.ADMINISTRATOR))
        account_id = accounts.add(system, "bench", "a long enough password", Role.ADMINISTRATOR)
        _, token = accounts.add_token(
            Context(
                run.engine, run.clock, run.limits, Actor("bench", Role.ADMINISTRATOR, account_id)
            ),
            "bench",
            Role.ADMINISTRATOR,
            1,
        )
    with (
        another(cluster, url, **environment) as process,
        Sortitor(process.url, token, timeout_seconds=1800) as s,
    ):
        yield process, s, url
    with psycopg.connect(cluster.start("postgres"), autocommit=True) as connection:
        connection.execute(sql.SQL("DROP DATABASE {} WITH (FORCE)").format(sql.Identifier(name)))


def another(cluster: Cluster, url: str, **environment: str) -> AbstractContextManager[Process]:
    """A service process on a database that is there."""
    return serve(
        SORTITOR_DATABASE_URL=url,
        SORTITOR_STATE_DIR=str(cluster.directory),
        SORTITOR_RUN_AS="",
        SORTITOR_MAX_UPLOAD_BYTES="2000000000",
        **environment,
    )


def peak_megabytes(process: Process) -> float:
    """The greatest resident memory that the process has had so far."""
    status = Path(f"/proc/{process.process.pid}/status").read_text()
    return (
        int(next(line.split()[1] for line in status.splitlines() if line.startswith("VmHWM")))
        / 1024
    )
