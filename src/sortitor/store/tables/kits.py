"""Kits: what is given to whom, and what each device gets."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    Computed,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    PrimaryKeyConstraint,
    Table,
    Text,
    func,
)
from sqlalchemy.dialects.postgresql import ARRAY

from sortitor.core.vocabulary import GivenAs, Giving, ItemState
from sortitor.store.tables.base import Time, document_columns, metadata, number_column, words

items = Table(
    "items",
    metadata,
    *document_columns(),
    # What devices are sent of it, as a digest: a report of another one is of a former item.
    Column("content", Text(collation="C"), nullable=False),
)
kits = Table("kits", metadata, *document_columns())
sheets = Table("sheets", metadata, *document_columns())
checklists = Table("checklists", metadata, *document_columns())

own_settings = Table("own_settings", metadata, *document_columns())

for _table in (items, kits, sheets, checklists, own_settings):
    Index(f"uq_{_table.name}_name", func.lower(_table.c.name), unique=True)

#: Whom the documents above are given to, read off them: a cohort, or (null) everyone.
givings = Table(
    "givings",
    metadata,
    number_column(),
    Column("kind", Text, nullable=False),
    Column("subject_id", BigInteger, nullable=False),
    Column("cohort_id", ForeignKey("cohorts.id")),
    Column("word", Text, nullable=False),
    words("kind", Giving),
    words("word", GivenAs),
    Index(None, "kind", "subject_id"),
    Index(None, "cohort_id"),
)

#: For which devices items are, each filter once, and whom such items are given to: for other
#: devices nobody asks.
kit_conditions = Table(
    "kit_conditions",
    metadata,
    number_column(),
    Column("filter", Text, nullable=False),
    Column("everyone", Boolean, nullable=False),
    Column("cohorts", ARRAY(BigInteger), nullable=False),
    Index("uq_kit_conditions_filter", func.md5(Column("filter", Text)), unique=True),
)

#: The facts by which it is decided what a device gets (kept right by `store/settling.py`): the
#: given cohorts that it is in, and below zero the conditions that hold for it. A device without a
#: row has none. Rows go with their device by a trigger.
device_kits = Table(
    "device_kits",
    metadata,
    Column("device_id", BigInteger, primary_key=True, autoincrement=False),
    Column("facts", ARRAY(BigInteger), nullable=False),
    Column(
        "key",
        BigInteger,
        Computed("hash_array_extended(facts, 0)", persisted=True),
        nullable=False,
    ),
    # How often the device was asked to look again; it tells the device so by another revision.
    Column("asked", Integer, nullable=False, server_default="0"),
    Index(None, "key"),
)

#: What devices of the same facts get: its digest, and the numbers of the items. Without a digest it
#: has not been worked out yet.
kit_outcomes = Table(
    "kit_outcomes",
    metadata,
    Column("key", BigInteger, primary_key=True, autoincrement=False),
    Column("facts", ARRAY(BigInteger), nullable=False),
    Column("revision", Text(collation="C")),
    Column("required", ARRAY(BigInteger)),
    Column("offered", ARRAY(BigInteger)),
    Column("sheet_id", BigInteger),
    Column("checklist_id", BigInteger),
)
Index(
    "ix_kit_outcomes_waiting",
    kit_outcomes.c.key,
    postgresql_where=kit_outcomes.c.revision.is_(None),
)

#: Secrets inside items, encrypted, each by what its document says in its place.
kit_secrets = Table(
    "kit_secrets",
    metadata,
    Column("mark", Text(collation="C"), primary_key=True),
    Column("sealed", LargeBinary, nullable=False),
    Column("at", Time, nullable=False),
)

#: The password of each device's local administrator, encrypted; `former`: the one before it, which
#: the device may still have. `taken`: whether the device has fetched the present one. Rows go with
#: their device by a trigger.
device_passwords = Table(
    "device_passwords",
    metadata,
    Column("device_id", BigInteger, primary_key=True, autoincrement=False),
    Column("sealed", LargeBinary, nullable=False),
    Column("former", LargeBinary),
    Column("at", Time, nullable=False),
    Column("taken", Boolean, nullable=False),
)

#: Files that are kept here for devices; their bytes lie in the storage. `used_at`: when something
#: last named it.
kept_files = Table(
    "kept_files",
    metadata,
    Column("digest", Text(collation="C"), primary_key=True),
    Column("name", Text, nullable=False),
    Column("size", BigInteger, nullable=False),
    Column("at", Time, nullable=False),
    Column("by", Text, nullable=False),
    Column("used_at", Time, nullable=False),
)

#: What devices told of their items, the latest of each. Rows go with their device by a trigger.
item_reports = Table(
    "item_reports",
    metadata,
    Column("device_id", BigInteger, nullable=False),
    Column("item_id", BigInteger, nullable=False),
    # Of which content of the item it speaks.
    Column("revision", Text(collation="C"), nullable=False),
    Column("state", Text, nullable=False),
    Column("code", Text),
    Column("words", Text),
    Column("log", Text),
    Column("begun_at", Time),
    Column("at", Time, nullable=False),
    words("state", ItemState),
    PrimaryKeyConstraint("device_id", "item_id"),
    Index(None, "item_id", "state"),
)

#: Devices that are asked to look now: which, as they were chosen.
kit_pushes = Table(
    "kit_pushes",
    metadata,
    number_column(),
    Column("at", Time, nullable=False),
    Column("by", Text, nullable=False),
    Column("devices", ARRAY(BigInteger), nullable=False),
)
