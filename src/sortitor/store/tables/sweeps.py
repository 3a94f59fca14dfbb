"""Runs of sweep rules."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    Column,
    ForeignKey,
    Integer,
    Table,
    Text,
)

from sortitor.store.tables.base import (
    Time,
    metadata,
    number_column,
)

sweeps = Table(
    "sweeps",
    metadata,
    number_column(),
    Column("rule_id", ForeignKey("sweep_rules.id", ondelete="SET NULL")),
    Column("rule_name", Text, nullable=False),
    Column("at", Time, nullable=False),
    Column("by", Text, nullable=False),
    Column("state", Text, nullable=False),
    Column("retired", Integer, nullable=False),
    Column("watched", Integer, nullable=False),
    Column("entry_id", BigInteger),
    CheckConstraint("state IN ('applied', 'reverted', 'braked')", name="state"),
)
