"""Every table. Names of constraints are stable: `store/failures.py` turns them into errors that a
user can read.
"""

from __future__ import annotations

from enum import StrEnum
from typing import Any

from sqlalchemy import (
    BigInteger,
    Boolean,
    CheckConstraint,
    Column,
    ColumnElement,
    Computed,
    Date,
    DateTime,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    Numeric,
    PrimaryKeyConstraint,
    Table,
    Text,
    collate,
    func,
    literal_column,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

from sortitor.core import vocabulary

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


def _id() -> Column[int]:
    return Column("id", BigInteger, primary_key=True, autoincrement=True)


def _words(column: str, words: type[StrEnum]) -> CheckConstraint:
    return CheckConstraint(
        f"{column} IN ({', '.join(repr(word.value) for word in words)})", name=column
    )


accounts = Table(
    "accounts",
    metadata,
    _id(),
    Column("name", Text, nullable=False),
    Column("password_hash", Text, nullable=False),
    Column("role", Text, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("disabled_at", Time),
    # Failed sign-ins slow the next one down; a good one sets both back.
    Column("failures", Integer, nullable=False, server_default="0"),
    Column("failed_at", Time),
    _words("role", vocabulary.Role),
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
    _id(),
    Column("account_id", ForeignKey("accounts.id", ondelete="CASCADE"), nullable=False),
    Column("name", Text, nullable=False),
    Column("secret_hash", Text, nullable=False, unique=True),
    Column("role", Text, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("expires_at", Time, nullable=False),
    Column("revoked_at", Time),
    Column("purpose", Text, nullable=False, server_default="interface"),
    _words("role", vocabulary.Role),
    _words("purpose", vocabulary.Purpose),
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

people = Table(
    "people",
    metadata,
    _id(),
    Column("user_name", Text, nullable=False),
    Column("name", Text, nullable=False),
    Column("mail", Text),
    Column("department", Text),
    Column("site", Text),
    Column("left_at", Time),
    # What an identity provider pushed, whole (RFC 7643); the columns above are what Sortitor
    # understands of it. Null: it came by file.
    # `gone_at`: the provider deleted the resource; the person is kept as left.
    Column("pushed", JSONB),
    Column("gone_at", Time),
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
    _id(),
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

lots = Table(
    "lots",
    metadata,
    _id(),
    Column("name", Text, nullable=False),
    Column("status", Text, nullable=False),
    Column("form", Text, nullable=False),
    Column("file_name", Text),
    Column("content", LargeBinary, nullable=False),
    Column("fingerprint", Text, nullable=False),
    Column("content_bytes", BigInteger, nullable=False),
    # How the file was read: comma … pipe, workbook, json, paste; of a workbook, which sheet of
    # which.
    Column("layout", Text, nullable=False),
    Column("encoding", Text, nullable=False, server_default=""),
    Column("sheet", Text),
    Column("sheets", JSONB, nullable=False, server_default="[]"),
    Column("header_row", Integer, nullable=False, server_default="1"),
    # What the columns' meaning was taken from: meaning, given, remembered.
    Column("columns_from", Text, nullable=False, server_default="meaning"),
    # The journal's latest entry when the verdicts were made.
    Column("seen_entry", BigInteger, nullable=False, server_default="0"),
    # Whether its ownership is a statement by hand, as in a declaration from a list.
    Column("by_hand", Boolean, nullable=False, server_default="false"),
    Column("columns", JSONB, nullable=False),
    Column("headers", JSONB, nullable=False),
    Column("defaults", JSONB, nullable=False),
    Column("overwrite_manual", Boolean, nullable=False),
    Column("counts", JSONB, nullable=False),
    Column("severities", JSONB, nullable=False),
    Column("digest", Text, nullable=False),
    Column("created_by", Text, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("checked_at", Time, nullable=False),
    Column("applied_at", Time),
    Column("reverted_at", Time),
    Column("entry_id", BigInteger),
    _words("status", vocabulary.LotStatus),
    Index(None, "fingerprint"),
)

# No foreign key on what belongs to a lot: lots are never deleted, and a check per row would cost a
# large lot a third more.
#: The rows of a lot in the file's order, a thousand to a block: their numbers, a letter of verdict
#: each, their cells as given.
lot_blocks = Table(
    "lot_blocks",
    metadata,
    Column("lot_id", BigInteger, nullable=False),
    Column("first_row", Integer, nullable=False),
    Column("last_row", Integer, nullable=False),
    Column("numbers", ARRAY(Integer), nullable=False),
    Column("verdicts", Text, nullable=False),
    # An Arrow IPC file with one text column per header: small, quick, and every cell exactly as it
    # was given.
    Column("cells", LargeBinary, nullable=False),
    PrimaryKeyConstraint("lot_id", "first_row"),
)

#: Those rows of a lot that meet a device of the fleet, and what they change of it.
lot_rows = Table(
    "lot_rows",
    metadata,
    Column("lot_id", BigInteger, nullable=False),
    Column("row", Integer, nullable=False),
    Column("device_id", BigInteger, nullable=False),
    Column("changes", JSONB),
    PrimaryKeyConstraint("lot_id", "row"),
)

#: Cells that were edited in place; the original stays in `lot_rows` and in the file.
lot_edits = Table(
    "lot_edits",
    metadata,
    Column("lot_id", BigInteger, nullable=False),
    Column("row", Integer, nullable=False),
    Column("header", Text, nullable=False),
    Column("value", Text),
    PrimaryKeyConstraint("lot_id", "row", "header"),
)

lot_choices = Table(
    "lot_choices",
    metadata,
    Column("lot_id", BigInteger, nullable=False),
    Column("row", Integer, nullable=False),
    Column("remedy", Text, nullable=False),
    PrimaryKeyConstraint("lot_id", "row"),
    CheckConstraint("remedy IN ('skip', 'take_back', 'merge')", name="remedy"),
)

#: Header → column, as somebody corrected it for a supplier (by lower-case name).
mappings = Table(
    "mappings",
    metadata,
    Column("supplier", Text, primary_key=True),
    Column("columns", JSONB, nullable=False),
    Column("changed_at", Time, nullable=False),
    Column("changed_by", Text, nullable=False),
)

orders = Table(
    "orders",
    metadata,
    _id(),
    Column("revision", Integer, nullable=False, server_default="1"),
    Column("name", Text, nullable=False),
    Column("supplier", Text),
    Column("ordered_on", Date),
    Column("note", Text),
)
Index("uq_orders_name", func.lower(orders.c.name), unique=True)

order_lines = Table(
    "order_lines",
    metadata,
    Column("order_id", ForeignKey("orders.id", ondelete="CASCADE"), nullable=False),
    Column("place", Integer, nullable=False),
    Column("product", Text, nullable=False),
    Column("quantity", Integer, nullable=False),
    Column("price", Numeric(14, 2)),
    PrimaryKeyConstraint("order_id", "place"),
    CheckConstraint("quantity > 0", name="quantity"),
)

#: Long work: what was asked for, and how far it is. The queue only carries the number.
jobs = Table(
    "jobs",
    metadata,
    _id(),
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
    _words("state", vocabulary.JobState),
)

lot_notes = Table(
    "lot_notes",
    metadata,
    Column("lot_id", BigInteger, nullable=False),
    Column("row", Integer, nullable=False),
    Column("code", Text, nullable=False),
    Column("column", Text),
    Column("given", Text),
    Index(None, "lot_id", "code", "row"),
    Index(None, "lot_id", "row"),
)

# Up to eight components of up to nine digits; null for what is no version. The repetition is
# written out: counting makes the matching four times slower.
_OS_NUMBERS = (
    r"CASE WHEN os_version ~ '^[0-9]+(\.[0-9]+)*$' AND (length(os_version) < 10 OR os_version !~"
    r" '[0-9][0-9][0-9][0-9][0-9][0-9][0-9][0-9][0-9][0-9]'"
    r" AND cardinality(string_to_array(os_version, '.')) <= 8) THEN string_to_array(os_version,"
    r" '.')::integer[] END"
)

devices = Table(
    "devices",
    metadata,
    _id(),
    Column("stage", Text, nullable=False),
    Column("stage_at", Time, nullable=False),
    Column("flag", Text),
    Column("platform", Text),
    Column("os_version", Text),
    # The version taken apart, once and not for every filter that compares it.
    Column("os_numbers", ARRAY(Integer), Computed(_OS_NUMBERS, persisted=True)),
    Column("maker", Text),
    Column("model", Text),
    Column("product_code", Text),
    Column("ownership", Text, nullable=False, server_default="unknown"),
    Column("ownership_basis", Text, nullable=False, server_default="inferred"),
    Column("person_id", ForeignKey("people.id")),
    Column("name", Text),
    Column("name_basis", Text),
    Column("site", Text),
    Column("department", Text),
    Column("asset_tag", Text),
    Column("tags", ARRAY(Text), nullable=False, server_default="{}"),
    Column("note", Text),
    Column("order_name", Text),
    Column("purchase_order", Text),
    Column("supplier", Text),
    Column("purchased_on", Date),
    Column("warranty_until", Date),
    Column("details", JSONB, nullable=False, server_default="{}"),
    # The fields set by hand, which a lot leaves alone.
    Column("manual", ARRAY(Text), nullable=False, server_default="{}"),
    Column("lot_id", BigInteger),
    Column("lot_row", Integer),
    Column("created_at", Time, nullable=False),
    Column("enrolled_at", Time),
    Column("last_seen_at", Time),
    _words("stage", vocabulary.Stage),
    _words("ownership", vocabulary.Ownership),
    _words("ownership_basis", vocabulary.Basis),
    CheckConstraint("stage <> 'active' OR enrolled_at IS NOT NULL", name="active_enrolled"),
    CheckConstraint("flag IN ('missing', 'stolen')", name="flag"),
    # Room on the page for what changes often.
    postgresql_with={"fillfactor": "85"},
)
Index(
    "uq_devices_name",
    func.lower(devices.c.name),
    unique=True,
    postgresql_where=text("stage <> 'retired' AND name IS NOT NULL"),
)


def folded(column: ColumnElement[str]) -> ColumnElement[str]:
    """A text as it is compared and sorted: in lower case, byte by byte, a missing one empty.

    Written out, not bound: only so does it match its index.
    """
    return collate(func.coalesce(func.lower(column), literal_column("''")), "C")


#: When a device last gave a sign of life: its enrolment stands in for one never seen, its entry for
#: one never enrolled.
SEEN = func.coalesce(devices.c.last_seen_at, devices.c.enrolled_at, devices.c.created_at)
#: What the list of devices can be sorted by; an index each, so that a page is read and not sorted,
#: and a filter on it finds its devices.
ORDERS: dict[str, ColumnElement[Any]] = {
    "id": devices.c.id,
    "name": folded(devices.c.name),
    "site": folded(devices.c.site),
    "model": folded(devices.c.model),
    "stage": devices.c.stage,
    "seen": SEEN,
}
for _name, _key in ORDERS.items():
    if _name != "id":
        Index(f"ix_devices_by_{_name}", _key, devices.c.id)
Index(
    "ix_devices_tags",
    func.folded(devices.c.tags),
    postgresql_using="gin",
    postgresql_where=func.cardinality(devices.c.tags) > literal_column("0"),
)
# Few different pairs, so that these are small; most filters name a platform beside where a device
# is or whose it is.
Index("ix_devices_platform", devices.c.platform, ORDERS["site"])
Index("ix_devices_flag", devices.c.flag, postgresql_where=devices.c.flag.is_not(None))
Index(
    "ix_devices_person_id",
    devices.c.person_id,
    devices.c.platform,
    postgresql_where=devices.c.person_id.is_not(None),
)
# The devices of a lot, and of an order, are written one after the other: block ranges find them,
# and cost a large lot nothing.
Index(
    "ix_devices_lot_id",
    devices.c.lot_id,
    postgresql_using="brin",
    postgresql_with={"pages_per_range": "16"},
)
Index(
    "ix_devices_order_name",
    func.lower(devices.c.order_name),
    postgresql_using="brin",
    postgresql_with={"pages_per_range": "16"},
)
Index(
    "ix_devices_asset_tag",
    func.lower(devices.c.asset_tag),
    postgresql_where=devices.c.asset_tag.is_not(None),
)

identifiers = Table(
    "identifiers",
    metadata,
    # Compared byte by byte: quicker, and the index serves searches by the first characters.
    Column("kind", Text(collation="C"), nullable=False),
    Column("value", Text(collation="C"), nullable=False),
    # A serial number is unique within a maker; other kinds leave this empty.
    Column("maker", Text(collation="C"), nullable=False, server_default=""),
    # Guarded by a trigger (migration 0002) instead of by a foreign key, whose check per row would
    # double a large lot's time.
    Column("device_id", BigInteger, nullable=False),
    Column("given", Text),
    PrimaryKeyConstraint("value", "kind", "maker"),
    Index(None, "device_id"),
)
Index(
    "ix_identifiers_ending",
    func.reverse(identifiers.c.value).label("ending"),
    postgresql_ops={"ending": "text_pattern_ops"},
)

credentials = Table(
    "credentials",
    metadata,
    Column("secret_hash", LargeBinary, primary_key=True),
    Column("device_id", ForeignKey("devices.id", ondelete="CASCADE"), nullable=False),
    Column("created_at", Time, nullable=False),
    Column("revoked_at", Time),
    Column("revoked_by", BigInteger),
    Index(None, "device_id"),
)

holds = Table(
    "holds",
    metadata,
    _id(),
    Column("device_id", ForeignKey("devices.id", ondelete="CASCADE"), nullable=False),
    Column("reason", Text, nullable=False),
    Column("until_on", Date, nullable=False),
    Column("created_by", Text, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("ended_at", Time),
    Index(None, "device_id"),
)

#: The gate's policies and the naming templates: ordered lists that are read and changed as a whole.
rulebooks = Table(
    "rulebooks",
    metadata,
    Column("name", Text, primary_key=True),
    Column("revision", Integer, nullable=False),
    Column("entries", JSONB, nullable=False),
)

counters = Table(
    "counters",
    metadata,
    Column("template", Text, primary_key=True),
    Column("next_number", BigInteger, nullable=False),
)

#: Sets of devices by filter (kept right by `store/cohorts.py`) or by list. One that time moves has
#: no members here: it is read by its filter.
cohorts = Table(
    "cohorts",
    metadata,
    _id(),
    Column("revision", Integer, nullable=False, server_default="1"),
    Column("name", Text, nullable=False),
    Column("filter", Text),
    Column("moving", Boolean, nullable=False),
    Column("note", Text),
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

#: A list of devices as somebody likes to see it: filter, columns, order.
views = Table(
    "views",
    metadata,
    _id(),
    Column("account_id", ForeignKey("accounts.id", ondelete="CASCADE"), nullable=False),
    Column("name", Text, nullable=False),
    Column("shared", Boolean, nullable=False),
    Column("settings", JSONB, nullable=False),
)
Index("uq_views_name", views.c.account_id, func.lower(views.c.name), unique=True)

passes = Table(
    "passes",
    metadata,
    _id(),
    Column("code_hash", Text, nullable=False, unique=True),
    Column("label", Text, nullable=False),
    Column("activation", Text, nullable=False),
    Column("ownership", Text),
    Column("person_id", ForeignKey("people.id")),
    Column("valid_from", Time, nullable=False),
    Column("valid_until", Time, nullable=False),
    Column("max_uses", Integer),
    Column("uses", Integer, nullable=False, server_default="0"),
    Column("created_by", Text, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("revoked_at", Time),
    _words("activation", vocabulary.Activation),
    CheckConstraint("max_uses IS NULL OR uses <= max_uses", name="uses"),
)

arrivals = Table(
    "arrivals",
    metadata,
    _id(),
    Column("at", Time, nullable=False),
    Column("outcome", Text, nullable=False),
    Column("device_id", BigInteger),
    Column("person_id", BigInteger),
    Column("pass_id", BigInteger),
    Column("stated", JSONB, nullable=False),
    Column("reasons", JSONB, nullable=False),
    Column("trace", JSONB, nullable=False),
    _words("outcome", vocabulary.Outcome),
    Index(None, "outcome", "id"),
    Index(None, "device_id"),
)

pools = Table(
    "pools",
    metadata,
    _id(),
    Column("revision", Integer, nullable=False, server_default="1"),
    Column("name", Text, nullable=False),
    Column("seats", Integer, nullable=False),
    Column("filter", Text),
    Column("awaited_too", Boolean, nullable=False),
    CheckConstraint("seats >= 0", name="seats"),
)
Index("uq_pools_name", func.lower(pools.c.name), unique=True)

sweep_rules = Table(
    "sweep_rules",
    metadata,
    _id(),
    Column("revision", Integer, nullable=False, server_default="1"),
    Column("name", Text, nullable=False),
    Column("idle_window_days", Integer, nullable=False),
    Column("filter", Text),
    Column("daily", Boolean, nullable=False),
    Column("brake_percent", Integer, nullable=False),
)
Index("uq_sweep_rules_name", func.lower(sweep_rules.c.name), unique=True)

sweeps = Table(
    "sweeps",
    metadata,
    _id(),
    Column("rule_id", ForeignKey("sweep_rules.id", ondelete="SET NULL")),
    Column("rule_name", Text, nullable=False),
    Column("at", Time, nullable=False),
    Column("by", Text, nullable=False),
    Column("state", Text, nullable=False),
    Column("retired", Integer, nullable=False),
    Column("watched", Integer, nullable=False),
    Column("entry_id", BigInteger),
    CheckConstraint("state IN ('applied', 'reverted', 'braked')", name="state"),
)

journal = Table(
    "journal",
    metadata,
    _id(),
    Column("at", Time, nullable=False),
    Column("actor", Text, nullable=False),
    Column("request_id", Text),
    Column("operation", Text, nullable=False),
    Column("subject", Text, nullable=False),
    Column("subject_id", BigInteger),
    Column("summary", Text, nullable=False),
    Column("reason", Text),
    Column("before", JSONB),
    Column("after", JSONB),
    Column("reverts", BigInteger),
    Index(None, "operation", "id"),
    Index(None, "subject", "subject_id"),
)
Index(
    "uq_journal_reverts",
    journal.c.reverts,
    unique=True,
    postgresql_where=journal.c.reverts.is_not(None),
)

#: What an entry did to each device: `before` is null where the device was created, `after` where it
#: was removed.
journal_effects = Table(
    "journal_effects",
    metadata,
    Column("entry_id", BigInteger, nullable=False),
    Column("device_id", BigInteger, nullable=False),
    Column("before", JSONB),
    Column("after", JSONB),
    PrimaryKeyConstraint("device_id", "entry_id"),
)
#: Devices that an entry created, many at once: their numbers lie between these. It stands for as
#: many effects.
journal_creations = Table(
    "journal_creations",
    metadata,
    Column("entry_id", BigInteger, nullable=False),
    Column("first_device_id", BigInteger, nullable=False),
    Column("last_device_id", BigInteger, nullable=False),
    Column("after", JSONB, nullable=False),
    PrimaryKeyConstraint("first_device_id"),
    Index(None, "entry_id"),
)
Index("ix_journal_effects_entry_id", journal_effects.c.entry_id, postgresql_using="brin")
