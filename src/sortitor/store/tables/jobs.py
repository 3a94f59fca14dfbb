"""Long work."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
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

#: Long work: what was asked for, and how far it is. The queue only carries the number.
jobs = Table(
    "jobs",
    metadata,
    number_column(),
    Column("kind", Text, nullable=False),
    Column("title", Text, nullable=False),
    Column("subject_id", BigInteger, nullable=False),
    Column("arguments", JSONB, nullable=False),
    Column("actor", Text, nullable=False),
    Column("role", Text, nullable=False),
    Column("account_id", BigInteger),
    Column("state", Text, nullable=False),
    Column("phase", Text, nullable=False, server_default=""),
    Column("done", BigInteger, nullable=False, server_default="0"),
    Column("total", BigInteger, nullable=False, server_default="0"),
    Column("created_at", Time, nullable=False),
    Column("started_at", Time),
    Column("finished_at", Time),
    Column("cancel", Boolean, nullable=False, server_default="false"),
    Column("problem", JSONB),
    Column("attempts", Integer, nullable=False, server_default="0"),
    words("state", vocabulary.JobState),
)
