"""What PostgreSQL tells those who listen (LISTEN and NOTIFY)."""

from __future__ import annotations

from collections.abc import AsyncIterator

from psycopg import AsyncConnection, sql
from psycopg import Error as PsycopgError

from sortitor.store.failures import translate

JOBS = "sortitor_jobs"
PUSHES = "sortitor_pushes"
_LOOK_EVERY_SECONDS = 5.0


async def heard(url: str, channel: str) -> AsyncIterator[str | None]:
    """What is told on a channel, on a connection of its own; None every few seconds, as a sign that
    the connection is there. Raises Unavailable when it is lost.
    """
    try:
        async with await AsyncConnection.connect(url, autocommit=True, connect_timeout=10) as line:
            await line.execute(sql.SQL("LISTEN {}").format(sql.Identifier(channel)))
            yield None
            while True:
                async for notice in line.notifies(timeout=_LOOK_EVERY_SECONDS):
                    yield notice.payload
                yield None
    except PsycopgError as error:
        raise translate(error) from error
