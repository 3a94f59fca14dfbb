"""Numbers that were counted a moment ago, by family."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, bindparam, delete, func, select, text
from sqlalchemy.dialects.postgresql import ARRAY, TEXT, insert

from sortitor.store import locks
from sortitor.store.rows import read_all
from sortitor.store.tables import kept_numbers


@dataclass(frozen=True, slots=True)
class KeptRow:
    """What was counted of a family, in so many seconds; `about` tells what it was counted of."""

    family: str
    about: str
    value: Any
    counted_at: datetime
    seconds: float


_SOME = select(kept_numbers).where(
    kept_numbers.c.family == func.any(bindparam("families", type_=ARRAY(TEXT)))
)


def some(connection: Connection, families: Sequence[str]) -> dict[str, KeptRow]:
    """Family → what is kept of it."""
    query = _SOME.params(families=list(families))
    return {row.family: row for row in read_all(connection, query, KeptRow)}


_FLEET = text("SELECT reltuples FROM pg_class WHERE oid = 'devices'::regclass")


def fleet_size(connection: Connection) -> float:
    """About how many devices there are, as the database's statistics have it; -1: it has none."""
    return float(connection.execute(_FLEET).scalar_one())


def put(connection: Connection, row: KeptRow) -> None:
    """Keep what was counted, in the place of what was there."""
    values = {
        "family": row.family,
        "about": row.about,
        "value": row.value,
        "counted_at": row.counted_at,
        "seconds": row.seconds,
    }
    statement = insert(kept_numbers).values(values)
    connection.execute(statement.on_conflict_do_update(index_elements=["family"], set_=values))


def let_go(connection: Connection, family: str) -> None:
    """Keep nothing of a family any longer."""
    connection.execute(delete(kept_numbers).where(kept_numbers.c.family == family))


def is_alone(connection: Connection, family: str) -> bool:
    """Whether nobody else counts this family until the end of the transaction."""
    alone = func.pg_try_advisory_xact_lock(locks.KEPT, func.hashtext(family))
    return bool(connection.execute(select(alone)).scalar_one())
