"""Devices are dormant for a while before they are retired; rules run every few hours.

Purpose: a dormant device knows the day of its retirement; runs tell how many became dormant, and
why one stopped; a silence of the whole fleet is seen beside the days before.
Lock and disk cost: a column on devices without a default (no rewrite), a check that reads them
once; two columns on sweeps; a new table of a line a day; rules, which are few, are rewritten.
Way back: what is dormant stays so; downgrade forgets the days.
"""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("devices", sa.Column("retire_on", sa.Date()))
    op.create_check_constraint(
        op.f("ck_devices_retire_on"), "devices", "retire_on IS NULL OR stage = 'dormant'"
    )
    op.add_column("sweeps", sa.Column("dormant", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("sweeps", sa.Column("why", sa.Text()))
    op.create_table(
        "fleet_days",
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("seen", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("day", name=op.f("pk_fleet_days")),
    )
    op.execute(
        """
        UPDATE sweep_rules SET document = document - 'daily' || jsonb_build_object('every_hours',
            CASE WHEN (document ->> 'daily')::boolean THEN 24 END)
        """
    )


def downgrade() -> None:
    op.execute(
        """
        UPDATE sweep_rules SET document = document - 'every_hours' - 'dormant_days' - 'remind_days'
            - 'contacts' || jsonb_build_object('daily', document ->> 'every_hours' IS NOT NULL)
        """
    )
    op.drop_table("fleet_days")
    op.drop_column("sweeps", "why")
    op.drop_column("sweeps", "dormant")
    op.drop_constraint(op.f("ck_devices_retire_on"), "devices")
    op.drop_column("devices", "retire_on")
