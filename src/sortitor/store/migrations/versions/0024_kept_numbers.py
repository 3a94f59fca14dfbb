"""Numbers that take long to count.

Purpose: pages of a large fleet show what was counted a moment ago, with its age, instead of
counting a million devices for every look.
Lock and disk cost: a new table of a few rows.
Way back: downgrade drops it; everything is counted for each look.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "kept_numbers",
        sa.Column("family", sa.Text(), nullable=False),
        sa.Column("about", sa.Text(), nullable=False),
        sa.Column("value", JSONB(), nullable=False),
        sa.Column("counted_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("family", name="pk_kept_numbers"),
    )


def downgrade() -> None:
    op.drop_table("kept_numbers")
