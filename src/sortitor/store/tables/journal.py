"""The journal and what its entries did."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    Column,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    PrimaryKeyConstraint,
    Table,
    Text,
    func,
    text,
)
from sqlalchemy.dialects.postgresql import JSONB

from sortitor.store.tables.base import (
    Time,
    metadata,
    number_column,
)

journal = Table(
    "journal",
    metadata,
    number_column(),
    Column("at", Time, nullable=False),
    Column("actor", Text, nullable=False),
    Column("request_id", Text),
    Column("operation", Text, nullable=False),
    Column("subject", Text, nullable=False),
    Column("subject_id", BigInteger),
    Column("summary", Text, nullable=False),
    Column("reason", Text),
    Column("before", JSONB),
    Column("after", JSONB),
    Column("reverts", BigInteger),
    Column("account_id", BigInteger),
    # Real time, whatever the business's clock says.
    Column("recorded_at", Time, nullable=False, server_default=func.clock_timestamp()),
    Column(
        "transaction_id",
        BigInteger,
        nullable=False,
        server_default=text("((pg_current_xact_id())::text)::bigint"),
    ),
    # Of an entry that was emptied: the erasure that vouches for its seal.
    Column("erased_by", BigInteger),
    Index(None, "transaction_id"),
    Index(None, "operation", "id"),
    Index(None, "subject", "subject_id"),
)

Index(
    "uq_journal_reverts",
    journal.c.reverts,
    unique=True,
    postgresql_where=journal.c.reverts.is_not(None),
)

#: The chain over the entries: each place's digest covers the entry and the digest before it.
journal_seals = Table(
    "journal_seals",
    metadata,
    Column("place", BigInteger, primary_key=True, autoincrement=False),
    Column("entry_id", BigInteger, nullable=False, unique=True),
    Column("digest", LargeBinary, nullable=False),
    Column("sealed_at", Time, nullable=False),
)

#: What an entry did to each device: `before` is null where the device was created, `after` where it
#: was removed.
journal_effects = Table(
    "journal_effects",
    metadata,
    Column("entry_id", BigInteger, nullable=False),
    Column("device_id", BigInteger, nullable=False),
    Column("before", JSONB),
    Column("after", JSONB),
    # Of an effect that was emptied: the digest of what it said.
    Column("erased", LargeBinary),
    PrimaryKeyConstraint("device_id", "entry_id"),
)

#: Devices that an entry created, many at once: their numbers lie between these. It stands for as
#: many effects.
journal_creations = Table(
    "journal_creations",
    metadata,
    Column("entry_id", BigInteger, nullable=False),
    Column("first_device_id", BigInteger, nullable=False),
    Column("last_device_id", BigInteger, nullable=False),
    Column("after", JSONB, nullable=False),
    PrimaryKeyConstraint("first_device_id"),
    Index(None, "entry_id"),
)

for _side in ("before", "after"):
    # By which entries somebody was given a device, or had it taken.
    Index(
        f"ix_journal_effects_{_side}_person",
        journal_effects.c[_side]["person_id"].astext,
        postgresql_where=journal_effects.c[_side]["person_id"].astext.is_not(None),
    )

Index("ix_journal_effects_entry_id", journal_effects.c.entry_id)

#: Erasures of retired devices, with the certificates that tell of them.
erasures = Table(
    "erasures",
    metadata,
    number_column(),
    Column("at", Time, nullable=False),
    Column("by", Text, nullable=False),
    Column("devices", Integer, nullable=False),
    Column("entry_id", BigInteger, nullable=False),
    Column("certificate", JSONB, nullable=False),
)

erased_devices = Table(
    "erased_devices",
    metadata,
    Column("device_id", BigInteger, primary_key=True, autoincrement=False),
    Column("erasure_id", ForeignKey("erasures.id"), nullable=False),
    Index(None, "erasure_id"),
)
