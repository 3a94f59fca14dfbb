"""Devices, what they are known by, and their credentials."""

from __future__ import annotations

from typing import Any

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    Column,
    ColumnElement,
    Computed,
    Date,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
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
from sortitor.store.tables.base import (
    Time,
    metadata,
    number_column,
    words,
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
    number_column(),
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
    # The day, where the organisation is, of the last sign of life; its enrolment stands in for one
    # never seen, its entry for one never enrolled.
    Column("seen_on", Date, nullable=False, server_default=text("day_here(now())")),
    # Of a dormant device, the day on which it is retired.
    Column("retire_on", Date),
    words("stage", vocabulary.Stage),
    words("ownership", vocabulary.Ownership),
    words("ownership_basis", vocabulary.Basis),
    CheckConstraint("stage <> 'active' OR enrolled_at IS NOT NULL", name="active_enrolled"),
    CheckConstraint("retire_on IS NULL OR stage = 'dormant'", name="retire_on"),
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


#: What the list of devices can be sorted by; an index each, so that a page is read and not sorted,
#: and a filter on it finds its devices.
ORDERS: dict[str, ColumnElement[Any]] = {
    "id": devices.c.id,
    "name": folded(devices.c.name),
    "site": folded(devices.c.site),
    "model": folded(devices.c.model),
    "stage": devices.c.stage,
    "seen": devices.c.seen_on,
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
    devices.c.lot_row,
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

# A row of every device, apart from it: signs of life come all day, and here each writes a few bytes
# where a device has many and a dozen indexes. It goes with its device by a trigger (migration
# 0026).
sightings = Table(
    "sightings",
    metadata,
    Column("device_id", BigInteger, primary_key=True, autoincrement=False),
    Column("last_seen_at", Time),
    # Nothing but the key has an index, so that a row is written anew in its page, and the page
    # cleared by whoever comes next.
    postgresql_with={"fillfactor": "70", "autovacuum_vacuum_scale_factor": "0.05"},
)

#: Devices with their signs of life.
sighted_devices = devices.join(sightings, sightings.c.device_id == devices.c.id)

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
    # Of a claim that nobody has decided: not good until it is granted by an entry.
    Column("claim_id", BigInteger),
    Column("granted_by", BigInteger),
    Index(None, "device_id"),
)

Index(
    "ix_credentials_claim_id",
    credentials.c.claim_id,
    postgresql_where=credentials.c.claim_id.is_not(None),
)
