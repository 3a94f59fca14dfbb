"""Reminders of what ends, and accounts that sign in with the password of a directory.

Purpose: who is reminded by mail is a document; of what they were is kept, so that each mail goes
out once. An account has a password of its own or a directory.
Lock and disk cost: a new, small table; a column and a check on accounts, of which there are few.
Way back: accounts by directory must be given passwords first; downgrade drops the rest.
"""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None

_REMINDERS = (
    '{"addresses": [], "days": [60, 30, 14, 7, 1],'
    ' "kinds": ["credential", "pass", "hold", "warranty"]}'
)


def upgrade() -> None:
    op.create_table(
        "reminded",
        sa.Column("key", sa.Text(collation="C"), nullable=False),
        sa.Column("ends_on", sa.Date(), nullable=False),
        sa.Column("days", sa.Integer(), nullable=False),
        sa.Column("at", sa.TIMESTAMP(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("key", "ends_on", "days", name=op.f("pk_reminded")),
    )
    op.get_bind().execute(
        sa.text("INSERT INTO rulebooks (id, name, document) VALUES (4, 'reminders', :document)"),
        {"document": _REMINDERS},
    )
    op.alter_column("accounts", "password_hash", nullable=True)
    op.add_column("accounts", sa.Column("source_id", sa.BigInteger()))
    op.create_foreign_key(
        op.f("fk_accounts_source_id"), "accounts", "sources", ["source_id"], ["id"]
    )
    op.create_check_constraint(
        op.f("ck_accounts_opened_by_one"),
        "accounts",
        "(password_hash IS NULL) <> (source_id IS NULL)",
    )
    op.drop_constraint(op.f("ck_tokens_purpose"), "tokens")
    op.create_check_constraint(
        op.f("ck_tokens_purpose"), "tokens", "purpose IN ('interface', 'people', 'calendar')"
    )


def downgrade() -> None:
    op.execute("DELETE FROM tokens WHERE purpose = 'calendar'")
    op.drop_constraint(op.f("ck_tokens_purpose"), "tokens")
    op.create_check_constraint(
        op.f("ck_tokens_purpose"), "tokens", "purpose IN ('interface', 'people')"
    )
    op.drop_constraint(op.f("ck_accounts_opened_by_one"), "accounts")
    op.drop_constraint(op.f("fk_accounts_source_id"), "accounts")
    op.drop_column("accounts", "source_id")
    op.alter_column("accounts", "password_hash", nullable=False)
    op.execute("DELETE FROM rulebooks WHERE id = 4")
    op.drop_table("reminded")
