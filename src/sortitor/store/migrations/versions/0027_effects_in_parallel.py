"""What an entry did may be read by several processes of the database at once.

Purpose: the preview of taking back a large entry uses both cores; a function that does not say so
keeps its whole statement to one.
Lock and disk cost: none to speak of.
Way back: downgrade takes the word back.
"""

from alembic import op

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER FUNCTION effects_of(bigint) PARALLEL SAFE")


def downgrade() -> None:
    op.execute("ALTER FUNCTION effects_of(bigint) PARALLEL UNSAFE")
