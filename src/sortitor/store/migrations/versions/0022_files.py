"""Files that are kept for devices, the passwords of their local administrators, and the journal by
person.

Purpose: there is a role for technicians; what devices get can lie here; each device has an
administrator's password of its own, and the time that is waited for a checklist is watched here.
Lock and disk cost: two new tables, empty. Indexes, for a million arrivals some ten seconds and
150 MB: over those that are being set up, and over what arrivals stated, so that a refused one is
found. For a million devices that were given, some seconds and 40 MB: over what entries did to
people's devices.
Way back: downgrade forgets the passwords and which files are kept; their bytes stay in the storage.
"""

import sqlalchemy as sa
from alembic import op

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None

_GO_ALONG = """
CREATE OR REPLACE FUNCTION take_the_seats_along() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    -- Planned each time, for as many as there are.
    EXECUTE 'DELETE FROM device_seats s USING gone g WHERE s.device_id = g.id';
    EXECUTE 'DELETE FROM device_kits k USING gone g WHERE k.device_id = g.id';
    EXECUTE 'DELETE FROM item_reports r USING gone g WHERE r.device_id = g.id';
    {also}
    RETURN NULL;
END $$
"""
_PASSWORDS_TOO = "EXECUTE 'DELETE FROM device_passwords p USING gone g WHERE p.device_id = g.id';"


def upgrade() -> None:
    op.create_table(
        "kept_files",
        sa.Column("digest", sa.Text(collation="C"), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("used_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("digest", name=op.f("pk_kept_files")),
    )
    op.create_table(
        "device_passwords",
        sa.Column("device_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("sealed", sa.LargeBinary(), nullable=False),
        sa.Column("former", sa.LargeBinary()),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("taken", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("device_id", name=op.f("pk_device_passwords")),
    )
    op.create_index(
        "ix_arrivals_until",
        "arrivals",
        [sa.text("(progress ->> 'until')")],
        postgresql_where=sa.text("progress ->> 'finished' = 'false'"),
    )
    op.create_index("ix_arrivals_serial", "arrivals", [sa.text("upper(stated ->> 'serial')")])
    op.create_index(
        "ix_arrivals_imeis", "arrivals", [sa.text("(stated -> 'imeis')")], postgresql_using="gin"
    )
    op.create_index("ix_arrivals_named", "arrivals", [sa.text("lower(stated ->> 'person')")])
    op.create_index("ix_arrivals_person_id", "arrivals", ["person_id"])
    for side in ("before", "after"):
        op.create_index(
            f"ix_journal_effects_{side}_person",
            "journal_effects",
            [sa.text(f"({side} ->> 'person_id')")],
            postgresql_where=sa.text(f"{side} ->> 'person_id' IS NOT NULL"),
        )
    op.execute(_GO_ALONG.format(also=_PASSWORDS_TOO))
    _let_roles_be("'viewer', 'technician', 'coordinator', 'administrator'")


def _let_roles_be(names: str) -> None:
    for table in ("accounts", "tokens"):
        op.drop_constraint(op.f(f"ck_{table}_role"), table)
        op.create_check_constraint(op.f(f"ck_{table}_role"), table, f"role IN ({names})")


def downgrade() -> None:
    # Whoever gave devices looks on.
    for table in ("accounts", "tokens"):
        roles = sa.table(table, sa.column("role"))
        op.execute(roles.update().where(roles.c.role == "technician").values(role="viewer"))
    _let_roles_be("'viewer', 'coordinator', 'administrator'")
    op.execute(_GO_ALONG.format(also=""))
    for side in ("after", "before"):
        op.drop_index(f"ix_journal_effects_{side}_person", "journal_effects")
    for name in ("until", "person_id", "named", "imeis", "serial"):
        op.drop_index(f"ix_arrivals_{name}", "arrivals")
    op.drop_table("device_passwords")
    op.drop_table("kept_files")
