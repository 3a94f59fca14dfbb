"""Documents are stored whole: pools, sweep rules, orders, cohorts, the gate, the naming, the terms
of passes. What SQL compares of them stands beside, generated where PostgreSQL can.

Purpose: a field of a document is named in its model alone; the entry that a lot was checked at is
called so.
Lock and disk cost: short locks on small tables.
Way back: downgrade writes the former columns from the documents; nothing is lost.
"""

import json

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None

_BASELINE = {
    "name": "Baseline",
    "groups": None,
    "platforms": {
        name: {"open": True, "os_min": None, "os_max": None}
        for name in ("android", "ios", "windows", "macos", "linux")
    },
    "ownerships": ["corporate", "personal", "partner"],
    "quota": 5,
    "declared_only": False,
    "returning": "park",
}
_TEMPLATE = {"name": "Every platform", "pattern": "DEVICE-{n|pad 5}", "platforms": []}
#: Table → its former columns beside the name, as the document has them.
_FORMER = {
    "pools": ("seats", "filter", "awaited_too"),
    "sweep_rules": ("idle_window_days", "filter", "daily", "brake_percent"),
    "cohorts": ("filter", "note"),
    "orders": ("supplier", "ordered_on", "note"),
}
#: Former column → its type, for the way back.
_TYPES = {
    "seats": "integer NOT NULL",
    "filter": "text",
    "awaited_too": "boolean NOT NULL",
    "idle_window_days": "integer NOT NULL",
    "daily": "boolean NOT NULL",
    "brake_percent": "integer NOT NULL",
    "note": "text",
    "supplier": "text",
    "ordered_on": "date",
}
_STAYS = {"orders": ("ordered_on",)}
_WITH_FILTER = ("pools", "sweep_rules", "cohorts")
_SUM_OF_LINES = """
    (SELECT coalesce(jsonb_agg(jsonb_build_object('product', l.product, 'quantity', l.quantity,
        'price', l.price::text) ORDER BY l.place), '[]') FROM order_lines l WHERE l.order_id = t.id)
"""


def upgrade() -> None:
    for table, columns in _FORMER.items():
        pairs = ", ".join(f"'{name}', t.{name}" for name in ("name", *columns))
        lines = f", 'lines', {_SUM_OF_LINES}" if table == "orders" else ""
        op.add_column(table, sa.Column("document", JSONB))
        op.execute(
            f"UPDATE {table} t SET document = jsonb_build_object({pairs}{lines})"  # noqa: S608
        )
        _generate(table, columns)
    op.drop_table("order_lines")
    _books_up()
    _passes_up()
    op.alter_column("lots", "seen_entry", new_column_name="checked_at_entry_id")


def _generate(table: str, columns: tuple[str, ...]) -> None:
    """The former columns make way for those worked out of the document."""
    op.alter_column(table, "document", nullable=False)
    op.drop_index(f"uq_{table}_name", table)
    for name in ("name", *columns):
        if name not in _STAYS.get(table, ()):
            op.drop_column(table, name)
    _add_generated(table, "name", nullable=False)
    if table in _WITH_FILTER:
        _add_generated(table, "filter")
    if table == "orders":
        _add_generated(table, "supplier")
    op.create_index(f"uq_{table}_name", table, [sa.text("lower(name)")], unique=True)


def _add_generated(table: str, name: str, nullable: bool = True) -> None:
    computed = sa.Computed(f"document ->> '{name}'", persisted=True)
    op.add_column(table, sa.Column(name, sa.Text, computed, nullable=nullable))


def _books_up() -> None:
    op.execute("ALTER TABLE rulebooks DROP CONSTRAINT pk_rulebooks")
    op.add_column("rulebooks", sa.Column("id", sa.BigInteger))
    op.add_column("rulebooks", sa.Column("document", JSONB))
    op.execute("""
        UPDATE rulebooks SET id = CASE name WHEN 'gate' THEN 1 ELSE 2 END,
            document = jsonb_build_object(
                CASE name WHEN 'gate' THEN 'policies' ELSE 'templates' END, entries)
        """)
    op.drop_column("rulebooks", "entries")
    op.alter_column("rulebooks", "document", nullable=False)
    op.alter_column("rulebooks", "revision", server_default="1")
    op.create_primary_key("pk_rulebooks", "rulebooks", ["id"])
    op.create_unique_constraint("uq_rulebooks_name", "rulebooks", ["name"])
    statement = sa.text(
        "INSERT INTO rulebooks (id, name, document) VALUES (:id, :name, cast(:document AS jsonb))"
        " ON CONFLICT DO NOTHING"
    )
    for number, name, document in (
        (1, "gate", {"policies": [_BASELINE]}),
        (2, "naming", {"templates": [_TEMPLATE]}),
    ):
        op.execute(statement.bindparams(id=number, name=name, document=json.dumps(document)))


def _passes_up() -> None:
    op.add_column("passes", sa.Column("document", JSONB))
    op.execute("""
        UPDATE passes p SET document = jsonb_build_object('label', label, 'activation', activation,
            'ownership', ownership, 'valid_from', to_jsonb(valid_from), 'max_uses', max_uses,
            'valid_days', greatest(1, least(398,
                ceil(extract(epoch FROM valid_until - valid_from) / 86400)::int)),
            'person', (SELECT user_name FROM people WHERE people.id = p.person_id))
        """)
    op.alter_column("passes", "document", nullable=False)
    for name in ("label", "activation", "ownership"):
        op.drop_column("passes", name)
    _add_generated("passes", "label", nullable=False)


def downgrade() -> None:
    op.alter_column("lots", "checked_at_entry_id", new_column_name="seen_entry")
    _passes_down()
    _books_down()
    op.execute("""
        CREATE TABLE order_lines (
            order_id bigint NOT NULL CONSTRAINT fk_order_lines_order_id
                REFERENCES orders (id) ON DELETE CASCADE,
            place integer NOT NULL, product text NOT NULL, quantity integer NOT NULL,
            price numeric(14, 2), CONSTRAINT pk_order_lines PRIMARY KEY (order_id, place),
            CONSTRAINT ck_order_lines_quantity CHECK (quantity > 0))
        """)
    op.execute("""
        INSERT INTO order_lines (order_id, place, product, quantity, price)
        SELECT o.id, l.place, l.line ->> 'product', (l.line ->> 'quantity')::int,
            (l.line ->> 'price')::numeric
        FROM orders o,
            jsonb_array_elements(o.document -> 'lines') WITH ORDINALITY AS l (line, place)
        """)
    for table, columns in _FORMER.items():
        op.drop_index(f"uq_{table}_name", table)
        for name in ("name", *columns):
            if name in _STAYS.get(table, ()):
                continue
            kind = _TYPES.get(name, "text NOT NULL")
            plain = kind.removesuffix(" NOT NULL")
            op.execute(f"ALTER TABLE {table} DROP COLUMN IF EXISTS {name}")
            op.execute(f"ALTER TABLE {table} ADD COLUMN {name} {plain}")
            op.execute(f"UPDATE {table} SET {name} = (document ->> '{name}')::{plain}")  # noqa: S608
            if kind != plain:
                op.execute(f"ALTER TABLE {table} ALTER COLUMN {name} SET NOT NULL")
        op.drop_column(table, "document")
        op.create_index(f"uq_{table}_name", table, [sa.text("lower(name)")], unique=True)
    op.create_check_constraint("seats", "pools", "seats >= 0")


def _books_down() -> None:
    op.add_column("rulebooks", sa.Column("entries", JSONB))
    op.execute(
        "UPDATE rulebooks SET entries = coalesce(document -> 'policies', document -> 'templates')"
    )
    op.alter_column("rulebooks", "entries", nullable=False)
    op.alter_column("rulebooks", "revision", server_default=None)
    op.execute("ALTER TABLE rulebooks DROP CONSTRAINT pk_rulebooks")
    op.execute("ALTER TABLE rulebooks DROP CONSTRAINT uq_rulebooks_name")
    op.drop_column("rulebooks", "id")
    op.drop_column("rulebooks", "document")
    op.create_primary_key("pk_rulebooks", "rulebooks", ["name"])


def _passes_down() -> None:
    op.drop_column("passes", "label")
    for name in ("label", "activation", "ownership"):
        op.add_column("passes", sa.Column(name, sa.Text))
        op.execute(f"UPDATE passes SET {name} = document ->> '{name}'")  # noqa: S608
    op.alter_column("passes", "label", nullable=False)
    op.alter_column("passes", "activation", nullable=False)
    op.create_check_constraint(
        "activation", "passes", "activation IN ('person', 'coordinator', 'shared')"
    )
    op.drop_column("passes", "document")
