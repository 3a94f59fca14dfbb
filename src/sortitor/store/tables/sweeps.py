"""Runs of sweep rules, and what is kept out of them."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
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
    Column("held", Integer, nullable=False, server_default="0"),
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

#: What no sweep touches from a day up to and including another: the devices of a person, the
#: members of a cohort, or else the devices that it names.
holds = Table(
    "holds",
    metadata,
    number_column(),
    Column("person_id", ForeignKey("people.id", ondelete="CASCADE")),
    Column("cohort_id", ForeignKey("cohorts.id", ondelete="CASCADE")),
    Column("reason", Text, nullable=False),
    Column("owner", Text, nullable=False),
    Column("from_on", Date, nullable=False),
    Column("until_on", Date, nullable=False),
    Column("created_by", Text, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("ended_at", Time),
    CheckConstraint("person_id IS NULL OR cohort_id IS NULL", name="whose"),
    CheckConstraint("from_on <= until_on", name="days"),
    Index(None, "person_id"),
    Index(None, "cohort_id"),
)

hold_devices = Table(
    "hold_devices",
    metadata,
    Column("hold_id", ForeignKey("holds.id", ondelete="CASCADE"), nullable=False),
    Column("device_id", ForeignKey("devices.id", ondelete="CASCADE"), nullable=False),
    PrimaryKeyConstraint("device_id", "hold_id"),
    Index(None, "hold_id"),
)
