"""What the gate knew of an arrival when it decided.

Purpose: a change of the gate is held against the arrivals of the last weeks as they were then.
Lock and disk cost: one nullable column and one index on arrivals; about 400 bytes an arrival from
now on. Earlier arrivals have none and are not replayed.
Way back: downgrade drops the column; what it kept is lost.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("arrivals", sa.Column("facts", JSONB()))
    op.create_index(op.f("ix_arrivals_at"), "arrivals", ["at"])


def downgrade() -> None:
    op.drop_index(op.f("ix_arrivals_at"), "arrivals")
    op.drop_column("arrivals", "facts")
