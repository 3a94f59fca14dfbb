"""The devices of a knock's identifiers, held and found in one look.

Purpose: a knock holds its identifiers and then looks for their devices, with a view that begins
once it holds them; a function does both in one round trip, as it does for cohorts.
Lock and disk cost: a function is added.
Way back: downgrade drops it.
"""

from alembic import op

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        """
        CREATE FUNCTION hold_identifiers(kinds text[], given text[]) RETURNS TABLE (
            kind text, value text, maker text, device_id bigint, person_id bigint, stage text
        ) LANGUAGE plpgsql AS $$
        #variable_conflict use_column
        BEGIN
            FOR place IN 1 .. cardinality(kinds) LOOP
                PERFORM pg_advisory_xact_lock(
                    hashtextextended(kinds[place] || ':' || given[place], 0)
                );
            END LOOP;
            RETURN QUERY SELECT i.kind, i.value, i.maker, i.device_id, d.person_id, d.stage
                FROM unnest(kinds, given) AS wanted (kind, value)
                JOIN identifiers i USING (kind, value)
                JOIN devices d ON d.id = i.device_id;
        END
        $$
        """
    )


def downgrade() -> None:
    op.execute("DROP FUNCTION hold_identifiers(text[], text[])")
