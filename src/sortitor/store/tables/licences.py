"""Licences: the keys of issuers, and the vouchers that were used."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    Boolean,
    CheckConstraint,
    Column,
    Date,
    ForeignKey,
    Index,
    Integer,
    PrimaryKeyConstraint,
    Table,
    Text,
)
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

from sortitor.core.vocabulary import Act
from sortitor.store.tables.base import Time, metadata, number_column, words

#: The public keys that an issuer has now, as JSON Web Keys (RFC 7517).
issuer_keys = Table(
    "issuer_keys",
    metadata,
    Column("source_id", ForeignKey("sources.id", ondelete="CASCADE"), nullable=False),
    Column("kid", Text(collation="C"), nullable=False),
    Column("jwk", JSONB, nullable=False),
    Column("since", Time, nullable=False),
    PrimaryKeyConstraint("source_id", "kid"),
)

#: The books: every voucher that was used, also those taken back. No foreign keys: what a pool or an
#: issuer that was removed had stays booked, and comes back with the pool.
grants = Table(
    "grants",
    metadata,
    number_column(),
    Column("pool_id", BigInteger, nullable=False),
    Column("issuer", Text, nullable=False),
    Column("issuer_name", Text, nullable=False),
    Column("voucher", Text, nullable=False),
    # The number under which it is booked: another one each time that it was taken back.
    Column("used_as", Text, nullable=False),
    Column("token", Text, nullable=False),
    Column("product", Text, nullable=False),
    Column("trial", Boolean, nullable=False),
    Column("act", Text, nullable=False),
    Column("seats", Integer, nullable=False),
    Column("days", Integer, nullable=False),
    Column("granted_on", Date, nullable=False),
    Column("at", Time, nullable=False),
    Column("by", Text, nullable=False),
    Column("reason", Text),
    Column("entry_id", BigInteger, nullable=False),
    Column("reverted_at", Time),
    Column("reverted_by", Text),
    words("act", Act),
    CheckConstraint("seats > 0 AND days > 0", name="amount"),
    Index(None, "pool_id", "id"),
)

#: Of which pools a device takes a seat, by number in order (kept right by `store/settling.py`).
#: Rows go with their device by a trigger.
device_seats = Table(
    "device_seats",
    metadata,
    Column("device_id", BigInteger, primary_key=True, autoincrement=False),
    Column("pools", ARRAY(BigInteger), nullable=False),
)

#: How many devices began to take a seat of a pool on a day and how many ceased to, written by
#: triggers on `device_seats`. Without a day: what there was before. A pool that has such a line is
#: kept; one that time moves is counted instead.
seat_moves = Table(
    "seat_moves",
    metadata,
    number_column(),
    Column("pool_id", BigInteger, nullable=False),
    Column("day", Date),
    Column("came", Integer, nullable=False),
    Column("went", Integer, nullable=False),
    Index(None, "pool_id", "day"),
)

#: A voucher counts once.
Index(
    "uq_grants_voucher",
    grants.c.issuer,
    grants.c.voucher,
    unique=True,
    postgresql_where=grants.c.reverted_at.is_(None),
)
Index("uq_grants_used_as", grants.c.issuer, grants.c.used_as, unique=True)
