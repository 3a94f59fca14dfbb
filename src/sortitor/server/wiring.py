"""Putting a running service together: database, service, worker, HTTP server."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import importlib
import logging
import os
import signal
import socket
import threading
from base64 import urlsafe_b64encode
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import asynccontextmanager, contextmanager
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit
from zoneinfo import ZoneInfo

import structlog
import uvicorn
from fastapi import FastAPI
from psycopg import AsyncConnection
from psycopg_pool import AsyncConnectionPool
from sqlalchemy import Engine

from sortitor.api.app import load_routes, make_app
from sortitor.api.http.late import LOADING
from sortitor.api.http.problems import is_new
from sortitor.api.http.rates import Counter, Rates
from sortitor.api.http.service import Service
from sortitor.core.errors import SortitorError
from sortitor.core.vocabulary import MailState, Role
from sortitor.operations import accounts, file_readers, kept_numbers, mail, seals
from sortitor.operations.checkins import CheckIns
from sortitor.operations.context import Actor, Clock, Context, Keeping, Leash, Limits
from sortitor.operations.file_readers import FileLimits
from sortitor.operations.following import Following
from sortitor.operations.vault import Vault
from sortitor.operations.waking import Waking
from sortitor.server import backups, upgrades
from sortitor.server.keys import derived, installation_key, vault_keys
from sortitor.server.patience import KEEP_ALIVE_SECONDS, PatientHttp
from sortitor.server.postgres import Cluster, Starting, begin, with_role
from sortitor.server.settings import Settings, wall_now
from sortitor.server.waiting import await_database
from sortitor.sources.mail import MailServer
from sortitor.sources.outside import Protocols
from sortitor.sources.storage import Access, ObjectStorage
from sortitor.store import accounts as facts
from sortitor.store import roles, schema
from sortitor.store.engine import make_engine, single_engine, transaction
from sortitor.store.zones import keep_days

log = structlog.get_logger()
#: How long a worker that is asked to end may go on with what it does.
_GRACE_SECONDS = 5
_SEAL_EVERY_SECONDS = 2
_LOOK_FOR_MAIL_SECONDS = 1
_LOOK_FOR_BACKUP_SECONDS = 60
_LAST_BACKUP = "last_backup_at"
_SETUP_FILE = "first-administrator.txt"


@dataclass(slots=True)
class Runtime:
    """What every process of the service has."""

    settings: Settings
    url: str
    owner_url: str
    engine: Engine
    #: For jobs, whose statements may take as long as they need.
    work_engine: Engine
    clock: Clock
    limits: Limits
    #: The installation's own; every other key is made of it.
    key: bytes
    vault: Vault
    outside: Protocols
    storage: ObjectStorage
    standby: Engine | None = None

    def context(self, name: str, leash: Leash | None = None) -> Context:
        """A context for what the service does by itself."""
        actor = Actor(name, Role.COORDINATOR)
        return Context(
            self.work_engine,
            self.clock,
            self.limits,
            actor,
            leash=leash,
            outside=self.outside,
            vault=self.vault,
            storage=self.storage,
            standby=self.standby,
        )


def make_clock(settings: Settings) -> Clock:
    """The business's clock, frozen if the settings say so; real time runs on."""
    frozen = settings.clock
    return Clock(wall_now if frozen is None else lambda: frozen, wall_now)


@contextmanager
def runtime(
    settings: Settings, clock: Clock | None = None, starting: Starting | None = None
) -> Iterator[Runtime]:
    """A database with up-to-date tables; the embedded one (perhaps already `starting`) is stopped
    at the end unless it is asked to stay.
    """
    if settings.database_url is None:
        starting = starting or begin(settings.state_dir)
    engine = work_engine = standby = None
    try:
        if starting is not None:
            owner_url = starting.url()
            url = _prepared(settings, starting.cluster, owner_url)
        else:
            url, owner_url = outside_urls(settings)
            await_database(owner_url)
            require_current(url, owner_url)
        zone = settings.time_zone
        engine = make_engine(url, settings.pool_size, settings.statement_seconds, zone)
        work_engine = make_engine(url, settings.pool_size, zone=zone)
        with transaction(work_engine) as connection:
            if moved := keep_days(connection, zone):
                log.info("days_of_another_zone", zone=zone, devices=moved)
        if settings.standby_url is not None:
            copy = settings.standby_url.get_secret_value()
            # Whoever waits for one that is away could have had an answer of the primary.
            standby = make_engine(copy, settings.pool_size, zone=zone, connect_seconds=2)
        limits = Limits(
            (settings.idle_window_min_days, settings.idle_window_max_days),
            settings.session_hours,
            settings.session_idle_hours,
            settings.public_url.rstrip("/"),
            ZoneInfo(zone),
            bool(settings.mail_host),
            FileLimits(settings.file_memory_mb * 1_000_000, settings.file_seconds),
            Keeping(
                settings.arrivals_days,
                settings.uploads_days,
                settings.jobs_days,
                settings.files_days,
            ),
            settings.max_file_bytes,
        )
        key = installation_key(settings.installation_key_file)
        clock = clock or make_clock(settings)
        vault = Vault(
            vault_keys(settings.vault_file), again=lambda: vault_keys(settings.vault_file)
        )
        outside = Protocols(
            settings.allowed_networks, settings.source_megabytes * 1_000_000, limits.files
        )
        access = Access(
            settings.files_endpoint,
            settings.files_region,
            settings.files_key_id,
            settings.files_secret.get_secret_value(),
        )
        yield Runtime(
            settings,
            url,
            owner_url,
            engine,
            work_engine,
            clock,
            limits,
            key,
            vault,
            outside,
            ObjectStorage(settings.files_folder, access),
            standby,
        )
    finally:
        kept_numbers.stop()
        for made in (engine, work_engine, standby):
            if made is not None:
                made.dispose()
        if starting is not None and not settings.keep_database:
            starting.cluster.stop()


def own_url(settings: Settings, listener: socket.socket) -> str:
    """Where a process listens; for every address, this machine's name."""
    host = settings.host
    if host in ("0.0.0.0", "::"):
        host = socket.gethostname()
    return f"http://{f'[{host}]' if ':' in host else host}:{listener.getsockname()[1]}"


def outside_urls(settings: Settings) -> tuple[str, str]:
    """The database's URL as the service works with it, and as its owner changes it."""
    assert settings.database_url is not None
    url = settings.database_url.get_secret_value()
    return url, settings.owner_url.get_secret_value() if settings.owner_url else url


def require_current(url: str, owner_url: str) -> None:
    """Make the tables of an empty database; a filled one is never changed by a start. Raises
    SortitorError for one of another version.
    """
    with single_engine(owner_url) as owner:
        found = upgrades.checked_state(owner)
        if found.revision is None:
            schema.upgrade(owner)
            if url != owner_url:
                with transaction(owner) as connection:
                    roles.grant(connection, urlsplit(url).username or roles.APPLICATION)
        elif found.missing:
            raise upgrades.needed(found)


def _prepared(settings: Settings, cluster: Cluster, owner_url: str) -> str:
    """The embedded database with up-to-date tables, for the application's role. Before it is
    changed by a newer version it is backed up, and that is said.
    """
    password = cluster.application_password()
    with single_engine(owner_url) as owner:
        found = upgrades.checked_state(owner)
        if found.revision is not None and found.missing:
            upgrades.with_backup(settings, owner_url, found)
        if found.missing:
            schema.upgrade(owner)
        with transaction(owner) as connection:
            if found.missing or not roles.is_granted(connection, roles.APPLICATION):
                roles.grant(connection, roles.APPLICATION, password)
    return with_role(owner_url, roles.APPLICATION, password)


def recreate(run: Runtime) -> None:
    """Throw the database's content away and make the tables anew; only the demonstration does
    this, to its own.
    """
    with single_engine(run.owner_url) as owner:
        schema.recreate(owner)
        with transaction(owner) as connection:
            roles.grant(connection, roles.APPLICATION)


#: Check-ins look single rows up, by statements that are planned once: one that was planned while a
#: table was empty would read all of it, from the moment it is filled until it is analysed.
_LOOK_UPS = "-c enable_seqscan=off"


def application(
    run: Runtime,
    own_url: str,
    announce: Callable[[], None] | None = None,
    loaded: threading.Event | None = None,
) -> FastAPI:
    """The HTTP application with its check-in pool and, if wanted, the worker, which begins once
    what requests may wait for is loaded.
    """
    settings = run.settings
    pool: AsyncConnectionPool[AsyncConnection[Any]] = AsyncConnectionPool(
        run.url,
        min_size=1,
        max_size=4,
        open=False,
        timeout=10,
        check=AsyncConnectionPool.check_connection,
        kwargs={"options": f"{_LOOK_UPS} -c timezone=UTC -c sortitor.zone={settings.time_zone}"},
    )
    metrics = settings.metrics_token
    service = Service(
        following=Following(run.url),
        engine=run.engine,
        clock=run.clock,
        # Where this process listens, for links where no public address is set.
        limits=replace(run.limits, public_url=run.limits.public_url or own_url),
        async_pool=pool,
        max_upload_bytes=settings.max_upload_bytes,
        secure_cookies=settings.secure_cookies,
        origins=settings.origins,
        body_seconds=settings.body_seconds,
        request_seconds=settings.request_seconds,
        metrics_token=metrics.get_secret_value() if metrics else None,
        outside=run.outside,
        vault=run.vault,
        storage=run.storage,
        standby=run.standby,
        digest_key=derived(run.key, "repeated requests"),
        seal_seed=derived(run.key, "the journal's head"),
        counter=Counter(
            Rates(
                account_per_minute=settings.account_per_minute,
                stranger_per_minute=settings.stranger_per_minute,
                failures_per_minute=settings.failures_per_minute,
                sign_ins_per_minute=settings.sign_ins_per_minute,
                at_once=settings.at_once,
            )
        ),
    )

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        await pool.open()
        service.check_ins = CheckIns(pool, run.clock)
        service.waking = waking = Waking(run.url, pool)
        beside = [
            asyncio.create_task(service.following.listen()),
            asyncio.create_task(waking.listen()),
        ]
        if settings.worker:
            beside.append(asyncio.create_task(_work_after(loaded, run)))
        if announce:
            announce()
        try:
            yield
        finally:
            for task in beside:
                task.cancel()
            await asyncio.gather(*beside, return_exceptions=True)
            await pool.close()

    return make_app(service, lifespan)


async def _work_after(loaded: threading.Event | None, run: Runtime) -> None:
    while loaded is not None and not loaded.is_set():
        await asyncio.sleep(0.05)
    await work(run)


async def work(run: Runtime) -> None:
    """The queue's worker, started again whenever the database was away, until it is cancelled: then
    it finishes what it does within a few seconds, or hands it back.
    """
    task = asyncio.current_task()
    assert task is not None
    leash = Leash(None)
    beside = [asyncio.create_task(_seal_for_ever(run))]
    if run.settings.mail_host:
        beside.append(asyncio.create_task(_mail_for_ever(run, mail_server(run.settings))))
    if run.settings.backup_folder is not None:
        beside.append(asyncio.create_task(_back_up_for_ever(run, run.settings.backup_folder)))
    try:
        await _work(run, task, leash)
    finally:
        for one in beside:
            one.cancel()
        await asyncio.gather(*beside, return_exceptions=True)


async def _back_up_for_ever(run: Runtime, folder: Path) -> None:
    """Write a backup whenever the last one is old enough; whoever works, it is written once."""
    while True:
        try:
            await asyncio.to_thread(back_up_when_due, run, folder)
        except Exception as error:  # noqa: BLE001 - told, and tried again
            log.error("backup_failed", reason=str(error))
        await asyncio.sleep(_LOOK_FOR_BACKUP_SECONDS)


def back_up_when_due(run: Runtime, folder: Path) -> Path | None:
    """The backup that was due, or None. Of several processes the one that holds the fact writes."""
    settings, now = run.settings, wall_now()
    with transaction(run.work_engine) as connection:
        last = facts.fact(connection, _LAST_BACKUP, lock=True)
        due = timedelta(hours=settings.backup_every_hours)
        if last is not None and now - datetime.fromisoformat(last) < due:
            return None
        facts.set_fact(connection, _LAST_BACKUP, now.isoformat())
    file = folder / f"scheduled-{now:%Y%m%d-%H%M%S}{backups.SUFFIX}"
    try:
        backups.write_backup(run.url, file, settings.key_files, settings.backup_recipient)
    except BaseException:
        with transaction(run.work_engine) as connection:
            facts.set_fact(connection, _LAST_BACKUP, last)
        raise
    gone = backups.prune(folder, settings.backup_keep)
    log.info("backed_up", file=str(file), removed=len(gone))
    return file


async def _seal_for_ever(run: Runtime) -> None:
    """Seal what was written to the journal, within seconds."""
    ctx = run.context("schedule")
    while True:
        try:
            await asyncio.to_thread(seals.seal, ctx)
        except Exception as error:  # noqa: BLE001 - the database may be away; what waits is sealed later
            log.warning("not_sealed", reason=str(error))
        await asyncio.sleep(_SEAL_EVERY_SECONDS)


def mail_server(settings: Settings) -> MailServer:
    """The mail server of the settings."""
    return MailServer(
        host=settings.mail_host,
        port=settings.mail_port,
        sender=settings.mail_from or f"sortitor@{settings.mail_host}",
        security=settings.mail_security,
        user=settings.mail_user,
        password=settings.mail_password.get_secret_value(),
    )


def _send_mails(ctx: Context, postman: MailServer) -> None:
    for tried in mail.send_due(ctx, postman):
        tell = log.info if tried.state is MailState.SENT else log.warning
        tell(
            "mail_tried",
            mail=tried.mail_id,
            kind=tried.kind,
            state=tried.state.value,
            tries=tried.tries,
            reason=tried.reason,
        )


async def _mail_for_ever(run: Runtime, postman: MailServer) -> None:
    """Send what waits in the outbox, within a second."""
    ctx = run.context("schedule")
    while True:
        try:
            await asyncio.to_thread(_send_mails, ctx, postman)
        except Exception as error:  # noqa: BLE001 - the database may be away; what waits is sent later
            log.warning("mails_not_sent", reason=str(error))
        await asyncio.sleep(_LOOK_FOR_MAIL_SECONDS)


async def _work(run: Runtime, task: asyncio.Task[Any], leash: Leash) -> None:
    # Being cancelled may be taken in by whatever was awaited; asked for it is all the same.
    while not task.cancelling():
        hurrying = None
        try:
            tasks = await asyncio.to_thread(_loaded, "sortitor.jobs.tasks")
            app = tasks.make_app(run.url)
            async with app.open_async():
                working = asyncio.ensure_future(
                    app.run_worker_async(
                        concurrency=2,
                        install_signal_handlers=False,
                        shutdown_graceful_timeout=_GRACE_SECONDS * 2,
                        additional_context={"context": run.context("schedule", leash)},
                        name=f"worker-{os.getpid()}",
                    )
                )
                try:
                    await asyncio.shield(working)
                except asyncio.CancelledError:
                    hurrying = asyncio.get_running_loop().call_later(_GRACE_SECONDS, leash.end)
                    working.cancel()
                    await asyncio.gather(working, return_exceptions=True)
                    raise
        except asyncio.CancelledError:
            raise
        except Exception as error:  # noqa: BLE001 - whatever stopped the worker, it must come back
            log.warning("worker_lost", reason=str(error))
        finally:
            if hurrying is not None:
                hurrying.cancel()
        await asyncio.sleep(2)


async def work_until_signal(run: Runtime) -> None:
    """The worker by itself, until SIGINT or SIGTERM."""
    working = asyncio.create_task(work(run))
    loop = asyncio.get_running_loop()
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, working.cancel)
    with contextlib.suppress(asyncio.CancelledError):
        await working


def offer_setup(run: Runtime) -> str | None:
    """On the first start: write the one-time administrator secret into the state directory; gives
    the file's path. Made of the installation's key, it is the same for all services that share it.
    """
    file = run.settings.state_dir / _SETUP_FILE
    secret = urlsafe_b64encode(derived(run.key, "first administrator")[:18]).decode()
    if not accounts.offer_setup(run.engine, secret):
        file.unlink(missing_ok=True)
        return None
    file.parent.mkdir(parents=True, exist_ok=True)
    file.unlink(missing_ok=True)
    file.touch(mode=0o600)
    file.write_text(secret + "\n")
    return str(file)


#: So many connections wait to be taken up.
_BACKLOG = 2_048


def listen(settings: Settings) -> socket.socket:
    """The listening socket. Raises SortitorError if the port is taken."""
    listener = socket.socket(socket.AF_INET6 if ":" in settings.host else socket.AF_INET)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((settings.host, settings.port))
    except OSError as error:
        listener.close()
        raise SortitorError(
            "port_taken",
            f"Port {settings.port} on {settings.host} cannot be used: {error.strerror}.",
            "Choose another with --port or SORTITOR_PORT; 0 takes a free one.",
        ) from error
    return listener


def _loaded(module: str) -> Any:
    """A module that the start did not wait for."""
    with LOADING:
        return importlib.import_module(module)


def _load_the_rest(loaded: threading.Event) -> None:
    """What the start did not wait for."""
    try:
        load_routes()
        # No file waits for the first reader.
        file_readers.house.get_ready()
    finally:
        loaded.set()
        # What is loaded by now stays: looked through for garbage again and again, it would hold
        # some request up for a sixth of a second.
        gc.freeze()
        gc.enable()


def serve(run: Runtime, listener: socket.socket, ready: Callable[[], None]) -> None:
    """Answer requests until a signal comes; whoever calls says what a signal does."""

    loaded = threading.Event()

    def answering() -> None:
        # Uvicorn listens after the start: whoever hears that it is ready would be refused.
        listener.listen(_BACKLOG)
        ready()
        threading.Thread(target=_load_the_rest, args=(loaded,), daemon=True, name="routes").start()

    config = uvicorn.Config(
        application(run, own_url(run.settings, listener), answering, loaded),
        backlog=_BACKLOG,
        log_config=None,
        access_log=False,
        timeout_graceful_shutdown=10,
        timeout_keep_alive=KEEP_ALIVE_SECONDS,
        server_header=False,
        http=PatientHttp,
        ws="none",
        proxy_headers=bool(run.settings.trusted_proxies),
        forwarded_allow_ips=run.settings.trusted_proxies,
    )
    logging.getLogger("uvicorn.error").addFilter(is_new)
    uvicorn.Server(config).run(sockets=[listener])
