"""One look at the cohorts where three were needed, and the devices of a lot's rows.

Purpose: every change of a device ends by settling its cohorts, under a lock and with a view that
begins once the lock is had; a function does both in one round trip.
The rows of a lot find their devices, to show what they are called.
Lock and disk cost: a function is added; the index over lots is built again (locks the devices
against changes for one pass over them, about a second for a million), some kilobytes.
Way back: downgrade drops the function and builds the former index.
"""

from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        """
        CREATE FUNCTION hold_cohorts(OUT mark text, OUT planned text[]) LANGUAGE plpgsql AS $$
        BEGIN
            PERFORM pg_advisory_xact_lock_shared(7302);
            SELECT value INTO mark FROM installation WHERE key = 'cohorts';
            SELECT array_agg(name) INTO planned FROM pg_prepared_statements
                WHERE starts_with(name, 'refresh_');
        END
        $$
        """
    )
    _build_index("lot_id", "lot_row")


def _build_index(*columns: str) -> None:
    op.drop_index("ix_devices_lot_id", "devices")
    op.create_index(
        "ix_devices_lot_id",
        "devices",
        [*columns],
        postgresql_using="brin",
        postgresql_with={"pages_per_range": "16"},
    )


def downgrade() -> None:
    _build_index("lot_id")
    op.execute("DROP FUNCTION hold_cohorts()")
