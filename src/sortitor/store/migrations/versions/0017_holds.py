"""Holds on people and cohorts beside those on devices, from a day on, with somebody who answers for
them; runs of sweeps tell how many were held.

Purpose: a ship laid up for the winter is one hold, also on what comes aboard later.
Lock and disk cost: holds, which are few, are rewritten; a new table of a line for each device that
a hold names; a column with a constant default on sweeps.
Way back: holds on people and cohorts go; one that names several devices becomes one for each.
"""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "hold_devices",
        sa.Column("hold_id", sa.BigInteger(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("device_id", "hold_id", name=op.f("pk_hold_devices")),
        sa.ForeignKeyConstraint(
            ["hold_id"], ["holds.id"], op.f("fk_hold_devices_hold_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["device_id"], ["devices.id"], op.f("fk_hold_devices_device_id"), ondelete="CASCADE"
        ),
    )
    op.create_index(op.f("ix_hold_devices_hold_id"), "hold_devices", ["hold_id"])
    op.execute("INSERT INTO hold_devices (hold_id, device_id) SELECT id, device_id FROM holds")
    op.drop_column("holds", "device_id")
    for name, table in (("person_id", "people"), ("cohort_id", "cohorts")):
        op.add_column("holds", sa.Column(name, sa.BigInteger()))
        op.create_foreign_key(
            op.f(f"fk_holds_{name}"), "holds", table, [name], ["id"], ondelete="CASCADE"
        )
        op.create_index(op.f(f"ix_holds_{name}"), "holds", [name])
    op.add_column("holds", sa.Column("owner", sa.Text()))
    op.add_column("holds", sa.Column("from_on", sa.Date()))
    op.execute("UPDATE holds SET owner = created_by, from_on = created_at::date")
    op.execute("UPDATE holds SET from_on = until_on WHERE from_on > until_on")
    op.alter_column("holds", "owner", nullable=False)
    op.alter_column("holds", "from_on", nullable=False)
    op.create_check_constraint(
        op.f("ck_holds_whose"), "holds", "person_id IS NULL OR cohort_id IS NULL"
    )
    op.create_check_constraint(op.f("ck_holds_days"), "holds", "from_on <= until_on")
    op.add_column("sweeps", sa.Column("held", sa.Integer(), nullable=False, server_default="0"))


def downgrade() -> None:
    op.drop_column("sweeps", "held")
    op.add_column("holds", sa.Column("device_id", sa.BigInteger()))
    op.execute(
        """
        INSERT INTO holds (device_id, reason, until_on, created_by, created_at, ended_at, from_on,
            owner)
        SELECT d.device_id, h.reason, h.until_on, h.created_by, h.created_at, h.ended_at,
            h.from_on, h.owner
        FROM holds h JOIN hold_devices d ON d.hold_id = h.id
        """
    )
    op.drop_table("hold_devices")
    op.execute("DELETE FROM holds WHERE device_id IS NULL")
    op.alter_column("holds", "device_id", nullable=False)
    op.create_foreign_key(
        op.f("fk_holds_device_id"), "holds", "devices", ["device_id"], ["id"], ondelete="CASCADE"
    )
    op.create_index(op.f("ix_holds_device_id"), "holds", ["device_id"])
    op.drop_constraint(op.f("ck_holds_days"), "holds")
    for name in ("owner", "from_on", "person_id", "cohort_id"):
        op.drop_column("holds", name)
