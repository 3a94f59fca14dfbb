"""Who accepted which terms can be looked up by the terms.

Purpose: a page of the acceptances of one terms, also where there are many.
Lock and disk cost: an index over a small table.
Way back: downgrade drops it.
"""

from alembic import op

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_index("ix_acceptances_terms_name_id", "acceptances", ["terms_name", "id"])


def downgrade() -> None:
    op.drop_index("ix_acceptances_terms_name_id", "acceptances")
