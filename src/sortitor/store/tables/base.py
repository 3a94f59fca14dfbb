"""What tables have in common."""

from __future__ import annotations

from enum import StrEnum
from typing import Any

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    Column,
    Computed,
    DateTime,
    Integer,
    MetaData,
    Text,
)
from sqlalchemy.dialects.postgresql import JSONB

metadata = MetaData(
    naming_convention={
        "ix": "ix_%(table_name)s_%(column_0_N_name)s",
        "uq": "uq_%(table_name)s_%(column_0_N_name)s",
        "ck": "ck_%(table_name)s_%(constraint_name)s",
        "fk": "fk_%(table_name)s_%(column_0_name)s",
        "pk": "pk_%(table_name)s",
    }
)

Time = DateTime(timezone=True)


def number_column() -> Column[int]:
    return Column("id", BigInteger, primary_key=True, autoincrement=True)


def words(column: str, words: type[StrEnum]) -> CheckConstraint:
    return CheckConstraint(
        f"{column} IN ({', '.join(repr(word.value) for word in words)})", name=column
    )


def document_columns() -> tuple[Column[Any], ...]:
    """The columns of a table of documents that have names."""
    return (
        number_column(),
        Column("revision", Integer, nullable=False, server_default="1"),
        Column("document", JSONB, nullable=False),
        Column("name", Text, Computed("document ->> 'name'", persisted=True), nullable=False),
    )


def filter_of_document() -> Column[Any]:
    return Column("filter", Text, Computed("document ->> 'filter'", persisted=True))
