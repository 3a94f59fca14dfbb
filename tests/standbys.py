"""A primary with a standby that follows it, both on loopback, to kill and to promote."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlsplit

import psycopg

from sortitor.server.postgres import Cluster, binaries


@dataclass
class Pair:
    """Both servers with the URL of each."""

    primary: Cluster
    standby: Cluster
    primary_url: str
    standby_url: str

    @property
    def url(self) -> str:
        """The one of the two that takes writes, whichever that is."""
        first, second = urlsplit(self.primary_url), urlsplit(self.standby_url)
        hosts = f"{first.netloc},{second.netloc.rpartition('@')[2]}"
        return first._replace(netloc=hosts, query="target_session_attrs=read-write").geturl()

    def kill_the_primary(self) -> None:
        """As a dead machine: nothing is written any more, nobody is told."""
        pid = int((self.primary.data / "postmaster.pid").read_text().split()[0])
        children = subprocess.run(
            ["pgrep", "-P", str(pid)], capture_output=True, text=True, check=False
        )
        for one in [pid, *map(int, children.stdout.split())]:
            os.kill(one, signal.SIGKILL)

    def promote(self) -> None:
        """Let the standby take writes."""
        run("pg_ctl", "promote", "-w", "-D", str(self.standby.data))

    def at_standby(self, statement: str) -> list[tuple[object, ...]]:
        """What the standby says."""
        with psycopg.connect(self.standby_url, autocommit=True) as connection:
            found = connection.execute(statement)  # type: ignore[arg-type]
            return found.fetchall() if found.description else []


def run(program: str, *arguments: str, password: str = "") -> None:
    """A program of PostgreSQL, as a user that may run it."""
    command = [str(binaries() / program), *arguments]
    if os.geteuid() == 0:
        command = ["runuser", "-u", "postgres", "--", *command]
    quiet = subprocess.DEVNULL
    environment = {**os.environ, "PGPASSWORD": password}
    subprocess.run(command, check=True, stdout=quiet, stderr=quiet, cwd="/", env=environment)


@contextmanager
def a_pair() -> Iterator[Pair]:
    """A primary that waits for its standby with every commit."""
    with tempfile.TemporaryDirectory(prefix="sortitor-test-") as folder:
        # PostgreSQL runs as another user where the tests run as root.
        Path(folder).chmod(0o755)
        yield from _pair(Path(folder))


def _pair(folder: Path) -> Iterator[Pair]:
    primary = Cluster(folder / "one")
    primary_url = primary.start()
    parts = urlsplit(primary_url)
    standby = Cluster(folder / "two")
    standby.directory.mkdir(mode=0o755)
    if os.geteuid() == 0:
        shutil.chown(standby.directory, "postgres")
    where = ("-h", "127.0.0.1", "-p", str(parts.port), "-U", str(parts.username))
    copied = ("-D", str(standby.data), "-R", "-X", "stream", "-c", "fast")
    run("pg_basebackup", *where, *copied, password=str(parts.password))
    shutil.copy(folder / "one" / "database.secret", folder / "two" / "database.secret")
    standby_url = standby.start()
    try:
        with psycopg.connect(primary_url, autocommit=True) as connection:
            connection.execute("ALTER SYSTEM SET synchronous_standby_names = '*'")
            connection.execute("SELECT pg_reload_conf()")
            _wait_for_standby(connection)
        yield Pair(primary, standby, primary_url, standby_url)
    finally:
        standby.stop()
        primary.stop()


def _wait_for_standby(connection: psycopg.Connection[tuple[object, ...]]) -> None:
    until = time.monotonic() + 30
    following = "SELECT FROM pg_stat_replication WHERE sync_state = 'sync'"
    while connection.execute(following).fetchone() is None:
        assert time.monotonic() < until, "the standby does not follow"
        time.sleep(0.1)
