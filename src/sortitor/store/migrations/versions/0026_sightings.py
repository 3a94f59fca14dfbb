"""The last sign of life in a narrow table of its own, and its day with the device.

Purpose: a sign of life writes a few bytes in a table without an index beside its key, not a
device's page and all of its indexes; once a day it writes the device, by whose day whoever looks
for quiet devices finds them without looking elsewhere.
Lock and disk cost: the devices are written anew under a lock, with their indexes: about 20 seconds
for a million; a new table of 60 MB beside them.
Way back: downgrade writes the times back into the devices.
"""

import sqlalchemy as sa
from alembic import op

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None

_DAY_HERE = """
CREATE FUNCTION day_here(moment timestamptz) RETURNS date LANGUAGE sql STABLE PARALLEL SAFE AS $$
    SELECT timezone(coalesce(nullif(current_setting('sortitor.zone', true), ''), 'UTC'),
        moment)::date
$$
"""
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
    op.execute(_DAY_HERE)
    op.create_table(
        "sightings",
        sa.Column("device_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("last_seen_at", sa.DateTime(timezone=True)),
        postgresql_with={"fillfactor": "70", "autovacuum_vacuum_scale_factor": "0.05"},
    )
    op.execute("LOCK TABLE devices")
    op.execute("INSERT INTO sightings SELECT id, last_seen_at FROM devices ORDER BY id")
    op.create_primary_key("pk_sightings", "sightings", ["device_id"])
    op.execute("ANALYZE sightings")
    op.execute(_TAKEN_ALONG)
    op.drop_index("ix_devices_by_seen", "devices")
    # In place of the time, so that the table is written anew once. These are days of whatever zone
    # this runs in; the service's next start sets them right (`store/zones.py`).
    op.alter_column("devices", "last_seen_at", new_column_name="seen_on")
    op.alter_column(
        "devices",
        "seen_on",
        type_=sa.Date(),
        nullable=False,
        server_default=sa.text("day_here(now())"),
        postgresql_using="day_here(coalesce(seen_on, enrolled_at, created_at))",
    )
    op.create_index("ix_devices_by_seen", "devices", ["seen_on", "id"])


def downgrade() -> None:
    op.drop_index("ix_devices_by_seen", "devices")
    op.drop_column("devices", "seen_on")
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
    op.execute("DROP FUNCTION day_here(timestamptz)")
    op.execute("DELETE FROM installation WHERE key = 'zone'")
