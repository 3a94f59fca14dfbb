"""Accounts, their sessions, tokens and views; facts of the installation."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    PrimaryKeyConstraint,
    Table,
    Text,
    func,
)
from sqlalchemy.dialects.postgresql import JSONB

from sortitor.core import vocabulary
from sortitor.store.tables.base import (
    Time,
    metadata,
    number_column,
    words,
)

accounts = Table(
    "accounts",
    metadata,
    number_column(),
    Column("name", Text, nullable=False),
    Column("password_hash", Text, nullable=False),
    Column("role", Text, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("disabled_at", Time),
    # Failed sign-ins slow the next one down; a good one sets both back.
    Column("failures", Integer, nullable=False, server_default="0"),
    Column("failed_at", Time),
    words("role", vocabulary.Role),
)

Index("uq_accounts_name", func.lower(accounts.c.name), unique=True)

sessions = Table(
    "sessions",
    metadata,
    Column("secret_hash", Text, primary_key=True),
    Column("account_id", ForeignKey("accounts.id", ondelete="CASCADE"), nullable=False),
    Column("expires_at", Time, nullable=False),
)

tokens = Table(
    "tokens",
    metadata,
    number_column(),
    Column("account_id", ForeignKey("accounts.id", ondelete="CASCADE"), nullable=False),
    Column("name", Text, nullable=False),
    Column("secret_hash", Text, nullable=False, unique=True),
    Column("role", Text, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("expires_at", Time, nullable=False),
    Column("revoked_at", Time),
    Column("purpose", Text, nullable=False, server_default="interface"),
    words("role", vocabulary.Role),
    words("purpose", vocabulary.Purpose),
)

#: Small facts of the installation itself, such as the hash of the one-time administrator secret.
installation = Table(
    "installation",
    metadata,
    Column("key", Text, primary_key=True),
    Column("value", Text, nullable=False),
)

idempotency = Table(
    "idempotency",
    metadata,
    Column("account_id", BigInteger, nullable=False),
    Column("key", Text, nullable=False),
    Column("request_hash", Text, nullable=False),
    Column("created_at", Time, nullable=False),
    # Null while the answer is on its way: the change is committed together with this row, the
    # answer after it.
    Column("status", Integer),
    Column("answer", LargeBinary),
    Column("media_type", Text),
    PrimaryKeyConstraint("account_id", "key"),
    Index(None, "created_at"),
)

#: A list of devices as somebody likes to see it: filter, columns, order.
views = Table(
    "views",
    metadata,
    number_column(),
    Column("account_id", ForeignKey("accounts.id", ondelete="CASCADE"), nullable=False),
    Column("name", Text, nullable=False),
    Column("shared", Boolean, nullable=False),
    Column("settings", JSONB, nullable=False),
)

Index("uq_views_name", views.c.account_id, func.lower(views.c.name), unique=True)
