"""Keys of issuers, the books of pools, and what is known of the devices that take seats."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from sqlalchemy import Connection, delete, func, select, update
from sqlalchemy.dialects.postgresql import insert

from sortitor.core.licences.books import Grant
from sortitor.core.vocabulary import Act
from sortitor.store.rows import number, read_all, read_one
from sortitor.store.tables import grants, issuer_keys, sources

# ---- keys


@dataclass(frozen=True, slots=True)
class KeysMoved:
    """How many keys are new, and how many are there no longer."""

    added: int
    gone: int


@dataclass(frozen=True, slots=True)
class KeyRow:
    """A public key of an issuer."""

    source_id: int
    source: str
    kid: str
    jwk: dict[str, Any]
    since: datetime


_KEYS = select(issuer_keys, sources.c.name.label("source")).join(
    sources, sources.c.id == issuer_keys.c.source_id
)


def keys_of(connection: Connection, source_id: int) -> list[KeyRow]:
    """The keys of one issuer."""
    query = _KEYS.where(issuer_keys.c.source_id == source_id)
    return read_all(connection, query.order_by(issuer_keys.c.kid), KeyRow)


def keys_called(connection: Connection, kid: str) -> list[KeyRow]:
    """The keys of this number, of whatever issuer."""
    query = _KEYS.where(issuer_keys.c.kid == kid)
    return read_all(connection, query.order_by(issuer_keys.c.source_id), KeyRow)


def key_counts(connection: Connection) -> dict[int, int]:
    """Issuer → how many keys it has."""
    query = select(issuer_keys.c.source_id, func.count()).group_by(issuer_keys.c.source_id)
    return {row[0]: row[1] for row in connection.execute(query)}


def keys_moved(
    connection: Connection, source_id: int, keys: Mapping[str, Mapping[str, Any]]
) -> KeysMoved:
    """What becomes of an issuer's keys when it has these."""
    known = {row.kid: row.jwk for row in keys_of(connection, source_id)}
    added = sum(known.get(kid) != dict(jwk) for kid, jwk in keys.items())
    return KeysMoved(added, len(known.keys() - keys.keys()))


def put_keys(
    connection: Connection, source_id: int, keys: Mapping[str, Mapping[str, Any]], now: datetime
) -> None:
    """Let an issuer have these keys and no others."""
    gone = issuer_keys.c.kid.not_in(list(keys))
    connection.execute(delete(issuer_keys).where(issuer_keys.c.source_id == source_id, gone))
    lines = [
        {"source_id": source_id, "kid": kid, "jwk": dict(jwk), "since": now}
        for kid, jwk in keys.items()
    ]
    put = insert(issuer_keys).values(lines)
    new = {"jwk": put.excluded.jwk, "since": put.excluded.since}
    is_other = issuer_keys.c.jwk != put.excluded.jwk
    connection.execute(
        put.on_conflict_do_update(index_elements=["source_id", "kid"], set_=new, where=is_other)
    )


# ---- the books


@dataclass(frozen=True, slots=True)
class GrantRow:
    """A voucher that was used; `issuer` is what it says of its maker, `issuer_name` the source."""

    id: int
    pool_id: int
    issuer: str
    issuer_name: str
    voucher: str
    used_as: str
    token: str
    product: str
    trial: bool
    act: Act
    seats: int
    days: int
    granted_on: date
    at: datetime
    by: str
    reason: str | None
    entry_id: int
    reverted_at: datetime | None
    reverted_by: str | None

    @property
    def booked(self) -> Grant:
        """As the books have it."""
        return Grant(self.act, self.seats, self.days, self.granted_on)


def history(connection: Connection, pool_ids: Collection[int]) -> dict[int, list[GrantRow]]:
    """Pool → every voucher that was used for it, in order, also those taken back."""
    found: dict[int, list[GrantRow]] = {pool_id: [] for pool_id in pool_ids}
    query = select(grants).where(grants.c.pool_id.in_(list(pool_ids))).order_by(grants.c.id)
    for row in read_all(connection, query, GrantRow):
        found[row.pool_id].append(row)
    return found


def uses(connection: Connection, issuer: str, voucher: str) -> list[GrantRow]:
    """Every use of one voucher, in order."""
    of_it = (grants.c.issuer == issuer, grants.c.voucher == voucher)
    return read_all(connection, select(grants).where(*of_it).order_by(grants.c.id), GrantRow)


def by_entry(connection: Connection, entry_id: int, lock: bool = False) -> GrantRow | None:
    """The use that a journal entry tells of."""
    query = select(grants).where(grants.c.entry_id == entry_id)
    return read_one(connection, query.with_for_update() if lock else query, GrantRow)


def add_grant(connection: Connection, values: Mapping[str, Any]) -> int:
    """Book a voucher; the database refuses one that is booked already."""
    return number(connection, grants.insert().values(**values).returning(grants.c.id))


def take_back(connection: Connection, grant_id: int, at: datetime, by: str) -> None:
    """Note that a use was taken back."""
    connection.execute(
        update(grants).where(grants.c.id == grant_id).values(reverted_at=at, reverted_by=by)
    )
