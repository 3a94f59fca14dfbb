"""Lots of any format, edited and resolved in place; suppliers' mappings; orders; long work with
progress.

Purpose: how a file was read; edits and remedies of single rows; remembered mappings; orders and
their lines; the progress of jobs.
Lock and disk cost: short locks on lots and devices; one block range index is built.
Way back: downgrade drops what is new; edits, remedies, mappings and orders are lost.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

_STATUSES = "status IN ('checking', 'draft', 'applied', 'reverted', 'discarded')"
_OLD_STATUSES = "status IN ('draft', 'applied', 'reverted', 'discarded')"


def upgrade() -> None:
    op.alter_column("lots", "delimiter", new_column_name="layout")
    op.add_column("lots", sa.Column("encoding", sa.Text(), nullable=False, server_default=""))
    op.add_column("lots", sa.Column("sheet", sa.Text()))
    op.add_column(
        "lots", sa.Column("sheets", postgresql.JSONB(), nullable=False, server_default="[]")
    )
    op.add_column("lots", sa.Column("header_row", sa.Integer(), nullable=False, server_default="1"))
    op.add_column(
        "lots", sa.Column("by_hand", sa.Boolean(), nullable=False, server_default="false")
    )
    op.add_column(
        "lots", sa.Column("seen_entry", sa.BigInteger(), nullable=False, server_default="0")
    )
    op.add_column(
        "lots", sa.Column("columns_from", sa.Text(), nullable=False, server_default="meaning")
    )
    op.drop_constraint("ck_lots_status", "lots")
    op.create_check_constraint(op.f("ck_lots_status"), "lots", _STATUSES)
    op.create_index(
        "ix_devices_order_name",
        "devices",
        [sa.text("lower(order_name)")],
        postgresql_using="brin",
        postgresql_with={"pages_per_range": "16"},
    )
    op.create_table(
        "lot_edits",
        sa.Column("lot_id", sa.BigInteger(), nullable=False),
        sa.Column("row", sa.Integer(), nullable=False),
        sa.Column("header", sa.Text(), nullable=False),
        sa.Column("value", sa.Text()),
        sa.PrimaryKeyConstraint("lot_id", "row", "header", name=op.f("pk_lot_edits")),
    )
    op.create_table(
        "lot_choices",
        sa.Column("lot_id", sa.BigInteger(), nullable=False),
        sa.Column("row", sa.Integer(), nullable=False),
        sa.Column("remedy", sa.Text(), nullable=False),
        sa.CheckConstraint(
            "remedy IN ('skip', 'take_back', 'merge')", name=op.f("ck_lot_choices_remedy")
        ),
        sa.PrimaryKeyConstraint("lot_id", "row", name=op.f("pk_lot_choices")),
    )
    op.create_table(
        "mappings",
        sa.Column("supplier", sa.Text(), nullable=False),
        sa.Column("columns", postgresql.JSONB(), nullable=False),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("changed_by", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("supplier", name=op.f("pk_mappings")),
    )
    op.create_table(
        "orders",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("revision", sa.Integer(), server_default="1", nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("supplier", sa.Text()),
        sa.Column("ordered_on", sa.Date()),
        sa.Column("note", sa.Text()),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_orders")),
    )
    op.create_index("uq_orders_name", "orders", [sa.text("lower(name)")], unique=True)
    op.create_table(
        "order_lines",
        sa.Column("order_id", sa.BigInteger(), nullable=False),
        sa.Column("place", sa.Integer(), nullable=False),
        sa.Column("product", sa.Text(), nullable=False),
        sa.Column("quantity", sa.Integer(), nullable=False),
        sa.Column("price", sa.Numeric(14, 2)),
        sa.CheckConstraint("quantity > 0", name=op.f("ck_order_lines_quantity")),
        sa.ForeignKeyConstraint(
            ["order_id"], ["orders.id"], name=op.f("fk_order_lines_order_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("order_id", "place", name=op.f("pk_order_lines")),
    )
    op.create_table(
        "jobs",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("title", sa.Text(), nullable=False),
        sa.Column("subject_id", sa.BigInteger(), nullable=False),
        sa.Column("arguments", postgresql.JSONB(), nullable=False),
        sa.Column("actor", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("account_id", sa.BigInteger()),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("phase", sa.Text(), nullable=False, server_default=""),
        sa.Column("done", sa.BigInteger(), nullable=False, server_default="0"),
        sa.Column("total", sa.BigInteger(), nullable=False, server_default="0"),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("started_at", sa.DateTime(timezone=True)),
        sa.Column("finished_at", sa.DateTime(timezone=True)),
        sa.Column("cancel", sa.Boolean(), nullable=False, server_default="false"),
        sa.Column("problem", postgresql.JSONB()),
        sa.CheckConstraint(
            "state IN ('waiting', 'running', 'done', 'failed', 'cancelled')",
            name=op.f("ck_jobs_state"),
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_jobs")),
    )


def downgrade() -> None:
    for table in ("jobs", "order_lines", "orders", "mappings", "lot_choices", "lot_edits"):
        op.drop_table(table)
    op.drop_index("ix_devices_order_name", "devices")
    op.drop_constraint("ck_lots_status", "lots")
    op.create_check_constraint(op.f("ck_lots_status"), "lots", _OLD_STATUSES)
    for column in (
        "seen_entry",
        "columns_from",
        "by_hand",
        "header_row",
        "sheets",
        "sheet",
        "encoding",
    ):
        op.drop_column("lots", column)
    op.alter_column("lots", "layout", new_column_name="delimiter")
