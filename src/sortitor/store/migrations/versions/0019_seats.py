"""Seats are kept instead of counted: of which pools each device takes one, and how many devices
came to a pool and went from it on each day.

Purpose: a pool's needed seats are a sum of few lines, also at a million devices, and its past is
what was, not what today's fleet suggests.
Lock and disk cost: two new tables; pools are counted as before until the worker's next round has
gone through the fleet for each.
Way back: downgrade forgets them; pools are counted again.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None

_TODAY = """
    coalesce(
        nullif(current_setting('sortitor.today', true), '')::date,
        timezone(coalesce(nullif(current_setting('sortitor.zone', true), ''), 'UTC'), now())::date
    )
"""
# A device that changes from some pools to others moves only in those. No joins: a plan made for one
# device is used for a hundred thousand.
_COUNT = """
CREATE FUNCTION count_seats_{event}() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO seat_moves (pool_id, day, came, went)
    SELECT pool, {today}, count(*) FILTER (WHERE step > 0), count(*) FILTER (WHERE step < 0)
    FROM (
        SELECT pool, sum(side) AS step FROM ({sides}) AS each
        GROUP BY device_id, pool HAVING sum(side) <> 0
    ) AS moved GROUP BY pool;
    RETURN NULL;
END $$
"""
_CAME = "SELECT device_id, unnest(pools) AS pool, 1 AS side FROM came"
_GONE = "SELECT device_id, unnest(pools) AS pool, -1 AS side FROM gone"
_EVENTS = {
    "insert": (_CAME, "NEW TABLE AS came"),
    "update": (f"{_CAME} UNION ALL {_GONE}", "NEW TABLE AS came OLD TABLE AS gone"),
    "delete": (_GONE, "OLD TABLE AS gone"),
}


def upgrade() -> None:
    op.create_table(
        "device_seats",
        sa.Column("device_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("pools", ARRAY(sa.BigInteger()), nullable=False),
        sa.PrimaryKeyConstraint("device_id", name=op.f("pk_device_seats")),
    )
    op.create_table(
        "seat_moves",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("pool_id", sa.BigInteger(), nullable=False),
        sa.Column("day", sa.Date()),
        sa.Column("came", sa.Integer(), nullable=False),
        sa.Column("went", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_seat_moves")),
    )
    op.create_index("ix_seat_moves_pool_id_day", "seat_moves", ["pool_id", "day"])
    for event, (sides, tables) in _EVENTS.items():
        op.execute(_COUNT.format(event=event, sides=sides, today=_TODAY))
        op.execute(
            f"CREATE TRIGGER device_seats_{event} AFTER {event} ON device_seats"
            f" REFERENCING {tables} FOR EACH STATEMENT EXECUTE FUNCTION count_seats_{event}()"
        )
    op.execute("""
        CREATE FUNCTION take_the_seats_along() RETURNS trigger LANGUAGE plpgsql AS $$
        BEGIN
            -- Planned each time, for as many as there are.
            EXECUTE 'DELETE FROM device_seats s USING gone g WHERE s.device_id = g.id';
            RETURN NULL;
        END $$
        """)
    op.execute(
        "CREATE TRIGGER devices_seats AFTER DELETE ON devices REFERENCING OLD TABLE AS gone"
        " FOR EACH STATEMENT EXECUTE FUNCTION take_the_seats_along()"
    )


def downgrade() -> None:
    op.execute("DROP FUNCTION take_the_seats_along() CASCADE")
    op.drop_table("seat_moves")
    op.drop_table("device_seats")
    for event in _EVENTS:
        op.execute(f"DROP FUNCTION count_seats_{event}()")
