"""Retired devices are erased: what was known of them goes, the journal keeps digests and still
verifies, and a certificate tells who erased what.

Purpose: `erase_from_journal` is the only thing that may empty an entry, and only of devices; it
leaves the digest of what an effect said, and the number of the erasure that vouches for an entry.
Lock and disk cost: two columns without a default on append-only tables (no rewrite); two new
tables; three functions.
Way back: downgrade forgets the certificates; a journal from which something was erased verifies no
longer.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None

_APPEND_ONLY = """
CREATE OR REPLACE FUNCTION refuse_rewriting_the_journal() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    {unless}
    RAISE EXCEPTION 'the journal is append-only' USING ERRCODE = 'restrict_violation';
END $$
"""
_UNLESS = """
    IF TG_OP = 'UPDATE' AND TG_TABLE_NAME IN ('journal', 'journal_effects')
        AND current_setting('sortitor.erasing', true) = 'yes' THEN
        RETURN NULL;
    END IF;
"""
# A statement-level trigger that returns null does not stop its statement.
_ERASE = """
CREATE FUNCTION erase_from_journal(ids bigint[], erasure bigint) RETURNS TABLE (entry_id bigint)
LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
BEGIN
    -- The entry that tells of the erasure names the very devices.
    IF NOT EXISTS (SELECT FROM journal j WHERE j.id = erasure AND j.operation = 'device.erase'
        AND ids <@ ARRAY(SELECT d::bigint FROM jsonb_array_elements_text(j.after -> 'devices') d))
    THEN
        RAISE EXCEPTION 'no erasure vouches for this' USING ERRCODE = 'restrict_violation';
    END IF;
    PERFORM set_config('sortitor.erasing', 'yes', true);
    UPDATE journal_effects e SET
        erased = sha256(convert_to(jsonb_build_array(e.device_id, e.before, e.after)::text,
            'UTF8')),
        before = CASE WHEN e.before IS NOT NULL THEN '{}'::jsonb END,
        after = CASE WHEN e.after IS NOT NULL THEN '{}'::jsonb END
    WHERE e.device_id = ANY (ids) AND e.erased IS NULL;
    RETURN QUERY UPDATE journal j SET summary = 'Erased', reason = NULL, before = NULL,
        after = NULL, erased_by = erasure
    WHERE j.subject = 'device' AND j.subject_id = ANY (ids) AND j.erased_by IS NULL
    RETURNING j.id;
    PERFORM set_config('sortitor.erasing', 'no', true);
END $$
"""
_GONE = """
CREATE OR REPLACE FUNCTION take_the_identifiers_along() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    {check}
    EXECUTE 'DELETE FROM identifiers i USING gone g WHERE i.device_id = g.id';
    RETURN NULL;
END $$
"""
_CHECK = """
    IF EXISTS (SELECT FROM gone WHERE stage NOT IN ('awaited', 'retired')) THEN
        RAISE EXCEPTION 'a device in use cannot go' USING ERRCODE = 'restrict_violation';
    END IF;
"""


def upgrade() -> None:
    op.add_column("journal", sa.Column("erased_by", sa.BigInteger()))
    op.add_column("journal_effects", sa.Column("erased", sa.LargeBinary()))
    op.create_table(
        "erasures",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("devices", sa.Integer(), nullable=False),
        sa.Column("entry_id", sa.BigInteger(), nullable=False),
        sa.Column("certificate", JSONB(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_erasures")),
    )
    op.create_table(
        "erased_devices",
        sa.Column("device_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("erasure_id", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("device_id", name=op.f("pk_erased_devices")),
        sa.ForeignKeyConstraint(
            ["erasure_id"], ["erasures.id"], op.f("fk_erased_devices_erasure_id")
        ),
    )
    op.create_index(op.f("ix_erased_devices_erasure_id"), "erased_devices", ["erasure_id"])
    op.execute(_APPEND_ONLY.format(unless=_UNLESS))
    op.execute(_GONE.format(check=_CHECK))
    op.execute(_ERASE)
    op.execute("REVOKE EXECUTE ON FUNCTION erase_from_journal(bigint[], bigint) FROM PUBLIC")


def downgrade() -> None:
    op.execute("DROP FUNCTION erase_from_journal(bigint[], bigint)")
    op.execute(_GONE.format(check=""))
    op.execute(_APPEND_ONLY.format(unless=""))
    op.drop_table("erased_devices")
    op.drop_table("erasures")
    op.drop_column("journal_effects", "erased")
    op.drop_column("journal", "erased_by")
