"""What ends on which day, and of what somebody was reminded."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from datetime import date, datetime

from sqlalchemy import Connection, text
from sqlalchemy.dialects.postgresql import insert

from sortitor.core.ends import Told
from sortitor.store.rows import read_all
from sortitor.store.tables import reminded

_PASSES = text("""
    SELECT coalesce(batch, id) AS number, label AS name, valid_until AT TIME ZONE 'UTC' AS ends_at,
        count(*) AS count
    FROM passes
    WHERE revoked_at IS NULL AND valid_until BETWEEN :now AND :until
        AND (max_uses IS NULL OR uses < max_uses)
    GROUP BY 1, 2, 3
    """)
_WARRANTIES = text("""
    SELECT min(id) AS number, min(name) AS name, warranty_until AS ends_at, count(*) AS count
    FROM devices
    WHERE stage <> 'retired'
        AND warranty_until BETWEEN CAST(:now AS date) AND CAST(:until AS date)
    GROUP BY 3
    """)


@dataclass(frozen=True, slots=True)
class EndRow:
    """Things that end together: how many, and number and name of one."""

    number: int
    name: str | None
    ends_at: date | datetime
    count: int

    @property
    def ends_on(self) -> date:
        """The day."""
        return self.ends_at.date() if isinstance(self.ends_at, datetime) else self.ends_at


def passes(connection: Connection, now: datetime, until: datetime) -> list[EndRow]:
    """Passes that can still be used, by what was made in one action."""
    return read_all(connection, _PASSES.bindparams(now=now, until=until), EndRow)


def warranties(connection: Connection, now: datetime, until: datetime) -> list[EndRow]:
    """Warranties of devices, by day."""
    return read_all(connection, _WARRANTIES.bindparams(now=now, until=until), EndRow)


def tell(connection: Connection, told: Sequence[Told], at: datetime) -> set[Told]:
    """Note of what somebody is reminded; gives what was not noted before, by anybody."""
    if not told:
        return set()
    lines = [{**asdict(one), "at": at} for one in told]
    statement = insert(reminded).values(lines).on_conflict_do_nothing()
    columns = (reminded.c.key, reminded.c.ends_on, reminded.c.days)
    return {Told(*row) for row in connection.execute(statement.returning(*columns))}
