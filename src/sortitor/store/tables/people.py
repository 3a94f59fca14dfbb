"""People and groups."""

from __future__ import annotations

from sqlalchemy import (
    CheckConstraint,
    Column,
    Computed,
    ForeignKey,
    Index,
    Integer,
    PrimaryKeyConstraint,
    Table,
    Text,
    func,
)
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

from sortitor.store.tables.base import (
    Time,
    metadata,
    number_column,
)

people = Table(
    "people",
    metadata,
    number_column(),
    Column("user_name", Text, nullable=False),
    Column("name", Text, nullable=False),
    # For searches by a part of it, which go through everybody.
    Column("name_lower", Text, Computed("lower(name)", persisted=True)),
    Column("mail", Text),
    Column("department", Text),
    Column("site", Text),
    Column("left_at", Time),
    # What an identity provider pushed, whole (RFC 7643); the columns above are what Sortitor
    # understands of it. Null: it came by file.
    # `gone_at`: the provider deleted the resource; the person is kept as left.
    Column("pushed", JSONB),
    Column("gone_at", Time),
    # The fields set by hand, which a source leaves alone.
    Column("manual", ARRAY(Text), nullable=False, server_default="{}"),
    Column("revision", Integer, nullable=False, server_default="1"),
    Column("created_at", Time, nullable=False, server_default=func.now()),
    Column("changed_at", Time, nullable=False, server_default=func.now()),
)

Index("ix_people_external_id", people.c.pushed["externalId"].astext.label("external_id"))

Index("uq_people_user_name", func.lower(people.c.user_name), unique=True)

for _column in (people.c.mail, people.c.department, people.c.site):
    Index(f"ix_people_{_column.name}", func.lower(_column))

groups = Table(
    "groups",
    metadata,
    number_column(),
    Column("name", Text, nullable=False),
    Column("external_id", Text),
    Column("revision", Integer, nullable=False, server_default="1"),
    Column("created_at", Time, nullable=False, server_default=func.now()),
    Column("changed_at", Time, nullable=False, server_default=func.now()),
)

Index("uq_groups_name", func.lower(groups.c.name), unique=True)

#: Who was put into a group by name, and which groups were put into it.
group_people = Table(
    "group_people",
    metadata,
    Column("group_id", ForeignKey("groups.id", ondelete="CASCADE"), nullable=False),
    Column("person_id", ForeignKey("people.id", ondelete="CASCADE"), nullable=False),
    PrimaryKeyConstraint("group_id", "person_id"),
    Index(None, "person_id"),
)

group_groups = Table(
    "group_groups",
    metadata,
    Column("group_id", ForeignKey("groups.id", ondelete="CASCADE"), nullable=False),
    Column("inner_id", ForeignKey("groups.id", ondelete="CASCADE"), nullable=False),
    PrimaryKeyConstraint("group_id", "inner_id"),
    Index(None, "inner_id"),
    CheckConstraint("group_id <> inner_id", name="other"),
)

#: Who belongs to which group, by name or through groups in groups; kept right by `store/groups.py`.
memberships = Table(
    "memberships",
    metadata,
    Column("person_id", ForeignKey("people.id", ondelete="CASCADE"), nullable=False),
    Column("group_id", ForeignKey("groups.id", ondelete="CASCADE"), nullable=False),
    PrimaryKeyConstraint("person_id", "group_id"),
    Index(None, "group_id"),
)
