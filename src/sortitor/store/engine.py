"""The connection to PostgreSQL: one engine a process, short transactions, foreign errors turned
into ours.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import date
from functools import lru_cache
from select import POLLIN, poll
from typing import Any

import psycopg
from psycopg import Connection as RawConnection
from psycopg.types.json import set_json_loads
from pydantic_core import from_json
from sqlalchemy import Connection as Connection
from sqlalchemy import Engine as Engine
from sqlalchemy import create_engine, event
from sqlalchemy.exc import DBAPIError, InvalidatePoolError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from sqlalchemy.pool import QueuePool

from sortitor.core.errors import Busy, OutOfTime, Unavailable
from sortitor.store import zones
from sortitor.store.failures import translate

# Read by what reads requests, which takes a quarter of the time.
set_json_loads(from_json)

#: How long somebody waits for one of the process's connections.
_POOL_SECONDS = 10
_LOCK_SECONDS = 60
_PROBE_SECONDS = 3
#: Connections of a process for what is written beside a transaction; as many again under load.
_BESIDE = 5
_REMEMBERED, _URL = "sortitor", "sortitor_url"


def make_engine(
    url: str,
    pool_size: int,
    statement_seconds: int = 0,
    zone: str = "UTC",
    connect_seconds: int = 10,
    pool_seconds: int = _POOL_SECONDS,
    autocommit: bool = False,
) -> Engine:
    """An engine that notices a dead connection before it uses one. `statement_seconds` bounds every
    statement; 0 bounds none. In `zone` days begin and end. With `autocommit` every statement is a
    transaction of its own.
    """
    options = (
        f"-c timezone=UTC -c lock_timeout={_LOCK_SECONDS}s"
        " -c idle_in_transaction_session_timeout=15min"
        f" -c statement_timeout={statement_seconds}s -c sortitor.zone={zone}"
    )

    def connect() -> RawConnection[Any]:
        # libpq reads the URL itself: it may name several hosts, of which one takes writes.
        return psycopg.connect(
            url, connect_timeout=connect_seconds, options=options, autocommit=autocommit
        )

    engine = create_engine(
        "postgresql+psycopg://",
        creator=connect,
        # The connection used last is taken first: what it has planned and read is at hand.
        pool_size=pool_size,
        max_overflow=pool_size,
        pool_timeout=pool_seconds,
        pool_use_lifo=True,
        execution_options={_URL: url},
        # What a statement was given is for nobody who reads the log.
        hide_parameters=True,
    )
    event.listen(engine, "checkout", _refuse_dead)
    zones.set_zone(engine.dialect, zone)
    return engine


@contextmanager
def single_engine(url: str) -> Iterator[Engine]:
    """An engine of one connection for a short piece of work, such as the owner's."""
    engine = make_engine(url, 1)
    try:
        yield engine
    finally:
        engine.dispose()


@lru_cache(maxsize=16)
def with_options(engine: Engine, isolation: str | None = None, reads: bool = False) -> Engine:
    """The engine with transactions of this isolation, in which the database refuses every change
    where it only `reads`; made once, since making it takes longer than a small query.
    """
    options: dict[str, Any] = {"postgresql_readonly": True} if reads else {}
    if isolation is not None:
        options["isolation_level"] = isolation
    return engine.execution_options(**options)


@lru_cache(maxsize=16)
def beside(engine: Engine) -> Engine:
    """Of the same database, for one statement at a time that stands whatever becomes of the
    transaction that asks for it. Its connections are others: they would else all be held by those
    who wait for one. They are closed with the engine's.
    """
    own = make_engine(url_of(engine), _BESIDE, pool_seconds=_LOCK_SECONDS, autocommit=True)
    event.listen(engine, "engine_disposed", lambda _: own.dispose())
    return own


class Leash:
    """How long a request may take. Once it is ended, what it asks of the database is cancelled, and
    it gets nothing more.
    """

    def __init__(self, seconds: float | None) -> None:
        self._until = None if seconds is None else time.monotonic() + seconds
        self._ended = False
        self._lock = threading.Lock()
        self._held: set[RawConnection[Any]] = set()

    @property
    def over(self) -> bool:
        """Whether the time has passed."""
        return self._ended or (self._until is not None and time.monotonic() > self._until)

    def loosen(self) -> None:
        """The request may take as long as it likes, as a stream does."""
        self._until = None

    def check(self) -> None:
        """Raise OutOfTime once the time has passed."""
        if self.over:
            raise OutOfTime

    def end(self) -> None:
        """Cancel what is being asked of the database."""
        with self._lock:
            self._ended = True
            held = list(self._held)
        for connection in held:
            with suppress(psycopg.Error):
                connection.cancel_safe(timeout=_PROBE_SECONDS)

    @contextmanager
    def around(self, connection: Connection) -> Iterator[None]:
        """While a connection is used."""
        self.check()
        driver = raw(connection)
        with self._lock:
            self._held.add(driver)
        try:
            yield
        finally:
            with self._lock:
                self._held.discard(driver)


def _refuse_dead(connection: RawConnection[Any], *_: Any) -> None:
    """An idle connection has nothing to say unless its server is gone: cheaper to see than to ask
    for a sign of life.
    """
    if not connection.closed:
        heard = poll()
        heard.register(connection.fileno(), POLLIN)
        if not heard.poll(0):
            return
    raise InvalidatePoolError


@contextmanager
def transaction(engine: Engine, leash: Leash | None = None) -> Iterator[Connection]:
    """One transaction; a failure of the database rolls it back and is raised as an error of ours.

    It ends with its leash. Raises Busy when every connection of the process is at work.
    """
    try:
        with engine.begin() as connection:
            connection.info.pop(_REMEMBERED, None)
            if leash is None:
                yield connection
            else:
                with leash.around(connection):
                    yield connection
    except PoolTimeout as error:
        raise Busy("Every connection to the database is at work") from error
    except (DBAPIError, psycopg.Error) as error:
        # COPY and set-based statements go to the driver directly, so its own errors arrive here
        # too.
        raise translate(error) from error


def url_of(engine: Engine) -> str:
    """With which URL an engine connects."""
    return str(engine.get_execution_options()[_URL])


#: A standby that streams, and has what the primary wrote up to a few seconds ago.
_FOLLOWS = """
SELECT EXISTS (SELECT FROM pg_stat_wal_receiver WHERE pid IS NOT NULL)
    AND (pg_last_wal_receive_lsn() = pg_last_wal_replay_lsn()
        OR now() - pg_last_xact_replay_timestamp() < make_interval(secs => %s))
"""


def follows(standby: Engine, within_seconds: float) -> bool:
    """Whether a standby is there, and no more than so far behind its primary."""
    # A standby takes no transaction that might write.
    reading = with_options(standby, reads=True)
    try:
        with reading.connect() as connection:
            found = raw(connection).execute(_FOLLOWS, [within_seconds]).fetchone()
    except (DBAPIError, psycopg.Error, PoolTimeout):
        return False
    return found is not None and bool(found[0])


#: How often, and after how many seconds, a standby that is to have everything is asked again.
_LOOKS, _LOOK_SECONDS = 10, 0.02


def has_caught_up(standby: Engine, primary: Engine) -> bool:
    """Whether a standby has everything that the primary has written so far, a moment's patience
    included.
    """
    try:
        with with_options(primary, "AUTOCOMMIT").connect() as connection:
            written = raw(connection).execute("SELECT pg_current_wal_lsn()").fetchone()
        with with_options(standby, "AUTOCOMMIT").connect() as connection:
            asking = "SELECT pg_last_wal_replay_lsn() >= %s::pg_lsn"
            for _ in range(_LOOKS):
                if raw(connection).execute(asking, written).fetchone() == (True,):
                    return True
                time.sleep(_LOOK_SECONDS)
    except (DBAPIError, psycopg.Error, PoolTimeout):
        pass
    return False


def probe(engine: Engine) -> None:
    """Ask the database for a sign of life on a connection of its own, so that busy ones do not make
    it look dead. Raises Unavailable.
    """
    try:
        with psycopg.connect(url_of(engine), connect_timeout=_PROBE_SECONDS) as connection:
            connection.execute("SELECT 1")
    except psycopg.Error as error:
        raise Unavailable(
            "database_unavailable", "The database cannot be reached.", "Try again in a moment."
        ) from error


def raw(connection: Connection) -> RawConnection[tuple[object, ...]]:
    """The psycopg connection under the transaction, for COPY."""
    driver = connection.connection.driver_connection
    assert isinstance(driver, RawConnection)
    return driver


def remembered(connection: Connection) -> dict[str, Any]:
    """What is known of this transaction, and forgotten with it."""
    found: dict[str, Any] = connection.info.setdefault(_REMEMBERED, {})
    return found


def set_today(connection: Connection, today: date) -> None:
    """Let this transaction's changes be of a day that is not the clock's."""
    remembered(connection)["today"] = today


def plan_anew(connection: Connection) -> None:
    """Plan every statement of this transaction for its own values: a filter that few devices fit
    needs another plan than one that most fit.
    """
    raw(connection).execute("SET LOCAL plan_cache_mode = force_custom_plan")


def in_use(engine: Engine) -> tuple[int, int]:
    """How many connections of the pool are at work, and how many can be."""
    pool = engine.pool
    assert isinstance(pool, QueuePool)
    return pool.checkedout(), pool.size() + pool._max_overflow
