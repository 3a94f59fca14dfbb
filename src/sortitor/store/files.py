"""Files that are kept for devices: what is known of them; their bytes lie in the storage."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict, dataclass
from datetime import datetime

from sqlalchemy import Connection, delete, func, insert, select, update

from sortitor.store import locks
from sortitor.store.rows import read_all
from sortitor.store.tables import kept_files


@dataclass(frozen=True, slots=True)
class FileRow:
    """A kept file: its SHA-256 in hex, what it was called, its bytes, who put it in, and when
    something last named it.
    """

    digest: str
    name: str
    size: int
    at: datetime
    by: str
    used_at: datetime


def hold_files(connection: Connection) -> None:
    """Let nobody settle or remove a file until this transaction has ended."""
    connection.execute(select(func.pg_advisory_xact_lock(locks.FILES)))


def every(connection: Connection) -> list[FileRow]:
    """All of them, by name."""
    query = select(kept_files).order_by(func.lower(kept_files.c.name), kept_files.c.digest)
    return read_all(connection, query, FileRow)


def one(connection: Connection, digest: str) -> FileRow | None:
    """The file of a digest."""
    found = read_all(connection, select(kept_files).where(kept_files.c.digest == digest), FileRow)
    return found[0] if found else None


def add(connection: Connection, row: FileRow) -> None:
    """Know of a file."""
    connection.execute(insert(kept_files).values(asdict(row)))


def use(connection: Connection, digests: Iterable[str], now: datetime) -> None:
    """Note that these are named by something."""
    these = kept_files.c.digest.in_(sorted(digests))
    connection.execute(update(kept_files).where(these).values(used_at=now))


def remove(connection: Connection, digest: str) -> None:
    """Forget a file."""
    connection.execute(delete(kept_files).where(kept_files.c.digest == digest))
