"""Which orders, sites and suppliers the fleet has heard of."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sqlalchemy import ColumnElement, Connection, Select, Text, func, literal, or_, select, union
from sqlalchemy.dialects.postgresql import ARRAY

from sortitor.core.filters import lower
from sortitor.store.tables import ORDERS, devices, lots, orders, people

#: Field → the columns that name it, each as its index has it, where the table is large.
_NAMING: dict[str, tuple[ColumnElement[Any], ...]] = {
    "order_name": (func.lower(orders.c.name),),
    "site": (ORDERS["site"], func.lower(people.c.site)),
    "supplier": (func.lower(orders.c.supplier), func.lower(lots.c.defaults["supplier"].astext)),
}


def known_among(connection: Connection, field: str, names: Iterable[str], but_lot: int) -> set[str]:
    """Those of the names, in lower case, that are known; a lot does not vouch for itself."""
    wanted = sorted({lower(name) for name in names})
    asked = func.unnest(literal(wanted, ARRAY(Text))).column_valued("asked")
    known = or_(*(_named(column, asked, but_lot).exists() for column in _NAMING[field]))
    return set(connection.execute(select(asked).where(known)).scalars())


def _named(column: ColumnElement[Any], asked: ColumnElement[Any], but_lot: int) -> Select[Any]:
    found = select(1).where(column == asked).correlate(asked.table)
    return found.where(lots.c.id != but_lot) if lots in found.get_final_froms() else found


def all_names(connection: Connection, field: str, but_lot: int) -> list[str]:
    """All that the fleet knows."""
    earlier = select(lots.c.defaults["supplier"].astext).where(lots.c.id != but_lot)
    each: dict[str, Any] = {
        "order_name": select(orders.c.name),
        "site": union(select(devices.c.site), select(people.c.site)),
        "supplier": union(select(orders.c.supplier), earlier),
    }
    return [name for name in connection.execute(each[field]).scalars() if name]
