"""The first tables.

Purpose: everything of the first version.
Lock and disk cost: none; everything is new.
Way back: downgrade drops the tables and what is in them.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "accounts",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("password_hash", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("disabled_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("failures", sa.Integer(), server_default="0", nullable=False),
        sa.Column("failed_at", sa.DateTime(timezone=True), nullable=True),
        sa.CheckConstraint(
            "role IN ('viewer', 'coordinator', 'administrator')", name=op.f("ck_accounts_role")
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_accounts")),
    )
    op.create_index("uq_accounts_name", "accounts", [sa.literal_column("lower(name)")], unique=True)
    op.create_table(
        "arrivals",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("outcome", sa.Text(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=True),
        sa.Column("person_id", sa.BigInteger(), nullable=True),
        sa.Column("pass_id", sa.BigInteger(), nullable=True),
        sa.Column("stated", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("reasons", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("trace", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.CheckConstraint(
            "outcome IN ('admitted', 'parked', 'refused')", name=op.f("ck_arrivals_outcome")
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_arrivals")),
    )
    op.create_index(op.f("ix_arrivals_device_id"), "arrivals", ["device_id"], unique=False)
    op.create_index(op.f("ix_arrivals_outcome_id"), "arrivals", ["outcome", "id"], unique=False)
    op.create_table(
        "counters",
        sa.Column("template", sa.Text(), nullable=False),
        sa.Column("next_number", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("template", name=op.f("pk_counters")),
    )
    op.create_table(
        "groups",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_groups")),
    )
    op.create_index("uq_groups_name", "groups", [sa.literal_column("lower(name)")], unique=True)
    op.create_table(
        "idempotency",
        sa.Column("account_id", sa.BigInteger(), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("request_hash", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("status", sa.Integer(), nullable=True),
        sa.Column("answer", sa.LargeBinary(), nullable=True),
        sa.Column("media_type", sa.Text(), nullable=True),
        sa.PrimaryKeyConstraint("account_id", "key", name=op.f("pk_idempotency")),
    )
    op.create_index(op.f("ix_idempotency_created_at"), "idempotency", ["created_at"], unique=False)
    op.create_table(
        "installation",
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("value", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_installation")),
    )
    op.create_table(
        "journal",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("actor", sa.Text(), nullable=False),
        sa.Column("request_id", sa.Text(), nullable=True),
        sa.Column("operation", sa.Text(), nullable=False),
        sa.Column("subject", sa.Text(), nullable=False),
        sa.Column("subject_id", sa.BigInteger(), nullable=True),
        sa.Column("summary", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=True),
        sa.Column("before", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("after", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("reverts", sa.BigInteger(), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_journal")),
    )
    op.create_index(op.f("ix_journal_operation_id"), "journal", ["operation", "id"], unique=False)
    op.create_index(
        op.f("ix_journal_subject_subject_id"), "journal", ["subject", "subject_id"], unique=False
    )
    op.create_index(
        "uq_journal_reverts",
        "journal",
        ["reverts"],
        unique=True,
        postgresql_where=sa.text("reverts IS NOT NULL"),
    )
    op.create_table(
        "journal_effects",
        sa.Column("entry_id", sa.BigInteger(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("before", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("after", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.PrimaryKeyConstraint("device_id", "entry_id", name=op.f("pk_journal_effects")),
    )
    op.create_index(
        "ix_journal_effects_entry_id",
        "journal_effects",
        ["entry_id"],
        unique=False,
        postgresql_using="brin",
    )
    op.create_table(
        "lot_notes",
        sa.Column("lot_id", sa.BigInteger(), nullable=False),
        sa.Column("row", sa.Integer(), nullable=False),
        sa.Column("code", sa.Text(), nullable=False),
        sa.Column("column", sa.Text(), nullable=True),
        sa.Column("given", sa.Text(), nullable=True),
    )
    op.create_index(
        op.f("ix_lot_notes_lot_id_code_row"), "lot_notes", ["lot_id", "code", "row"], unique=False
    )
    op.create_index(op.f("ix_lot_notes_lot_id_row"), "lot_notes", ["lot_id", "row"], unique=False)
    op.create_table(
        "lot_blocks",
        sa.Column("lot_id", sa.BigInteger(), nullable=False),
        sa.Column("first_row", sa.Integer(), nullable=False),
        sa.Column("last_row", sa.Integer(), nullable=False),
        sa.Column("numbers", postgresql.ARRAY(sa.Integer()), nullable=False),
        sa.Column("verdicts", sa.Text(), nullable=False),
        sa.Column("cells", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("lot_id", "first_row", name=op.f("pk_lot_blocks")),
    )
    op.create_table(
        "lot_rows",
        sa.Column("lot_id", sa.BigInteger(), nullable=False),
        sa.Column("row", sa.Integer(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("changes", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.PrimaryKeyConstraint("lot_id", "row", name=op.f("pk_lot_rows")),
    )
    op.create_table(
        "journal_creations",
        sa.Column("entry_id", sa.BigInteger(), nullable=False),
        sa.Column("first_device_id", sa.BigInteger(), nullable=False),
        sa.Column("last_device_id", sa.BigInteger(), nullable=False),
        sa.Column("after", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.PrimaryKeyConstraint("first_device_id", name=op.f("pk_journal_creations")),
    )
    op.create_index(
        op.f("ix_journal_creations_entry_id"), "journal_creations", ["entry_id"], unique=False
    )
    op.create_table(
        "lots",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("status", sa.Text(), nullable=False),
        sa.Column("form", sa.Text(), nullable=False),
        sa.Column("file_name", sa.Text(), nullable=True),
        sa.Column("content", sa.LargeBinary(), nullable=False),
        sa.Column("fingerprint", sa.Text(), nullable=False),
        sa.Column("content_bytes", sa.BigInteger(), nullable=False),
        sa.Column("delimiter", sa.Text(), nullable=False),
        sa.Column("columns", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("headers", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("defaults", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("overwrite_manual", sa.Boolean(), nullable=False),
        sa.Column("counts", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("severities", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("created_by", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("checked_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("applied_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("reverted_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("entry_id", sa.BigInteger(), nullable=True),
        sa.CheckConstraint(
            "status IN ('draft', 'applied', 'reverted', 'discarded')", name=op.f("ck_lots_status")
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_lots")),
    )
    op.create_index(op.f("ix_lots_fingerprint"), "lots", ["fingerprint"], unique=False)
    op.create_table(
        "people",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("user_name", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("mail", sa.Text(), nullable=True),
        sa.Column("department", sa.Text(), nullable=True),
        sa.Column("site", sa.Text(), nullable=True),
        sa.Column("left_at", sa.DateTime(timezone=True), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_people")),
    )
    op.create_index("ix_people_mail", "people", [sa.literal_column("lower(mail)")], unique=False)
    op.create_index(
        "uq_people_user_name", "people", [sa.literal_column("lower(user_name)")], unique=True
    )
    op.create_table(
        "pools",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("revision", sa.Integer(), server_default="1", nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("seats", sa.Integer(), nullable=False),
        sa.Column("awaited_too", sa.Boolean(), nullable=False),
        sa.CheckConstraint("seats >= 0", name=op.f("ck_pools_seats")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_pools")),
    )
    op.create_index("uq_pools_name", "pools", [sa.literal_column("lower(name)")], unique=True)
    op.create_table(
        "rulebooks",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("entries", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_rulebooks")),
    )
    op.create_table(
        "sweep_rules",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("revision", sa.Integer(), server_default="1", nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("idle_window_days", sa.Integer(), nullable=False),
        sa.Column("daily", sa.Boolean(), nullable=False),
        sa.Column("brake_percent", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_sweep_rules")),
    )
    op.create_index(
        "uq_sweep_rules_name", "sweep_rules", [sa.literal_column("lower(name)")], unique=True
    )
    op.create_table(
        "devices",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("stage", sa.Text(), nullable=False),
        sa.Column("stage_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("flag", sa.Text(), nullable=True),
        sa.Column("platform", sa.Text(), nullable=True),
        sa.Column("os_version", sa.Text(), nullable=True),
        sa.Column("maker", sa.Text(), nullable=True),
        sa.Column("model", sa.Text(), nullable=True),
        sa.Column("product_code", sa.Text(), nullable=True),
        sa.Column("ownership", sa.Text(), server_default="unknown", nullable=False),
        sa.Column("ownership_basis", sa.Text(), server_default="inferred", nullable=False),
        sa.Column("person_id", sa.BigInteger(), nullable=True),
        sa.Column("name", sa.Text(), nullable=True),
        sa.Column("name_basis", sa.Text(), nullable=True),
        sa.Column("site", sa.Text(), nullable=True),
        sa.Column("department", sa.Text(), nullable=True),
        sa.Column("asset_tag", sa.Text(), nullable=True),
        sa.Column("tags", postgresql.ARRAY(sa.Text()), server_default="{}", nullable=False),
        sa.Column("note", sa.Text(), nullable=True),
        sa.Column("order_name", sa.Text(), nullable=True),
        sa.Column("purchase_order", sa.Text(), nullable=True),
        sa.Column("supplier", sa.Text(), nullable=True),
        sa.Column("purchased_on", sa.Date(), nullable=True),
        sa.Column("warranty_until", sa.Date(), nullable=True),
        sa.Column(
            "details", postgresql.JSONB(astext_type=sa.Text()), server_default="{}", nullable=False
        ),
        sa.Column("manual", postgresql.ARRAY(sa.Text()), server_default="{}", nullable=False),
        sa.Column("lot_id", sa.BigInteger(), nullable=True),
        sa.Column("lot_row", sa.Integer(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("enrolled_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("last_seen_at", sa.DateTime(timezone=True), nullable=True),
        sa.CheckConstraint("flag IN ('missing', 'stolen')", name=op.f("ck_devices_flag")),
        sa.CheckConstraint(
            "ownership IN ('corporate', 'personal', 'partner', 'unknown')",
            name=op.f("ck_devices_ownership"),
        ),
        sa.CheckConstraint(
            "ownership_basis IN ('inferred', 'pass', 'declared', 'manual')",
            name=op.f("ck_devices_ownership_basis"),
        ),
        sa.CheckConstraint(
            "stage <> 'active' OR enrolled_at IS NOT NULL", name=op.f("ck_devices_active_enrolled")
        ),
        sa.CheckConstraint(
            "stage IN ('awaited', 'parked', 'active', 'dormant', 'retired')",
            name=op.f("ck_devices_stage"),
        ),
        sa.ForeignKeyConstraint(["person_id"], ["people.id"], name=op.f("fk_devices_person_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_devices")),
        postgresql_with={"fillfactor": "85"},
    )
    op.create_index(
        "ix_devices_asset_tag",
        "devices",
        [sa.literal_column("lower(asset_tag)")],
        unique=False,
        postgresql_where=sa.text("asset_tag IS NOT NULL"),
    )
    op.create_index(
        "ix_devices_lot_id",
        "devices",
        ["lot_id"],
        unique=False,
        postgresql_using="brin",
        postgresql_with={"pages_per_range": "16"},
    )
    op.create_index(
        "ix_devices_person_id",
        "devices",
        ["person_id"],
        unique=False,
        postgresql_where=sa.text("person_id IS NOT NULL"),
    )
    op.create_index(
        "uq_devices_name",
        "devices",
        [sa.literal_column("lower(name)")],
        unique=True,
        postgresql_where=sa.text("stage <> 'retired' AND name IS NOT NULL"),
    )
    op.create_table(
        "memberships",
        sa.Column("person_id", sa.BigInteger(), nullable=False),
        sa.Column("group_id", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(
            ["group_id"], ["groups.id"], name=op.f("fk_memberships_group_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["person_id"], ["people.id"], name=op.f("fk_memberships_person_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("person_id", "group_id", name=op.f("pk_memberships")),
    )
    op.create_index(op.f("ix_memberships_group_id"), "memberships", ["group_id"], unique=False)
    op.create_table(
        "passes",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("code_hash", sa.Text(), nullable=False),
        sa.Column("label", sa.Text(), nullable=False),
        sa.Column("activation", sa.Text(), nullable=False),
        sa.Column("ownership", sa.Text(), nullable=True),
        sa.Column("person_id", sa.BigInteger(), nullable=True),
        sa.Column("valid_from", sa.DateTime(timezone=True), nullable=False),
        sa.Column("valid_until", sa.DateTime(timezone=True), nullable=False),
        sa.Column("max_uses", sa.Integer(), nullable=True),
        sa.Column("uses", sa.Integer(), server_default="0", nullable=False),
        sa.Column("created_by", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("revoked_at", sa.DateTime(timezone=True), nullable=True),
        sa.CheckConstraint(
            "activation IN ('person', 'coordinator', 'shared')", name=op.f("ck_passes_activation")
        ),
        sa.CheckConstraint("max_uses IS NULL OR uses <= max_uses", name=op.f("ck_passes_uses")),
        sa.ForeignKeyConstraint(["person_id"], ["people.id"], name=op.f("fk_passes_person_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_passes")),
        sa.UniqueConstraint("code_hash", name=op.f("uq_passes_code_hash")),
    )
    op.create_table(
        "sessions",
        sa.Column("secret_hash", sa.Text(), nullable=False),
        sa.Column("account_id", sa.BigInteger(), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["account_id"], ["accounts.id"], name=op.f("fk_sessions_account_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("secret_hash", name=op.f("pk_sessions")),
    )
    op.create_table(
        "sweeps",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("rule_id", sa.BigInteger(), nullable=True),
        sa.Column("rule_name", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("retired", sa.Integer(), nullable=False),
        sa.Column("watched", sa.Integer(), nullable=False),
        sa.Column("entry_id", sa.BigInteger(), nullable=True),
        sa.CheckConstraint(
            "state IN ('applied', 'reverted', 'braked')", name=op.f("ck_sweeps_state")
        ),
        sa.ForeignKeyConstraint(
            ["rule_id"], ["sweep_rules.id"], name=op.f("fk_sweeps_rule_id"), ondelete="SET NULL"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_sweeps")),
    )
    op.create_table(
        "tokens",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("account_id", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("secret_hash", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("revoked_at", sa.DateTime(timezone=True), nullable=True),
        sa.CheckConstraint(
            "role IN ('viewer', 'coordinator', 'administrator')", name=op.f("ck_tokens_role")
        ),
        sa.ForeignKeyConstraint(
            ["account_id"], ["accounts.id"], name=op.f("fk_tokens_account_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_tokens")),
        sa.UniqueConstraint("secret_hash", name=op.f("uq_tokens_secret_hash")),
    )
    op.create_table(
        "credentials",
        sa.Column("secret_hash", sa.LargeBinary(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("revoked_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("revoked_by", sa.BigInteger(), nullable=True),
        sa.ForeignKeyConstraint(
            ["device_id"], ["devices.id"], name=op.f("fk_credentials_device_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("secret_hash", name=op.f("pk_credentials")),
    )
    op.create_index(op.f("ix_credentials_device_id"), "credentials", ["device_id"], unique=False)
    op.create_table(
        "holds",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("until_on", sa.Date(), nullable=False),
        sa.Column("created_by", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["device_id"], ["devices.id"], name=op.f("fk_holds_device_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_holds")),
    )
    op.create_index(op.f("ix_holds_device_id"), "holds", ["device_id"], unique=False)
    op.create_table(
        "identifiers",
        sa.Column("kind", sa.Text(collation="C"), nullable=False),
        sa.Column("value", sa.Text(collation="C"), nullable=False),
        sa.Column("maker", sa.Text(collation="C"), server_default="", nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("given", sa.Text(), nullable=True),
        sa.PrimaryKeyConstraint("value", "kind", "maker", name=op.f("pk_identifiers")),
    )
    op.create_index(op.f("ix_identifiers_device_id"), "identifiers", ["device_id"], unique=False)
    op.create_index(
        "ix_identifiers_ending",
        "identifiers",
        [sa.literal_column("reverse(value)").label("ending")],
        unique=False,
        postgresql_ops={"ending": "text_pattern_ops"},
    )


def downgrade() -> None:
    op.drop_index(
        "ix_identifiers_ending",
        table_name="identifiers",
        postgresql_ops={"ending": "text_pattern_ops"},
    )
    op.drop_index(op.f("ix_identifiers_device_id"), table_name="identifiers")
    op.drop_table("identifiers")
    op.drop_index(op.f("ix_holds_device_id"), table_name="holds")
    op.drop_table("holds")
    op.drop_index(op.f("ix_credentials_device_id"), table_name="credentials")
    op.drop_table("credentials")
    op.drop_table("tokens")
    op.drop_table("sweeps")
    op.drop_table("sessions")
    op.drop_table("passes")
    op.drop_index(op.f("ix_memberships_group_id"), table_name="memberships")
    op.drop_table("memberships")
    op.drop_index(
        "uq_devices_name",
        table_name="devices",
        postgresql_where=sa.text("stage <> 'retired' AND name IS NOT NULL"),
    )
    op.drop_index(
        "ix_devices_person_id",
        table_name="devices",
        postgresql_where=sa.text("person_id IS NOT NULL"),
    )
    op.drop_index("ix_devices_lot_id", table_name="devices")
    op.drop_index(
        "ix_devices_asset_tag",
        table_name="devices",
        postgresql_where=sa.text("asset_tag IS NOT NULL"),
    )
    op.drop_table("devices")
    op.drop_index("uq_sweep_rules_name", table_name="sweep_rules")
    op.drop_table("sweep_rules")
    op.drop_table("rulebooks")
    op.drop_index("uq_pools_name", table_name="pools")
    op.drop_table("pools")
    op.drop_index("uq_people_user_name", table_name="people")
    op.drop_index("ix_people_mail", table_name="people")
    op.drop_table("people")
    op.drop_index(op.f("ix_lots_fingerprint"), table_name="lots")
    op.drop_table("lots")
    op.drop_table("lot_rows")
    op.drop_table("lot_blocks")
    op.drop_table("journal_creations")
    op.drop_index(op.f("ix_lot_notes_lot_id_row"), table_name="lot_notes")
    op.drop_index(op.f("ix_lot_notes_lot_id_code_row"), table_name="lot_notes")
    op.drop_table("lot_notes")
    op.drop_index(
        "ix_journal_effects_entry_id", table_name="journal_effects", postgresql_using="brin"
    )
    op.drop_table("journal_effects")
    op.drop_index(
        "uq_journal_reverts", table_name="journal", postgresql_where=sa.text("reverts IS NOT NULL")
    )
    op.drop_index(op.f("ix_journal_subject_subject_id"), table_name="journal")
    op.drop_index(op.f("ix_journal_operation_id"), table_name="journal")
    op.drop_table("journal")
    op.drop_table("installation")
    op.drop_index(op.f("ix_idempotency_created_at"), table_name="idempotency")
    op.drop_table("idempotency")
    op.drop_index("uq_groups_name", table_name="groups")
    op.drop_table("groups")
    op.drop_table("counters")
    op.drop_index(op.f("ix_arrivals_outcome_id"), table_name="arrivals")
    op.drop_index(op.f("ix_arrivals_device_id"), table_name="arrivals")
    op.drop_table("arrivals")
    op.drop_index("uq_accounts_name", table_name="accounts")
    op.drop_table("accounts")
