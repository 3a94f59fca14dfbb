"""Passes and arrivals."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    Column,
    Computed,
    ForeignKey,
    Index,
    Integer,
    Table,
    Text,
)
from sqlalchemy.dialects.postgresql import JSONB

from sortitor.core import vocabulary
from sortitor.store.tables.base import (
    Time,
    metadata,
    number_column,
    words,
)

passes = Table(
    "passes",
    metadata,
    number_column(),
    Column("code_hash", Text, nullable=False, unique=True),
    # The terms as they were written down; beside them what SQL counts and compares.
    Column("document", JSONB, nullable=False),
    Column("label", Text, Computed("document ->> 'label'", persisted=True), nullable=False),
    Column("person_id", ForeignKey("people.id")),
    Column("valid_from", Time, nullable=False),
    Column("valid_until", Time, nullable=False),
    Column("max_uses", Integer),
    Column("uses", Integer, nullable=False, server_default="0"),
    Column("created_by", Text, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("revoked_at", Time),
    CheckConstraint("max_uses IS NULL OR uses <= max_uses", name="uses"),
)

arrivals = Table(
    "arrivals",
    metadata,
    number_column(),
    Column("at", Time, nullable=False),
    Column("outcome", Text, nullable=False),
    Column("device_id", BigInteger),
    Column("person_id", BigInteger),
    Column("pass_id", BigInteger),
    Column("stated", JSONB, nullable=False),
    Column("reasons", JSONB, nullable=False),
    Column("trace", JSONB, nullable=False),
    # That of a device in use which did not show its credential: a coordinator decides.
    Column("claim", Text),
    # What the gate knew when it decided; null for those of before it was kept.
    Column("facts", JSONB),
    words("outcome", vocabulary.Outcome),
    words("claim", vocabulary.Claim),
    Index(None, "outcome", "id"),
    Index(None, "device_id"),
    Index(None, "at"),
)

Index("ix_arrivals_claim", arrivals.c.device_id, postgresql_where=arrivals.c.claim == "open")
