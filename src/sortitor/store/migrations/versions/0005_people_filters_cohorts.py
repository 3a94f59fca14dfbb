"""People as an identity provider pushes them, groups in groups, cohorts, saved views; pools and
sweep rules speak the filter language.

Purpose: what RFC 7643 has of people and groups; direct members apart from resolved ones; sets of
devices kept in a table.
Lock and disk cost: short locks on people, groups, pools and sweep_rules; group_people is filled
from memberships, in time with them; four indexes on devices.
Way back: downgrade drops what is new; cohorts, views and what was pushed are lost.
"""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None

_NOW = sa.text("now()")
_ORDERS = (("name", "lower(name)"), ("site", "site"), ("model", "model"), ("stage", "stage"))


def _history() -> list[sa.Column[Any]]:
    return [
        sa.Column("revision", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False, server_default=_NOW),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=False, server_default=_NOW),
    ]


def _with_key(
    table: str, one: str, other: str, targets: tuple[str, str], *more: sa.Constraint
) -> None:
    op.create_table(
        table,
        sa.Column(one, sa.BigInteger(), nullable=False),
        sa.Column(other, sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(
            [one], [f"{targets[0]}.id"], name=op.f(f"fk_{table}_{one}"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            [other], [f"{targets[1]}.id"], name=op.f(f"fk_{table}_{other}"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint(one, other, name=op.f(f"pk_{table}")),
        *more,
    )
    op.create_index(op.f(f"ix_{table}_{other}"), table, [other])


def upgrade() -> None:
    op.add_column(
        "tokens", sa.Column("purpose", sa.Text(), nullable=False, server_default="interface")
    )
    op.create_check_constraint(
        op.f("ck_tokens_purpose"), "tokens", "purpose IN ('interface', 'people')"
    )
    op.add_column("people", sa.Column("pushed", postgresql.JSONB()))
    op.add_column("people", sa.Column("gone_at", sa.DateTime(timezone=True)))
    for column in _history():
        op.add_column("people", column)
    op.create_index("ix_people_external_id", "people", [sa.text("(pushed ->> 'externalId')")])
    for column in [sa.Column("external_id", sa.Text()), *_history()]:
        op.add_column("groups", column)
    _with_key("group_people", "group_id", "person_id", ("groups", "people"))
    _with_key(
        "group_groups",
        "group_id",
        "inner_id",
        ("groups", "groups"),
        sa.CheckConstraint("group_id <> inner_id", name=op.f("ck_group_groups_other")),
    )
    op.execute(
        "INSERT INTO group_people (group_id, person_id) SELECT group_id, person_id FROM memberships"
    )
    for name, key in _ORDERS:
        op.create_index(f"ix_devices_by_{name}", "devices", [sa.text(f"coalesce({key}, '')"), "id"])
    for table in ("pools", "sweep_rules"):
        op.add_column(table, sa.Column("filter", sa.Text()))
    op.create_table(
        "cohorts",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("filter", sa.Text()),
        sa.Column("moving", sa.Boolean(), nullable=False),
        sa.Column("note", sa.Text()),
        sa.Column("created_by", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_cohorts")),
    )
    op.create_index("uq_cohorts_name", "cohorts", [sa.text("lower(name)")], unique=True)
    op.create_table(
        "cohort_members",
        sa.Column("cohort_id", sa.BigInteger(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("cohort_id", "device_id", name=op.f("pk_cohort_members")),
    )
    op.create_index(op.f("ix_cohort_members_device_id"), "cohort_members", ["device_id"])
    op.create_table(
        "cohort_counts",
        sa.Column("cohort_id", sa.BigInteger(), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("devices", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["cohort_id"],
            ["cohorts.id"],
            name=op.f("fk_cohort_counts_cohort_id"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("cohort_id", "day", name=op.f("pk_cohort_counts")),
    )
    op.create_table(
        "views",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("account_id", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("shared", sa.Boolean(), nullable=False),
        sa.Column("settings", postgresql.JSONB(), nullable=False),
        sa.ForeignKeyConstraint(
            ["account_id"], ["accounts.id"], name=op.f("fk_views_account_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_views")),
    )
    op.create_index("uq_views_name", "views", ["account_id", sa.text("lower(name)")], unique=True)
    for table, key in (("devices", "device_id"), ("cohorts", "cohort_id")):
        # Planned each time, for as many as there are.
        op.execute(f"""
            CREATE FUNCTION take_the_members_along_with_{table}() RETURNS trigger
                LANGUAGE plpgsql AS $$
            BEGIN
                EXECUTE 'DELETE FROM cohort_members m USING gone g WHERE m.{key} = g.id';
                RETURN NULL;
            END $$
            """)  # noqa: S608 - the names are those above
        op.execute(
            f"CREATE TRIGGER {table}_members AFTER DELETE ON {table} REFERENCING OLD TABLE AS gone"
            f" FOR EACH STATEMENT EXECUTE FUNCTION take_the_members_along_with_{table}()"
        )


def downgrade() -> None:
    for table in ("devices", "cohorts"):
        op.execute(f"DROP FUNCTION take_the_members_along_with_{table}() CASCADE")
    for name, _ in _ORDERS:
        op.drop_index(f"ix_devices_by_{name}", "devices")
    for table in (
        "views",
        "cohort_counts",
        "cohort_members",
        "cohorts",
        "group_groups",
        "group_people",
    ):
        op.drop_table(table)
    for table in ("pools", "sweep_rules"):
        op.drop_column(table, "filter")
    for column in ("external_id", "revision", "created_at", "changed_at"):
        op.drop_column("groups", column)
    op.drop_index("ix_people_external_id", "people")
    op.drop_column("tokens", "purpose")
    for column in ("pushed", "gone_at", "revision", "created_at", "changed_at"):
        op.drop_column("people", column)
