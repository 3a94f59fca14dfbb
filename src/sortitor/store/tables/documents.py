"""Documents: orders, pools, rules, the gate and the naming."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    Column,
    Computed,
    Date,
    Index,
    Integer,
    PrimaryKeyConstraint,
    Table,
    Text,
    func,
)
from sqlalchemy.dialects.postgresql import JSONB

from sortitor.store.tables.base import (
    Time,
    document_columns,
    filter_of_document,
    metadata,
)

orders = Table(
    "orders",
    metadata,
    *document_columns(),
    Column("supplier", Text, Computed("document ->> 'supplier'", persisted=True)),
    # PostgreSQL cannot work a date out of a text by itself: how it reads one is a setting.
    Column("ordered_on", Date),
)

Index("uq_orders_name", func.lower(orders.c.name), unique=True)

#: Of which end somebody was reminded how many days before it.
reminded = Table(
    "reminded",
    metadata,
    Column("key", Text(collation="C"), nullable=False),
    Column("ends_on", Date, nullable=False),
    Column("days", Integer, nullable=False),
    Column("at", Time, nullable=False),
    PrimaryKeyConstraint("key", "ends_on", "days"),
)

#: Gate, naming, welcome card, reminders: one document each, read and changed as a whole.
rulebooks = Table(
    "rulebooks",
    metadata,
    Column("id", BigInteger, primary_key=True, autoincrement=False),
    Column("revision", Integer, nullable=False, server_default="1"),
    Column("name", Text, nullable=False, unique=True),
    Column("document", JSONB, nullable=False),
)

counters = Table(
    "counters",
    metadata,
    Column("template", Text, primary_key=True),
    Column("next_number", BigInteger, nullable=False),
)

pools = Table("pools", metadata, *document_columns(), filter_of_document())

Index("uq_pools_name", func.lower(pools.c.name), unique=True)

sweep_rules = Table("sweep_rules", metadata, *document_columns(), filter_of_document())

Index("uq_sweep_rules_name", func.lower(sweep_rules.c.name), unique=True)

terms = Table("terms", metadata, *document_columns())

Index("uq_terms_name", func.lower(terms.c.name), unique=True)
