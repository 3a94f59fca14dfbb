"""Numbers that take long to count, and what an entry did found by its number.

Purpose: pages of a large fleet show what was counted a moment ago, with its age, instead of
counting a million devices for every look; the journal's pages look up what their entries did.
Lock and disk cost: a new table of a few rows; an index over the effects of the journal, 7 bytes a
row, during whose making (a second for a million) nothing is written; people are written anew, with
their names in lower case.
Way back: downgrade drops the table and makes the former index.
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
        sa.Column("seconds", sa.Double(), nullable=False),
        sa.PrimaryKeyConstraint("family", name="pk_kept_numbers"),
    )

    op.drop_index("ix_journal_effects_entry_id")
    op.create_index("ix_journal_effects_entry_id", "journal_effects", ["entry_id"])
    in_lower_case = sa.Computed("lower(name)", persisted=True)
    op.add_column("people", sa.Column("name_lower", sa.Text(), in_lower_case))


def downgrade() -> None:
    op.drop_column("people", "name_lower")
    op.drop_index("ix_journal_effects_entry_id")
    op.create_index(
        "ix_journal_effects_entry_id", "journal_effects", ["entry_id"], postgresql_using="brin"
    )
    op.drop_table("kept_numbers")
