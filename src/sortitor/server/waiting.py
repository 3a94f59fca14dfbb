"""A database that is not there yet is waited for; one that lets nobody in is said at once."""

from __future__ import annotations

import re
import time
from urllib.parse import urlsplit

import psycopg
import structlog

from sortitor.core.errors import SortitorError
from sortitor.server.ending import ending

log = structlog.get_logger()
_AGAIN_SECONDS = 1.0
_SAY_EVERY_SECONDS = 30.0
#: What a server says that will be ready in a moment.
_SOON = ("starting up", "shutting down", "recovery", "too many", "remaining connection slots")


def await_database(url: str) -> None:
    """Wait until the database answers; says that it waits, and for what. Raises SortitorError where
    waiting does not help.
    """
    said = -_SAY_EVERY_SECONDS
    while True:
        ending.look()
        try:
            psycopg.connect(url, connect_timeout=10).close()
        except psycopg.OperationalError as error:
            _refuse_for_good(url, str(error))
            if time.monotonic() - said >= _SAY_EVERY_SECONDS:
                said = time.monotonic()
                log.warning("database_awaited", server=server_of(url), reason=reason_of(error))
            time.sleep(_AGAIN_SECONDS)
        else:
            return


def server_of(url: str) -> str:
    """Where a database is, without who signs in to it."""
    parts = urlsplit(url)
    hosts = parts.netloc.rpartition("@")[2] or "a local socket"
    named = hosts if re.search(r":\d+(,|$)", hosts) else f"{hosts}:5432"
    return f"{named}{parts.path}"


def reason_of(error: psycopg.OperationalError) -> str:
    """Why a server lets nobody in, in its own words."""
    first = next(iter(str(error).strip().splitlines()), "no reason is given")
    return first.rpartition("FATAL: ")[2].rpartition("failed: ")[2].strip()


def _refuse_for_good(url: str, words: str) -> None:
    if "FATAL" in words and not any(soon in words for soon in _SOON):
        reason = reason_of(psycopg.OperationalError(words))
        raise SortitorError(
            "database_refuses",
            f"The database at {server_of(url)} lets nobody in: {reason}.",
            "Look at user, password and name in SORTITOR_DATABASE_URL and SORTITOR_OWNER_URL.",
        )
