"""The headers of answers that are kept for repeated requests.

Purpose: a repeated request gets the same answer with its headers, such as where a thing is found
that was made.
Lock and disk cost: the table holds a day of answers; it is changed at once.
Way back: downgrade keeps the media types and forgets the other headers.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("idempotency", sa.Column("headers", JSONB()))
    op.execute(
        "UPDATE idempotency SET headers = jsonb_build_object('content-type', media_type)"
        " WHERE status IS NOT NULL"
    )
    op.drop_column("idempotency", "media_type")


def downgrade() -> None:
    op.add_column("idempotency", sa.Column("media_type", sa.Text()))
    op.execute("UPDATE idempotency SET media_type = headers ->> 'content-type'")
    op.drop_column("idempotency", "headers")
