"""The gate's policies and the naming templates as ordered lists, and the templates' counters."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection, func, select
from sqlalchemy.dialects.postgresql import insert

from sortitor.store.tables import counters, rulebooks


def read(
    connection: Connection, name: str, lock: bool = False
) -> tuple[int, list[dict[str, Any]]] | None:
    """`(revision, entries)`, or None before it was ever written; `lock` lets two writers meet."""
    query = select(rulebooks.c.revision, rulebooks.c.entries).where(rulebooks.c.name == name)
    row = connection.execute(query.with_for_update() if lock else query).one_or_none()
    return (row.revision, row.entries) if row else None


def write(connection: Connection, name: str, entries: list[dict[str, Any]]) -> None:
    """Replace the list and count its revision up."""
    statement = insert(rulebooks).values(name=name, revision=1, entries=entries)
    connection.execute(
        statement.on_conflict_do_update(
            index_elements=["name"], set_={"entries": entries, "revision": rulebooks.c.revision + 1}
        )
    )


def next_numbers(connection: Connection, lock: bool = False) -> dict[str, int]:
    """What each template's counter gives next; `lock` holds them, in order of name."""
    query = select(counters.c.template, counters.c.next_number).order_by(counters.c.template)
    return {
        row.template: row.next_number
        for row in connection.execute(query.with_for_update() if lock else query)
    }


def lock_counter(connection: Connection, template: str) -> int:
    """Hold one template's counter until the end of the transaction and read it."""
    connection.execute(
        insert(counters).values(template=template, next_number=1).on_conflict_do_nothing()
    )
    return connection.execute(
        select(counters.c.next_number).where(counters.c.template == template).with_for_update()
    ).scalar_one()


def advance_counters(connection: Connection, next_number: Mapping[str, int]) -> None:
    """Let counters go on at these numbers; a counter never goes back."""
    for template, number in sorted(next_number.items()):
        statement = insert(counters).values(template=template, next_number=number)
        connection.execute(
            statement.on_conflict_do_update(
                index_elements=["template"],
                set_={"next_number": func.greatest(counters.c.next_number, number)},
            )
        )
