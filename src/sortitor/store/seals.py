"""The seals of the journal: which entries have none yet, and the chain as it is kept."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, Select, func, insert, select, text

from sortitor.store import locks
from sortitor.store.engine import raw
from sortitor.store.rows import among, number, read_all, read_one
from sortitor.store.tables import journal, journal_seals

_UNSEALED = ("transaction_id", "erased_by")
_SEALED = select(*(column for column in journal.c if column.name not in _UNSEALED))
_HAS_SEAL = select(journal_seals.c.place).where(journal_seals.c.entry_id == journal.c.id).exists()
# An entry's effects as one digest: of the digests of each in the order of devices, and of the spans
# of devices that it created. PostgreSQL writes a jsonb always the same way.
_EFFECTS = """
SELECT e.entry_id, encode(sha256(string_agg(coalesce(e.erased, sha256(convert_to(
    jsonb_build_array(e.device_id, e.before, e.after)::text, 'UTF8'))), ''::bytea
    ORDER BY e.device_id)), 'hex')
FROM journal_effects e WHERE e.entry_id = ANY(%(ids)s) AND e.entry_id BETWEEN %(low)s AND %(high)s
GROUP BY e.entry_id
UNION ALL
SELECT c.entry_id, encode(sha256(string_agg(sha256(convert_to(jsonb_build_array(c.first_device_id,
    c.last_device_id, c.after)::text, 'UTF8')), ''::bytea ORDER BY c.first_device_id)), 'hex')
FROM journal_creations c WHERE c.entry_id = ANY(%(ids)s) GROUP BY c.entry_id
ORDER BY 1, 2
"""


@dataclass(frozen=True, slots=True)
class SealRow:
    """One place of the chain."""

    place: int
    entry_id: int
    digest: bytes
    sealed_at: datetime


def hold_the_chain(connection: Connection) -> bool:
    """Whether this transaction is the one that seals; there is one at a time."""
    return bool(
        connection.execute(select(func.pg_try_advisory_xact_lock(locks.SEALS))).scalar_one()
    )


def oldest_running(connection: Connection) -> int:
    """The number of the oldest transaction that is not over: every lower one is."""
    return int(
        connection.execute(
            text("SELECT pg_snapshot_xmin(pg_current_snapshot())::text::bigint")
        ).scalar_one()
    )


def unsealed(connection: Connection, horizon: int, limit: int) -> list[dict[str, Any]]:
    """Entries without a seal, of transactions from the horizon on; lowest number first."""
    visible = text("pg_snapshot_xmax(pg_current_snapshot())::text::bigint")
    query = _SEALED.where(
        journal.c.transaction_id >= horizon, journal.c.transaction_id < visible, ~_HAS_SEAL
    )
    return _entries(connection, query.order_by(journal.c.id).limit(limit))


def count_unsealed(connection: Connection) -> int:
    """How many entries have no seal."""
    query = select(func.count()).select_from(journal).where(~_HAS_SEAL)
    return number(connection, query)


def entries(connection: Connection, ids: Sequence[int]) -> list[dict[str, Any]]:
    """Entries by number, with the digests of their effects."""
    return _entries(connection, _SEALED.where(among(journal.c.id, ids)))


_VOUCHED = """
SELECT j.id, v.after -> 'seals' ->> j.id::text FROM journal j JOIN journal v ON v.id = j.erased_by
WHERE j.id = ANY (%s) AND v.operation = 'device.erase'
"""


def vouched(connection: Connection, ids: Sequence[int]) -> dict[int, str]:
    """The entries that were emptied → the digest, in hex, that their erasure vouches for."""
    found = raw(connection).execute(_VOUCHED, [list(ids)]).fetchall()
    return {int(str(entry_id)): str(digest) for entry_id, digest in found}


def _entries(connection: Connection, query: Select[Any]) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = [dict(row._mapping) for row in connection.execute(query)]
    if not found:
        return found
    ids = [int(entry["id"]) for entry in found]
    effects: dict[int, list[str]] = {}
    given = {"ids": ids, "low": min(ids), "high": max(ids)}
    for entry_id, digest in raw(connection).execute(_EFFECTS, given).fetchall():
        effects.setdefault(int(str(entry_id)), []).append(str(digest))
    return [{**entry, "effects_sha256": effects.get(entry["id"], [])} for entry in found]


def last(connection: Connection) -> SealRow | None:
    """The end of the chain."""
    query = select(journal_seals).order_by(journal_seals.c.place.desc()).limit(1)
    return read_one(connection, query, SealRow)


def at(connection: Connection, place: int) -> SealRow | None:
    """One place."""
    return read_one(
        connection, select(journal_seals).where(journal_seals.c.place == place), SealRow
    )


def after(connection: Connection, place: int, limit: int) -> list[SealRow]:
    """The places that follow one, in order."""
    query = select(journal_seals).where(journal_seals.c.place > place)
    return read_all(connection, query.order_by(journal_seals.c.place).limit(limit), SealRow)


def add(connection: Connection, seals: Sequence[SealRow]) -> None:
    """Put seals at the end of the chain."""
    connection.execute(
        insert(journal_seals),
        [
            {
                "place": one.place,
                "entry_id": one.entry_id,
                "digest": one.digest,
                "sealed_at": one.sealed_at,
            }
            for one in seals
        ],
    )
