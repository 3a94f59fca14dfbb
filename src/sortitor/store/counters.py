"""The counters of naming templates."""

from __future__ import annotations

from collections.abc import Mapping

from sqlalchemy import Connection, bindparam, func, select
from sqlalchemy.dialects.postgresql import insert

from sortitor.store.rows import Ready
from sortitor.store.tables import counters


def next_numbers(connection: Connection, lock: bool = False) -> dict[str, int]:
    """What each template's counter gives next; `lock` holds them, in order of name."""
    query = select(counters.c.template, counters.c.next_number).order_by(counters.c.template)
    rows = connection.execute(query.with_for_update() if lock else query)
    return {row.template: row.next_number for row in rows}


#: Nobody waits for the disk: the device that gets the number is written later, and with it this.
_UNHURRIED = func.set_config("synchronous_commit", "off", True)
_DRAW = Ready(
    insert(counters)
    .values(template=bindparam("template"), next_number=2)
    .on_conflict_do_update(
        index_elements=["template"], set_={"next_number": counters.c.next_number + 1}
    )
    .returning(counters.c.next_number - 1, _UNHURRIED)
)


def draw(connection: Connection, template: str) -> int:
    """Draw the next number of one template's counter, which is held until the transaction ends."""
    [(drawn, _)] = _DRAW.rows(connection, {"template": template})
    assert isinstance(drawn, int)
    return drawn


def advance(connection: Connection, next_number: Mapping[str, int]) -> None:
    """Let counters go on at these numbers; a counter never goes back."""
    for template, following in sorted(next_number.items()):
        statement = insert(counters).values(template=template, next_number=following)
        highest = func.greatest(counters.c.next_number, following)
        connection.execute(
            statement.on_conflict_do_update(
                index_elements=["template"], set_={"next_number": highest}
            )
        )
