"""Runs of sweep rules."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    Column,
    Date,
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
    Column("dormant", Integer, nullable=False, server_default="0"),
    Column("watched", Integer, nullable=False),
    Column("entry_id", BigInteger),
    # Of a run that stopped: why.
    Column("why", Text),
    CheckConstraint("state IN ('applied', 'reverted', 'braked')", name="state"),
)

#: How many devices gave a sign of life within the day before a moment of each day.
fleet_days = Table(
    "fleet_days",
    metadata,
    Column("day", Date, primary_key=True),
    Column("seen", Integer, nullable=False),
)
