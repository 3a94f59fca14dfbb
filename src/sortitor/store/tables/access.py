"""Accounts, their sessions, tokens and views; facts and kept numbers of the installation."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    Boolean,
    CheckConstraint,
    Column,
    Double,
    ForeignKey,
    Identity,
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
    Column("password_hash", Text),
    # The directory whose password it signs in with, instead.
    Column("source_id", ForeignKey("sources.id")),
    Column("role", Text, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("disabled_at", Time),
    # Alike for names that look alike.
    Column("name_key", Text, nullable=False),
    words("role", vocabulary.Role),
    CheckConstraint("(password_hash IS NULL) <> (source_id IS NULL)", name="opened_by_one"),
)

Index("uq_accounts_name", func.lower(accounts.c.name), unique=True)
Index("uq_accounts_name_key", accounts.c.name_key, unique=True)

sessions = Table(
    "sessions",
    metadata,
    Column("secret_hash", Text, primary_key=True),
    Column("account_id", ForeignKey("accounts.id", ondelete="CASCADE"), nullable=False),
    Column("expires_at", Time, nullable=False),
    Column("id", BigInteger, Identity(), nullable=False, unique=True),
    Column("created_at", Time, nullable=False),
    Column("used_at", Time, nullable=False),
    Column("address", Text),
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
    Column("used_at", Time),
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

#: Numbers that take long to count, as they were counted last, with what they were counted of.
kept_numbers = Table(
    "kept_numbers",
    metadata,
    Column("family", Text, primary_key=True),
    Column("about", Text, nullable=False),
    Column("value", JSONB, nullable=False),
    # Real time, whatever the business's clock says.
    Column("counted_at", Time, nullable=False),
    # How long counting took.
    Column("seconds", Double, nullable=False),
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
    Column("headers", JSONB),
    PrimaryKeyConstraint("account_id", "key"),
    Index(None, "created_at"),
)

#: How often somebody without an account was turned away, by the hour: a row each would drown the
#: lists of those who work here.
strangers = Table(
    "strangers",
    metadata,
    Column("what", Text, nullable=False),
    Column("hour", Time, nullable=False),
    Column("count", BigInteger, nullable=False),
    PrimaryKeyConstraint("what", "hour"),
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
