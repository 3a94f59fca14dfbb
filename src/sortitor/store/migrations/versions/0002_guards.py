"""What the tables alone cannot say: the journal only grows, every effect of an entry, identifiers
have their device, files are stored as they are.

Purpose: triggers that refuse UPDATE, DELETE and TRUNCATE on the journal; guards in the place of a
foreign key from identifiers to devices (which a large lot can do without, since its check per row
would double the lot's time); no compression of file contents and of cells that are compressed
already.
Lock and disk cost: an instant's exclusive lock on a few tables; none on disk.
Way back: downgrade drops the triggers.
"""

from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None

_TABLES = ("journal", "journal_effects", "journal_creations")


def upgrade() -> None:
    op.execute("""
        CREATE FUNCTION refuse_rewriting_the_journal() RETURNS trigger LANGUAGE plpgsql AS $$
        BEGIN
            RAISE EXCEPTION 'the journal is append-only' USING ERRCODE = 'restrict_violation';
        END $$
        """)
    for table in _TABLES:
        op.execute(
            f"CREATE TRIGGER {table}_append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON {table} FOR"
            " EACH STATEMENT EXECUTE FUNCTION refuse_rewriting_the_journal()"
        )
    op.execute("""
        CREATE FUNCTION effects_of(entry bigint) RETURNS TABLE (device_id bigint, before jsonb,
            after jsonb) LANGUAGE sql STABLE AS $$
            SELECT e.device_id, e.before, e.after FROM journal_effects e WHERE e.entry_id = entry
            UNION ALL SELECT generate_series(c.first_device_id, c.last_device_id), NULL, c.after
                FROM journal_creations c WHERE c.entry_id = entry
        $$
        """)
    op.execute("""
        CREATE FUNCTION require_the_device() RETURNS trigger LANGUAGE plpgsql AS $$
        BEGIN
            PERFORM FROM devices d WHERE d.id = NEW.device_id FOR KEY SHARE;
            IF NOT FOUND THEN
                RAISE EXCEPTION 'an identifier belongs to a device that is not there'
                    USING ERRCODE = 'foreign_key_violation';
            END IF;
            RETURN NULL;
        END $$
        """)
    op.execute("""
        CREATE FUNCTION take_the_identifiers_along() RETURNS trigger LANGUAGE plpgsql AS $$
        BEGIN
            EXECUTE 'DELETE FROM identifiers i USING gone g WHERE i.device_id = g.id';
            RETURN NULL;
        END $$
        """)
    # What a foreign key would do, except where one statement has just written the devices of a
    # whole lot.
    op.execute("""
        CREATE TRIGGER identifiers_device AFTER INSERT OR UPDATE ON identifiers FOR EACH ROW
        WHEN (current_setting('sortitor.devices_just_written', true) IS DISTINCT FROM 'yes')
            EXECUTE FUNCTION require_the_device()
        """)
    op.execute(
        "CREATE TRIGGER devices_identifiers AFTER DELETE ON devices REFERENCING OLD TABLE AS gone"
        " FOR EACH STATEMENT EXECUTE FUNCTION take_the_identifiers_along()"
    )
    # Supplier files are read and written whole; compressing them costs more time than the space is
    # worth.
    op.execute("ALTER TABLE lots ALTER COLUMN content SET STORAGE EXTERNAL")
    op.execute("ALTER TABLE lot_blocks ALTER COLUMN cells SET STORAGE EXTERNAL")


def downgrade() -> None:
    op.execute("DROP FUNCTION require_the_device() CASCADE")
    op.execute("DROP FUNCTION take_the_identifiers_along() CASCADE")
    for table in _TABLES:
        op.execute(f"DROP TRIGGER {table}_append_only ON {table}")
    op.execute("DROP FUNCTION effects_of(bigint)")
    op.execute("DROP FUNCTION refuse_rewriting_the_journal()")
    op.execute("ALTER TABLE lots ALTER COLUMN content SET STORAGE EXTENDED")
    op.execute("ALTER TABLE lot_blocks ALTER COLUMN cells SET STORAGE EXTENDED")
