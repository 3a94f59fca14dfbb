"""The last sign of life in a narrow table of its own.

Purpose: a sign of life writes a few bytes and two small indexes, not a device's page and all of its
indexes: three times as many of them, with a tenth of the write-ahead log.
Lock and disk cost: a new table of about 70 MB with its indexes of as much for a million devices,
filled from the devices under a lock, a few seconds; the former index of devices goes.
Way back: downgrade writes the times back into the devices.
"""

import sqlalchemy as sa
from alembic import op

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None

# What a foreign key would do, without a check for every device of a large lot.
_TAKEN_ALONG = """
CREATE FUNCTION take_the_sightings_along() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    EXECUTE 'DELETE FROM sightings s USING gone g WHERE s.device_id = g.id';
    RETURN NULL;
END $$;
CREATE TRIGGER devices_sightings AFTER DELETE ON devices REFERENCING OLD TABLE AS gone
    FOR EACH STATEMENT EXECUTE FUNCTION take_the_sightings_along()
"""


def upgrade() -> None:
    op.create_table(
        "sightings",
        sa.Column("device_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("last_seen_at", sa.DateTime(timezone=True)),
        sa.Column("since", sa.DateTime(timezone=True), nullable=False),
        sa.CheckConstraint("since = coalesce(last_seen_at, since)", name="ck_sightings_since"),
        postgresql_with={"fillfactor": "80", "autovacuum_vacuum_scale_factor": "0.05"},
    )
    op.execute("LOCK TABLE devices")
    op.execute(
        "INSERT INTO sightings SELECT id, last_seen_at, coalesce(last_seen_at, enrolled_at,"
        " created_at) FROM devices ORDER BY id"
    )
    op.create_primary_key("pk_sightings", "sightings", ["device_id"])
    op.create_index("ix_sightings_since", "sightings", ["since", "device_id"])
    op.execute("ANALYZE sightings")
    op.execute(_TAKEN_ALONG)
    # Its index goes with it.
    op.drop_column("devices", "last_seen_at")


def downgrade() -> None:
    op.add_column("devices", sa.Column("last_seen_at", sa.DateTime(timezone=True)))
    op.execute(
        "UPDATE devices d SET last_seen_at = s.last_seen_at FROM sightings s"
        " WHERE s.device_id = d.id AND s.last_seen_at IS NOT NULL"
    )
    op.create_index(
        "ix_devices_by_seen",
        "devices",
        [sa.text("coalesce(last_seen_at, enrolled_at, created_at)"), "id"],
    )
    op.execute("DROP FUNCTION take_the_sightings_along() CASCADE")
    op.drop_table("sightings")
