"""Cohorts and their members."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    Date,
    ForeignKey,
    Index,
    Integer,
    PrimaryKeyConstraint,
    Table,
    Text,
    func,
)

from sortitor.store.tables.base import (
    Time,
    document_columns,
    filter_of_document,
    metadata,
)

#: Sets of devices by filter (kept right by `store/settling.py`) or by list. One that time moves has
#: no members here: it is read by its filter.
cohorts = Table(
    "cohorts",
    metadata,
    *document_columns(),
    filter_of_document(),
    Column("moving", Boolean, nullable=False),
    Column("created_by", Text, nullable=False),
    Column("created_at", Time, nullable=False),
)

Index("uq_cohorts_name", func.lower(cohorts.c.name), unique=True)

cohort_members = Table(
    "cohort_members",
    metadata,
    # Members go with their device and with their cohort by triggers (migration 0005): keys would
    # check a large lot's members one by one.
    Column("cohort_id", BigInteger, nullable=False),
    Column("device_id", BigInteger, nullable=False),
    PrimaryKeyConstraint("cohort_id", "device_id"),
    Index(None, "device_id"),
)

cohort_counts = Table(
    "cohort_counts",
    metadata,
    Column("cohort_id", ForeignKey("cohorts.id", ondelete="CASCADE"), nullable=False),
    Column("day", Date, nullable=False),
    Column("devices", Integer, nullable=False),
    PrimaryKeyConstraint("cohort_id", "day"),
)
