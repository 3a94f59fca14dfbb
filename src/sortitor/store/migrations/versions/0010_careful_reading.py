"""How a file was understood, and how a supplier's files are to be read.

Purpose: decisions of the reader are shown, corrected and remembered; makers are compared with those
that lots brought before.
Lock and disk cost: small columns on lots and mappings; one pass over the devices for their makers.
Way back: downgrade drops what was added; rows taken in spite of a doubt are doubted again.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None

_REMEDIES = "remedy IN ('skip', 'take_back', 'merge')"


def upgrade() -> None:
    for table, column in (("lots", "reading"), ("lots", "understanding"), ("mappings", "manner")):
        op.add_column(table, sa.Column(column, JSONB(), nullable=False, server_default="{}"))
    op.drop_constraint(op.f("ck_lot_choices_remedy"), "lot_choices")
    op.create_check_constraint(
        op.f("ck_lot_choices_remedy"),
        "lot_choices",
        "remedy IN ('skip', 'take', 'take_back', 'merge')",
    )
    op.create_table(
        "makers",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("added_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_makers")),
    )
    op.execute(
        "INSERT INTO makers SELECT maker, min(created_at) FROM devices"
        " WHERE maker IS NOT NULL AND lot_id IS NOT NULL GROUP BY maker"
    )


def downgrade() -> None:
    op.drop_table("makers")
    op.execute("DELETE FROM lot_choices WHERE remedy = 'take'")
    op.drop_constraint(op.f("ck_lot_choices_remedy"), "lot_choices")
    op.create_check_constraint(op.f("ck_lot_choices_remedy"), "lot_choices", _REMEDIES)
    op.drop_column("mappings", "manner")
    op.drop_column("lots", "understanding")
    op.drop_column("lots", "reading")
