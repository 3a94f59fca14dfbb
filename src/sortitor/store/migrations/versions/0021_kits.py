"""Kits: items, kits, setup sheets and checklists, whom they are given to, and what each device
gets.

Purpose: what devices get is prepared here, known before they exist, and always of the moment.
Lock and disk cost: new tables; nothing is written to them until something is given. With it, a row
of some hundred bytes for each device that has a fact.
Way back: downgrade forgets what was prepared.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None

_DOCUMENTS = ("items", "kits", "sheets", "checklists", "own_settings")
_GO_ALONG = """
CREATE OR REPLACE FUNCTION take_the_seats_along() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    -- Planned each time, for as many as there are.
    EXECUTE 'DELETE FROM device_seats s USING gone g WHERE s.device_id = g.id';
    {also}
    RETURN NULL;
END $$
"""
_KITS_TOO = """EXECUTE 'DELETE FROM device_kits k USING gone g WHERE k.device_id = g.id';
    EXECUTE 'DELETE FROM item_reports r USING gone g WHERE r.device_id = g.id';"""


def upgrade() -> None:
    for name in _DOCUMENTS:
        op.create_table(
            name,
            sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
            sa.Column("revision", sa.Integer(), server_default="1", nullable=False),
            sa.Column("document", JSONB(), nullable=False),
            sa.Column(
                "name",
                sa.Text(),
                sa.Computed("document ->> 'name'", persisted=True),
                nullable=False,
            ),
            sa.PrimaryKeyConstraint("id", name=op.f(f"pk_{name}")),
        )
        if name == "items":
            op.add_column(name, sa.Column("content", sa.Text(collation="C"), nullable=False))
        op.create_index(f"uq_{name}_name", name, [sa.text("lower(name)")], unique=True)
    op.create_table(
        "givings",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("subject_id", sa.BigInteger(), nullable=False),
        sa.Column("cohort_id", sa.BigInteger()),
        sa.Column("word", sa.Text(), nullable=False),
        sa.CheckConstraint(
            "kind IN ('item', 'kit', 'sheet', 'checklist')", name=op.f("ck_givings_kind")
        ),
        sa.CheckConstraint(
            "word IN ('excluded', 'required', 'offered')", name=op.f("ck_givings_word")
        ),
        sa.ForeignKeyConstraint(["cohort_id"], ["cohorts.id"], name=op.f("fk_givings_cohort_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_givings")),
    )
    op.create_index("ix_givings_kind_subject_id", "givings", ["kind", "subject_id"])
    op.create_index("ix_givings_cohort_id", "givings", ["cohort_id"])
    op.create_table(
        "kit_conditions",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("filter", sa.Text(), nullable=False),
        sa.Column("everyone", sa.Boolean(), nullable=False),
        sa.Column("cohorts", ARRAY(sa.BigInteger()), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_kit_conditions")),
    )
    op.create_index(
        "uq_kit_conditions_filter", "kit_conditions", [sa.text("md5(filter)")], unique=True
    )
    op.create_table(
        "device_kits",
        sa.Column("device_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("facts", ARRAY(sa.BigInteger()), nullable=False),
        sa.Column(
            "key",
            sa.BigInteger(),
            sa.Computed("hash_array_extended(facts, 0)", persisted=True),
            nullable=False,
        ),
        sa.Column("asked", sa.Integer(), server_default="0", nullable=False),
        sa.PrimaryKeyConstraint("device_id", name=op.f("pk_device_kits")),
    )
    op.create_index("ix_device_kits_key", "device_kits", ["key"])
    op.create_table(
        "kit_outcomes",
        sa.Column("key", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("facts", ARRAY(sa.BigInteger()), nullable=False),
        sa.Column("revision", sa.Text(collation="C")),
        sa.Column("required", ARRAY(sa.BigInteger())),
        sa.Column("offered", ARRAY(sa.BigInteger())),
        sa.Column("sheet_id", sa.BigInteger()),
        sa.Column("checklist_id", sa.BigInteger()),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_kit_outcomes")),
    )
    op.create_index(
        "ix_kit_outcomes_waiting",
        "kit_outcomes",
        ["key"],
        postgresql_where=sa.text("revision IS NULL"),
    )
    # What devices get that have no fact at all: nothing, which has a digest too.
    op.execute(
        "INSERT INTO kit_outcomes (key, facts, revision, required, offered)"
        " VALUES (hash_array_extended('{}'::bigint[], 0), '{}',"
        " '6d9695b0f6f0de8c737c15a199b1658001af6e4ef0d756109efffbd0c69ad4c9', '{}', '{}')"
    )
    op.create_table(
        "kit_secrets",
        sa.Column("mark", sa.Text(collation="C"), nullable=False),
        sa.Column("sealed", sa.LargeBinary(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("mark", name=op.f("pk_kit_secrets")),
    )
    op.create_table(
        "item_reports",
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("item_id", sa.BigInteger(), nullable=False),
        sa.Column("revision", sa.Text(collation="C"), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("code", sa.Text()),
        sa.Column("words", sa.Text()),
        sa.Column("log", sa.Text()),
        sa.Column("begun_at", sa.DateTime(timezone=True)),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.CheckConstraint(
            "state IN ('waiting', 'working', 'done', 'failed', 'not_for')",
            name=op.f("ck_item_reports_state"),
        ),
        sa.PrimaryKeyConstraint("device_id", "item_id", name=op.f("pk_item_reports")),
    )
    op.create_index("ix_item_reports_item_id_state", "item_reports", ["item_id", "state"])
    op.create_table(
        "kit_pushes",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("devices", ARRAY(sa.BigInteger()), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_kit_pushes")),
    )
    op.execute(_GO_ALONG.format(also=_KITS_TOO))


def downgrade() -> None:
    op.execute(_GO_ALONG.format(also=""))
    for name in ("kit_pushes", "item_reports"):
        op.drop_table(name)
    for name in ("kit_secrets", "kit_outcomes", "device_kits", "kit_conditions", "givings"):
        op.drop_table(name)
    for name in reversed(_DOCUMENTS):
        op.drop_table(name)
