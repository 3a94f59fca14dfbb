"""Every order of the list of devices has its index, which filters on the same attribute use too; a
mark tells when cohorts changed.

Purpose: the first page of a filtered, sorted list without reading the fleet; a change of one device
without reading every cohort's filter.
Lock and disk cost: eight indexes on devices built under a lock, about 200 MB and half a minute for
a million devices; check-ins write them all from now on.
Way back: downgrade makes the former orders again; nothing is lost.
"""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

_FORMER = (("name", "lower(name)"), ("site", "site"), ("model", "model"), ("stage", "stage"))
_TEXTS = ("name", "site", "model")
_FOLDED = """
CREATE FUNCTION folded(texts text[]) RETURNS text[] LANGUAGE sql IMMUTABLE STRICT PARALLEL SAFE
AS $$ SELECT coalesce(array_agg(lower(one)), '{}') FROM unnest(texts) AS one $$
"""


def upgrade() -> None:
    op.execute(_FOLDED)
    for name, _ in _FORMER:
        op.drop_index(f"ix_devices_by_{name}", "devices")
    for name in _TEXTS:
        op.create_index(
            f"ix_devices_by_{name}",
            "devices",
            [sa.text(f"(coalesce(lower({name}), '') COLLATE \"C\")"), "id"],
        )
    op.create_index("ix_devices_by_stage", "devices", ["stage", "id"])
    op.create_index(
        "ix_devices_by_seen",
        "devices",
        [sa.text("coalesce(last_seen_at, enrolled_at, created_at)"), "id"],
    )
    op.create_index(
        "ix_devices_tags",
        "devices",
        [sa.text("folded(tags)")],
        postgresql_using="gin",
        postgresql_where=sa.text("cardinality(tags) > 0"),
    )
    # A lot's name is declared now; a template's is worked out.
    op.execute("UPDATE devices SET name_basis = 'inferred' WHERE name_basis = 'declared'")
    op.execute("INSERT INTO installation (key, value) VALUES ('cohorts', gen_random_uuid())")
    for name in ("department", "site"):
        op.create_index(f"ix_people_{name}", "people", [sa.text(f"lower({name})")])
    op.create_index("ix_devices_platform", "devices", ["platform"])
    op.create_index(
        "ix_devices_flag", "devices", ["flag"], postgresql_where=sa.text("flag IS NOT NULL")
    )


def downgrade() -> None:
    for name in ("department", "site"):
        op.drop_index(f"ix_people_{name}", "people")
    for name in (
        "flag",
        "platform",
        "tags",
        "by_seen",
        "by_stage",
        *(f"by_{text}" for text in _TEXTS),
    ):
        op.drop_index(f"ix_devices_{name}", "devices")
    for name, key in _FORMER:
        op.create_index(f"ix_devices_by_{name}", "devices", [sa.text(f"coalesce({key}, '')"), "id"])
    op.execute("UPDATE devices SET name_basis = 'declared' WHERE name_basis = 'inferred'")
    op.execute("DELETE FROM installation WHERE key = 'cohorts'")
    op.execute("DROP FUNCTION folded(text[])")
