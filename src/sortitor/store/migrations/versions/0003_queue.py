"""The queue's own tables and functions, as of procrastinate 3.10.

Purpose: jobs live in the same database as what they are about.
Lock and disk cost: none; everything is new.
Way back: drop the procrastinate_* objects; waiting jobs are lost.
"""

from pathlib import Path

from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    sql = (Path(__file__).parent.parent / "queue_3_10.sql").read_text()
    # Many statements at once, and percent signs that are no placeholders: straight to the driver.
    driver = op.get_bind().connection.driver_connection
    assert driver is not None
    driver.execute(sql)


def downgrade() -> None:
    raise NotImplementedError("drop the procrastinate_* tables, functions and types by hand")
