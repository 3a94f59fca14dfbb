"""Worlds to test in: databases copied from the run's template, and services on loopback."""

from __future__ import annotations

import asyncio
import os
import threading
import time
from collections.abc import Coroutine, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from itertools import count
from pathlib import Path
from typing import TypeVar

import httpx
import psycopg
import structlog
import uvicorn
from psycopg import sql
from tests.identifiers import imei as imei

from sortitor.client import Sortitor
from sortitor.client.devices import Flag
from sortitor.core.vocabulary import Platform, Role
from sortitor.operations import accounts
from sortitor.operations.context import Actor, Clock, Context
from sortitor.schemas.arrivals import Knock
from sortitor.schemas.devices import Selection
from sortitor.schemas.gate import Quota, VersionBounds
from sortitor.schemas.holds import Hold, HoldNew
from sortitor.schemas.passes import PassTerms
from sortitor.server.patience import KEEP_ALIVE_SECONDS, PatientHttp
from sortitor.server.postgres import Cluster, with_role
from sortitor.server.settings import Settings, wall_now
from sortitor.server.wiring import Runtime, application, listen, own_url, runtime
from sortitor.store import roles
from sortitor.store.engine import transaction

NOW = datetime(2026, 1, 17, 9, 0, tzinfo=UTC)
PASSWORD = "a long enough password"
# Durability is tested where it matters, on clusters of their own.
FAST = {
    "fsync": "off",
    "synchronous_commit": "off",
    "full_page_writes": "off",
    "shared_buffers": "128MB",
    "max_wal_size": "512MB",
    "shared_preload_libraries": "pg_stat_statements",
}
#: One address asks for everything in a test; what is limited is tested with limits of its own.
BUSY_TESTS = {
    "stranger_per_minute": 100_000,
    "failures_per_minute": 100_000,
    "sign_ins_per_minute": 10_000,
    "at_once": 64,
}
_numbers = count(1)
T = TypeVar("T")


def in_a_loop(work: Coroutine[object, object, T]) -> T:
    """What the coroutine returns, run in a thread of its own: the browser's loop already runs in
    the tests' thread.
    """
    with ThreadPoolExecutor(1) as thread:
        return thread.submit(asyncio.run, work).result()


@dataclass
class Database:
    """The run's cluster: its URL without a database, and the tokens that every copy of the template
    knows.
    """

    url: str
    tokens: dict[Role, str]
    folder: Path

    def fresh(self) -> str:
        """The URL of a new copy of the template."""
        name = f"test_{next(_numbers)}"
        with psycopg.connect(self.url + "postgres", autocommit=True) as connection:
            connection.execute(
                sql.SQL("CREATE DATABASE {} TEMPLATE template_sortitor STRATEGY file_copy").format(
                    sql.Identifier(name)
                )
            )
        return self.url + name

    def as_application(self, url: str) -> str:
        """The URL as the service uses it: without the owner's rights."""
        return with_role(url, roles.APPLICATION, PASSWORD.replace(" ", "-"))

    def drop(self, url: str) -> None:
        """Remove a copy, whoever is still connected."""
        with psycopg.connect(self.url + "postgres", autocommit=True) as connection:
            connection.execute(
                sql.SQL("DROP DATABASE {} WITH (FORCE)").format(
                    sql.Identifier(url.rsplit("/", 1)[1])
                )
            )


@dataclass
class World:
    """A running service with its own database; `now` is its business clock."""

    url: str
    run: Runtime
    tokens: dict[Role, str]
    now: datetime = NOW
    _looks: Iterator[int] = field(default_factory=count)
    _clients: list[Sortitor] = field(default_factory=list)
    _own: psycopg.Connection[tuple[object, ...]] | None = None

    def client(
        self, role: Role | None = Role.COORDINATOR, timeout_seconds: float = 300
    ) -> Sortitor:
        """A client of an account with this role; None is nobody."""
        # Most worlds have no worker.
        token = self.tokens[role] if role else None
        client = Sortitor(self.url, token, timeout_seconds, jobs=False)
        self._clients.append(client)
        return client

    def in_person(self, role: Role = Role.COORDINATOR) -> Sortitor:
        """A client that has signed in with the password, as making tokens asks for."""
        client = self.client(None)
        client.accounts.sign_in(role.value, PASSWORD)
        return client

    def moment(self) -> datetime:
        """What the clock shows: as a real one, never the same twice."""
        return self.now + timedelta(microseconds=next(self._looks))

    def later(self, **delta: float) -> datetime:
        """Move the business clock on."""
        self.now += timedelta(**delta)
        return self.now

    def rows(self, statement: str, *values: object) -> list[tuple[object, ...]]:
        """What the database holds, past the service."""
        if self._own is None or self._own.closed:
            # Tests change tables below it: no statement is prepared.
            self._own = psycopg.connect(self.run.owner_url, autocommit=True, prepare_threshold=None)
        cursor = self._own.execute(statement, values)
        return cursor.fetchall() if cursor.description else []

    def saw(self, where: str, seen: datetime | None) -> None:
        """Let the devices of a condition on `id` have given their last sign of life then; None:
        none yet.
        """
        self.rows(
            f"""
            WITH d AS (
                UPDATE devices SET seen_on = timezone(%s, coalesce(%s, created_at))::date
                WHERE {where} RETURNING id
            )
            INSERT INTO sightings SELECT id, %s FROM d
            ON CONFLICT (device_id) DO UPDATE SET last_seen_at = excluded.last_seen_at
            """,
            str(self.run.limits.zone),
            seen,
            seen,
        )

    def close(self) -> None:
        for client in self._clients:
            client.close()
        if self._own is not None:
            self._own.close()


@contextmanager
def serving(run: Runtime) -> Iterator[str]:
    """The service of a runtime in a thread; gives its address."""
    with listen(run.settings) as listener:
        ready = threading.Event()
        server = uvicorn.Server(
            uvicorn.Config(
                application(run, own_url(run.settings, listener), ready.set),
                log_config=None,
                access_log=False,
                timeout_graceful_shutdown=2,
                timeout_keep_alive=KEEP_ALIVE_SECONDS,
                http=PatientHttp,
            )
        )
        thread = threading.Thread(target=server.run, kwargs={"sockets": [listener]}, daemon=True)
        thread.start()
        assert ready.wait(20), "the service did not start"
        url = f"http://127.0.0.1:{listener.getsockname()[1]}"
        while not server.started:
            time.sleep(0.005)
        try:
            yield url
        finally:
            server.should_exit = True
            thread.join(20)


@contextmanager
def a_database(folder: Path) -> Iterator[Database]:
    """A PostgreSQL of its own, with a template that has an account and a token of each role."""
    # Plain, as the service has it: a traceback with all its variables takes a minute.
    renderer = structlog.dev.ConsoleRenderer(
        colors=False, exception_formatter=structlog.dev.plain_traceback
    )
    structlog.configure(
        processors=[renderer], wrapper_class=structlog.make_filtering_bound_logger(40)
    )
    # Passwords of the database are tested on clusters of their own: they take longer than all the
    # rest of a connection.
    everybody = folder / "everybody.conf"
    folder.mkdir(exist_ok=True)
    everybody.write_text("host all all 127.0.0.1/32 trust\n")
    everybody.chmod(0o644)
    cluster = Cluster(folder, {**FAST, "hba_file": str(everybody)})
    url = cluster.start("template_sortitor")
    tokens = {}
    with runtime(Settings(database_url=url, state_dir=folder)) as run:
        system = Context(run.engine, run.clock, run.limits, Actor("setup", Role.ADMINISTRATOR))
        for role in Role:
            account_id = accounts.add(system, role.value, PASSWORD, role)
            actor = Actor(role.value, role, account_id)
            _, tokens[role] = accounts.add_token(
                Context(run.engine, run.clock, run.limits, actor), "tests", role, 30
            )
        with transaction(run.work_engine) as connection:
            roles.grant(connection, roles.APPLICATION, PASSWORD.replace(" ", "-"))
    yield Database(url.removesuffix("template_sortitor"), tokens, folder)
    cluster.stop()


@contextmanager
def a_world(database: Database, **settings: object) -> Iterator[World]:
    url = database.fresh()
    worlds: list[World] = []
    clock = Clock(lambda: worlds[0].moment() if worlds else NOW, wall_now)
    given = {
        "database_url": database.as_application(url),
        "owner_url": url,
        "state_dir": database.folder,
        "files_at": str(database.folder / f"files of {url.rsplit('/', 1)[1]}"),
        "port": 0,
        "worker": False,
        "pool_size": 20,
        "log_level": "error",
        **BUSY_TESTS,
        **settings,
    }
    with runtime(Settings(**given), clock) as run, serving(run) as address:
        worlds.append(World(address, run, database.tokens))
        yield worlds[0]
        worlds[0].close()
    database.drop(url)


def manifest(tmp_path: Path, lines: Iterable[str], name: str = "lot.csv") -> Path:
    """A supplier's file of these lines."""
    path = tmp_path / name
    path.write_text("\n".join(lines) + "\n")
    return path


def sized(usual: int) -> int:
    """How many rows a test works with that shows something at any size; `make large` has it at a
    million.
    """
    return int(os.environ.get("SORTITOR_TEST_ROWS", usual))


def import_lot(s: Sortitor, path: Path, **defaults: str) -> int:
    """Check and apply a file; gives the lot's number."""
    lot = s.lots.check(path, defaults=defaults)
    s.lots.apply(lot.id, s.lots.preview(lot.id).digest, "test")
    return lot.id


def import_people(s: Sortitor, tmp_path: Path, *lines: str) -> None:
    """People by lines of `user name,name,mail,department,site,groups`."""
    path = manifest(tmp_path, ["user name,name,mail,department,site,groups", *lines], "people.csv")
    s.people.apply_import(path, s.people.preview_import(path).digest)


def a_pass(s: Sortitor, **terms: object) -> str:
    """The code of a new pass."""
    return s.passes.add(PassTerms(label="test", **terms)).code


def knocking(code: str, serial: str, **stated: object) -> Knock:
    """What a device of this serial number says at the gate."""
    return Knock(
        **{
            "code": code,
            "platform": "android",
            "os_version": "14",
            "maker": "Kelmar",
            "model": "Mate 3",
            "serial": serial,
            **stated,
        }
    )


def http(world: World, role: Role | None = Role.COORDINATOR) -> httpx.Client:
    """A bare HTTP client, for what the client library would not send."""
    headers = {"Authorization": f"Bearer {world.tokens[role]}"} if role else {}
    return httpx.Client(base_url=world.url, headers=headers, timeout=60)


def change_baseline(s: Sortitor, android: str | None = None, **changed: object) -> None:
    """Change the last policy of the gate; `android` is the oldest one that it lets in."""
    *others, last = s.gate.show().policies
    if android is not None:
        rule = last.platforms[Platform.ANDROID].model_copy(
            update={"versions": VersionBounds(oldest=android)}
        )
        changed["platforms"] = {**last.platforms, Platform.ANDROID: rule}
    quota = changed.get("quota")
    if isinstance(quota, int):
        changed["quota"] = Quota(devices=quota)
    policies = [*others, last.model_copy(update=changed)]
    s.gate.apply(policies, s.gate.preview(policies).digest)


def hold(s: Sortitor, *ids: int, until: date, reason: str = "laid up", **more: object) -> Hold:
    """Keep devices (or a `person`, or a `cohort`) out of sweeps."""
    selection = Selection(ids=list(ids)) if ids else None
    wanted = HoldNew(selection=selection, reason=reason, until_on=until, **more)
    return s.holds.add(wanted, s.holds.preview(wanted).digest)


def report(s: Sortitor, *ids: int, flag: Flag | None) -> None:
    """Report devices missing or stolen, or found again."""
    chosen = Selection(ids=list(ids))
    s.devices.report(chosen, flag, s.devices.preview_report(chosen, flag).digest)
