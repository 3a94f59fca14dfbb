"""The connection to PostgreSQL: one engine a process, short transactions, foreign errors turned
into ours.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from select import POLLIN, poll
from typing import Any

import psycopg
from psycopg import Connection as RawConnection
from sqlalchemy import Connection as Connection
from sqlalchemy import Engine as Engine
from sqlalchemy import create_engine, event, text
from sqlalchemy.exc import DBAPIError, InvalidatePoolError

from sortitor.store.failures import translate


def make_engine(url: str, pool_size: int) -> Engine:
    """An engine that notices a dead connection before it uses one."""
    engine = create_engine(
        # The connection used last is taken first: what it has planned and read is at hand.
        url,
        pool_size=pool_size,
        max_overflow=pool_size,
        pool_timeout=30,
        pool_use_lifo=True,
        connect_args={"connect_timeout": 10, "options": "-c timezone=UTC -c lock_timeout=60s"},
    )
    event.listen(engine, "checkout", _refuse_dead)
    return engine


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
def transaction(engine: Engine) -> Iterator[Connection]:
    """One transaction; a failure of the database rolls it back and is raised as an error of
    ours.
    """
    try:
        with engine.begin() as connection:
            yield connection
    except (DBAPIError, psycopg.Error) as error:
        # COPY and set-based statements go to the driver directly, so its own errors arrive here
        # too.
        raise translate(error) from error


def raw(connection: Connection) -> RawConnection[tuple[object, ...]]:
    """The psycopg connection under the transaction, for COPY."""
    driver = connection.connection.driver_connection
    assert isinstance(driver, RawConnection)
    return driver


def plan_anew(connection: Connection) -> None:
    """Plan every statement of this transaction for its own values: a filter that few devices fit
    needs another plan than one that most fit.
    """
    raw(connection).execute("SET LOCAL plan_cache_mode = force_custom_plan")


def ping(connection: Connection) -> None:
    """Ask the database for a sign of life."""
    connection.execute(text("SELECT 1"))
