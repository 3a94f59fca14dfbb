"""Issuers of licences, and the vouchers that were used.

Purpose: an issuer is a source with public keys; a voucher is booked once.
Lock and disk cost: two new, small tables; a check on sources, of which there are few, is replaced.
Way back: remove the issuers first; downgrade forgets the books.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.drop_constraint(op.f("ck_sources_kind"), "sources")
    op.create_check_constraint(
        op.f("ck_sources_kind"),
        "sources",
        "kind IN ('directory', 'registry', 'roster', 'push', 'issuer')",
    )
    op.create_table(
        "issuer_keys",
        sa.Column("source_id", sa.BigInteger(), nullable=False),
        sa.Column("kid", sa.Text(collation="C"), nullable=False),
        sa.Column("jwk", postgresql.JSONB(), nullable=False),
        sa.Column("since", sa.TIMESTAMP(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["source_id"],
            ["sources.id"],
            name=op.f("fk_issuer_keys_source_id"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("source_id", "kid", name=op.f("pk_issuer_keys")),
    )
    op.create_table(
        "grants",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("pool_id", sa.BigInteger(), nullable=False),
        sa.Column("issuer", sa.Text(), nullable=False),
        sa.Column("issuer_name", sa.Text(), nullable=False),
        sa.Column("voucher", sa.Text(), nullable=False),
        sa.Column("used_as", sa.Text(), nullable=False),
        sa.Column("token", sa.Text(), nullable=False),
        sa.Column("product", sa.Text(), nullable=False),
        sa.Column("trial", sa.Boolean(), nullable=False),
        sa.Column("act", sa.Text(), nullable=False),
        sa.Column("seats", sa.Integer(), nullable=False),
        sa.Column("days", sa.Integer(), nullable=False),
        sa.Column("granted_on", sa.Date(), nullable=False),
        sa.Column("at", sa.TIMESTAMP(timezone=True), nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text()),
        sa.Column("entry_id", sa.BigInteger(), nullable=False),
        sa.Column("reverted_at", sa.TIMESTAMP(timezone=True)),
        sa.Column("reverted_by", sa.Text()),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_grants")),
        sa.CheckConstraint("act IN ('top-up', 'rollover', 'beside')", name=op.f("ck_grants_act")),
        sa.CheckConstraint("seats > 0 AND days > 0", name=op.f("ck_grants_amount")),
    )
    op.create_index("ix_grants_pool_id_id", "grants", ["pool_id", "id"])
    op.create_index(
        "uq_grants_voucher",
        "grants",
        ["issuer", "voucher"],
        unique=True,
        postgresql_where=sa.text("reverted_at IS NULL"),
    )
    op.create_index("uq_grants_used_as", "grants", ["issuer", "used_as"], unique=True)
    op.execute(
        """
        UPDATE rulebooks SET document = jsonb_set(document, '{kinds}', (document -> 'kinds') ||
            '"licence"') WHERE id = 4 AND NOT document -> 'kinds' ? 'licence'
        """
    )


def downgrade() -> None:
    op.execute(
        "UPDATE rulebooks SET document = jsonb_set(document, '{kinds}', (document -> 'kinds') -"
        " 'licence') WHERE id = 4"
    )
    op.drop_table("grants")
    op.drop_table("issuer_keys")
    op.drop_constraint(op.f("ck_sources_kind"), "sources")
    op.create_check_constraint(
        op.f("ck_sources_kind"),
        "sources",
        "kind IN ('directory', 'registry', 'roster', 'push')",
    )
