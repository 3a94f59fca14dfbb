"""Sources: what other systems are asked, what they said last, and how they disagree."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    Boolean,
    CheckConstraint,
    Column,
    Computed,
    Date,
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
    document_columns,
    metadata,
    number_column,
    words,
)


def _of_source() -> Column[int]:
    return Column("source_id", ForeignKey("sources.id", ondelete="CASCADE"), nullable=False)


sources = Table(
    "sources",
    metadata,
    *document_columns(),
    Column("kind", Text, Computed("document ->> 'kind'", persisted=True), nullable=False),
    # Whom a source should know is a filter as any other.
    Column("filter", Text, Computed("document ->> 'covers'", persisted=True)),
    # Where a run that asks for changes alone goes on, and what the address last answered with.
    Column("cursor", Text),
    Column("etag", Text),
    Column("good_at", Time),
    Column("whole_at", Time),
    words("kind", vocabulary.SourceKind),
)

Index("uq_sources_name", func.lower(sources.c.name), unique=True)

#: What a source is opened with, encrypted; `about` is what may be shown of it.
source_secrets = Table(
    "source_secrets",
    metadata,
    number_column(),
    _of_source(),
    Column("kind", Text, nullable=False),
    Column("sealed", LargeBinary, nullable=False),
    Column("about", JSONB, nullable=False, server_default="{}"),
    Column("ends_at", Time),
    Column("made_at", Time, nullable=False),
    Column("made_by", Text, nullable=False),
    # A key pair whose certificate has not been answered yet waits beside the one in use.
    Column("waiting", Boolean, nullable=False, server_default="false"),
    words("kind", vocabulary.SecretKind),
)

Index(
    "uq_source_secrets",
    source_secrets.c.source_id,
    source_secrets.c.kind,
    source_secrets.c.waiting,
    unique=True,
)

#: No foreign key: what a source that was removed had said stays told.
source_runs = Table(
    "source_runs",
    metadata,
    number_column(),
    Column("source_id", BigInteger, nullable=False),
    Column("source_name", Text, nullable=False),
    Column("whole", Boolean, nullable=False),
    # Somebody has seen what made it stop, and lets it go on.
    Column("unbraked", Boolean, nullable=False, server_default="false"),
    Column("by", Text, nullable=False),
    Column("asked_at", Time, nullable=False),
    Column("ended_at", Time),
    Column("state", Text, nullable=False),
    Column("counts", JSONB, nullable=False, server_default="{}"),
    Column("remarks", JSONB, nullable=False, server_default="[]"),
    Column("problem", JSONB),
    Column("entry_id", BigInteger),
    Column("lot_id", BigInteger),
    Column("job_id", BigInteger),
    words("state", vocabulary.RunState),
    Index(None, "source_id", "id"),
)

Index(
    "uq_source_runs_at_work",
    source_runs.c.source_id,
    unique=True,
    postgresql_where=source_runs.c.state.in_(("waiting", "running")),
)

#: What each source said last of devices. `device_id` is the device of the fleet that it is; `twin`
#: is what two lines of one device have in common.
roster_devices = Table(
    "roster_devices",
    metadata,
    _of_source(),
    Column("key", Text(collation="C"), nullable=False),
    Column("serial", Text),
    Column("imei", Text),
    Column("imei2", Text),
    Column("mac", Text),
    Column("uuid", Text),
    Column("maker", Text),
    Column("model", Text),
    Column("platform", Text),
    Column("order_name", Text),
    Column("person", Text),
    Column("site", Text),
    Column("name", Text),
    Column("extra", JSONB, nullable=False, server_default="{}"),
    Column("device_id", BigInteger),
    Column("changed_at", Time, nullable=False),
    PrimaryKeyConstraint("source_id", "key"),
)

Index("ix_roster_devices_device_id", roster_devices.c.device_id, roster_devices.c.source_id)

#: Which entry of a directory is which person, and what it says of them.
source_people = Table(
    "source_people",
    metadata,
    _of_source(),
    Column("key", Text(collation="C"), nullable=False),
    Column("person_id", ForeignKey("people.id", ondelete="CASCADE"), nullable=False),
    Column("place", Text(collation="C"), nullable=False),
    Column("said", JSONB, nullable=False),
    Column("gone_at", Time),
    PrimaryKeyConstraint("source_id", "key"),
    Index(None, "person_id"),
    Index(None, "source_id", "place"),
)

source_groups = Table(
    "source_groups",
    metadata,
    _of_source(),
    Column("key", Text(collation="C"), nullable=False),
    Column("group_id", ForeignKey("groups.id", ondelete="CASCADE"), nullable=False),
    Column("place", Text(collation="C"), nullable=False),
    PrimaryKeyConstraint("source_id", "key"),
    Index(None, "group_id"),
    Index(None, "source_id", "place"),
)

#: What an entry did to people; before is null for somebody new.
journal_people = Table(
    "journal_people",
    metadata,
    Column("entry_id", BigInteger, nullable=False),
    Column("person_id", BigInteger, nullable=False),
    Column("before", JSONB),
    Column("after", JSONB, nullable=False),
    PrimaryKeyConstraint("entry_id", "person_id"),
)

#: Whom, or which group, an entry put into a group or took out of it.
journal_members = Table(
    "journal_members",
    metadata,
    Column("entry_id", BigInteger, nullable=False),
    Column("group_id", BigInteger, nullable=False),
    Column("person_id", BigInteger),
    Column("inner_id", BigInteger),
    Column("came", Boolean, nullable=False),
    Index(None, "entry_id"),
    CheckConstraint("(person_id IS NULL) <> (inner_id IS NULL)", name="one"),
)

#: How the systems disagree, one line each, under a key that stays over the runs.
discrepancies = Table(
    "discrepancies",
    metadata,
    number_column(),
    Column("key", Text(collation="C"), nullable=False),
    Column("kind", Text, nullable=False),
    _of_source(),
    Column("device_id", BigInteger),
    Column("roster_key", Text(collation="C")),
    Column("field", Text),
    Column("ours", Text),
    Column("theirs", Text),
    # What it is called where it is listed.
    Column("label", Text, nullable=False),
    # The device that it may be, and how sure that is.
    Column("near_id", BigInteger),
    Column("near_percent", Integer),
    Column("state", Text, nullable=False, server_default="open"),
    Column("until_on", Date),
    Column("owner", Text),
    Column("note", Text),
    Column("first_at", Time, nullable=False),
    Column("seen_at", Time, nullable=False),
    Column("closed_at", Time),
    Column("done_at", Time),
    Column("done_by", Text),
    words("kind", vocabulary.Gap),
    words("state", vocabulary.GapState),
    Index(None, "source_id", "kind"),
    Index(None, "device_id"),
)

Index("uq_discrepancies_key", discrepancies.c.key, unique=True)

Index(
    "ix_discrepancies_standing",
    discrepancies.c.id,
    postgresql_where=discrepancies.c.state != "closed",
)

#: The comparison as it was last made: rosters, patterns of presence, and what they stand for.
levels = Table(
    "levels",
    metadata,
    Column("id", BigInteger, primary_key=True, autoincrement=False),
    Column("at", Time, nullable=False),
    Column("entry_id", BigInteger, nullable=False),
    Column("run_id", BigInteger, nullable=False),
    Column("document", JSONB, nullable=False),
)

#: How many disagreements of a kind stood open at the end of a day.
level_days = Table(
    "level_days",
    metadata,
    Column("on_day", Date, nullable=False),
    Column("kind", Text, nullable=False),
    Column("open", Integer, nullable=False),
    PrimaryKeyConstraint("on_day", "kind"),
)
