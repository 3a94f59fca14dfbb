"""One look at the cohorts where three were needed.

Purpose: every change of a device ends by settling its cohorts, under a lock and with a view that
begins once the lock is had; a function does both in one round trip.
Lock and disk cost: none; a function is added.
Way back: downgrade drops it.
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


def downgrade() -> None:
    op.execute("DROP FUNCTION hold_cohorts()")
