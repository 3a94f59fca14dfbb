"""What a trusted service keeps: a sealed journal that names accounts by number and real time,
sessions and tokens with their last use, claims on devices that are in use, counts of strangers.

Purpose: every entry can be proved unchanged; whoever administers sees who is signed in and by what;
a knock cannot take a device over; wrong pass codes leave a count and no rows; a job that kills its
worker is not tried for ever; look-alike account names are refused by the database.
Lock and disk cost: the journal is rewritten once, since each entry is given the number of its
transaction (about 10 s a million entries, exclusive); the other tables are small.
Way back: downgrade drops what was added; seals and sessions are lost, entries are not.
"""

import sqlalchemy as sa
from alembic import op

from sortitor.core.accounts import name_key

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    _accounts()
    _journal()
    op.add_column("arrivals", sa.Column("claim", sa.Text()))
    op.create_check_constraint(
        op.f("ck_arrivals_claim"), "arrivals", "claim IN ('open', 'granted', 'denied')"
    )
    op.create_index(
        op.f("ix_arrivals_claim"),
        "arrivals",
        ["device_id"],
        postgresql_where=sa.text("claim = 'open'"),
    )
    op.add_column("credentials", sa.Column("claim_id", sa.BigInteger()))
    op.add_column("credentials", sa.Column("granted_by", sa.BigInteger()))
    op.create_index(
        op.f("ix_credentials_claim_id"),
        "credentials",
        ["claim_id"],
        postgresql_where=sa.text("claim_id IS NOT NULL"),
    )
    op.add_column("jobs", sa.Column("attempts", sa.Integer(), nullable=False, server_default="0"))
    op.add_column(
        "lots", sa.Column("known_only", sa.Boolean(), nullable=False, server_default="false")
    )
    op.create_table(
        "strangers",
        sa.Column("what", sa.Text(), nullable=False),
        sa.Column("hour", sa.DateTime(timezone=True), nullable=False),
        sa.Column("count", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("what", "hour", name=op.f("pk_strangers")),
    )
    # Answers with secrets were kept here in clear.
    op.execute("DELETE FROM idempotency")
    op.execute("""
        CREATE FUNCTION tell_of_a_job() RETURNS trigger LANGUAGE plpgsql AS $$
        BEGIN
            PERFORM pg_notify('sortitor_jobs', NEW.id::text);
            RETURN NULL;
        END $$
        """)
    op.execute(
        "CREATE TRIGGER jobs_told AFTER UPDATE ON jobs FOR EACH ROW EXECUTE FUNCTION"
        " tell_of_a_job()"
    )


def _accounts() -> None:
    op.drop_column("accounts", "failures")
    op.drop_column("accounts", "failed_at")
    op.add_column("accounts", sa.Column("name_key", sa.Text()))
    bind = op.get_bind()
    taken: set[str] = set()
    for number, name in bind.execute(sa.text("SELECT id, name FROM accounts ORDER BY id")).all():
        key = name_key(name)
        if key in taken:
            # They were let in before look-alikes were refused; whoever administers renames one.
            key = f"{key} {number}"
        taken.add(key)
        bind.execute(
            sa.text("UPDATE accounts SET name_key = :key WHERE id = :id"),
            {"key": key, "id": number},
        )
    op.alter_column("accounts", "name_key", nullable=False)
    op.create_index(op.f("uq_accounts_name_key"), "accounts", ["name_key"], unique=True)
    op.execute("DELETE FROM sessions")
    op.add_column("sessions", sa.Column("id", sa.BigInteger(), sa.Identity(), nullable=False))
    op.add_column("sessions", sa.Column("created_at", sa.DateTime(timezone=True), nullable=False))
    op.add_column("sessions", sa.Column("used_at", sa.DateTime(timezone=True), nullable=False))
    op.add_column("sessions", sa.Column("address", sa.Text()))
    op.create_unique_constraint(op.f("uq_sessions_id"), "sessions", ["id"])
    op.add_column("tokens", sa.Column("used_at", sa.DateTime(timezone=True)))


def _journal() -> None:
    op.add_column("journal", sa.Column("account_id", sa.BigInteger()))
    op.add_column(
        "journal",
        sa.Column(
            "recorded_at",
            sa.DateTime(timezone=True),
            nullable=False,
            server_default=sa.text("clock_timestamp()"),
        ),
    )
    # Which entries are new since a moment is asked by transaction: numbers of entries are given
    # before they are committed.
    op.execute(
        "ALTER TABLE journal ADD COLUMN transaction_id bigint NOT NULL"
        " DEFAULT ((pg_current_xact_id())::text)::bigint"
    )
    op.create_index(op.f("ix_journal_transaction_id"), "journal", ["transaction_id"])
    op.create_table(
        "journal_seals",
        sa.Column("place", sa.BigInteger(), nullable=False, autoincrement=False),
        sa.Column("entry_id", sa.BigInteger(), nullable=False),
        sa.Column("digest", sa.LargeBinary(), nullable=False),
        sa.Column("sealed_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("place", name=op.f("pk_journal_seals")),
        sa.UniqueConstraint("entry_id", name=op.f("uq_journal_seals_entry_id")),
    )
    op.execute(
        "CREATE TRIGGER journal_seals_append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON"
        " journal_seals FOR EACH STATEMENT EXECUTE FUNCTION refuse_rewriting_the_journal()"
    )


def downgrade() -> None:
    op.execute("DROP FUNCTION tell_of_a_job() CASCADE")
    op.drop_table("strangers")
    op.drop_column("lots", "known_only")
    op.drop_column("jobs", "attempts")
    op.drop_column("credentials", "granted_by")
    op.execute("DELETE FROM credentials WHERE claim_id IS NOT NULL")
    op.drop_column("credentials", "claim_id")
    op.drop_column("arrivals", "claim")
    op.drop_table("journal_seals")
    for column in ("transaction_id", "recorded_at", "account_id"):
        op.drop_column("journal", column)
    op.drop_column("tokens", "used_at")
    for column in ("address", "used_at", "created_at", "id"):
        op.drop_column("sessions", column)
    op.drop_column("accounts", "name_key")
    op.add_column(
        "accounts", sa.Column("failures", sa.Integer(), nullable=False, server_default="0")
    )
    op.add_column("accounts", sa.Column("failed_at", sa.DateTime(timezone=True)))
