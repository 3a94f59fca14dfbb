"""Orders, sites and suppliers of a lot that nobody knows: said, with the one that may be meant."""

from __future__ import annotations

import difflib
from collections.abc import Iterator, Mapping

import polars as pl

from sortitor.core.filters import lower
from sortitor.core.manifests import Remark
from sortitor.store import known_names as store
from sortitor.store.engine import Connection

_CODES = {
    "order_name": "order_unknown",
    "site": "site_unknown",
    "supplier": "supplier_unknown",
}
#: A column with more different names than this is something else; so many are told one by one.
_MOST, _TOLD = 300, 5


def strangers(
    connection: Connection, lot_id: int, rows: pl.DataFrame, headers: Mapping[str, str]
) -> Iterator[Remark]:
    """What is named for the first time. headers: field → the header that it is read from."""
    for field, code in _CODES.items():
        named = rows[field].drop_nulls().unique(maintain_order=True).to_list()
        if not 0 < len(named) <= _MOST:
            continue
        there = store.known_among(connection, field, named, lot_id)
        strange = [name for name in named if lower(name) not in there]
        known = store.all_names(connection, field, lot_id) if strange else []
        # Where nobody keeps any, none is missing.
        for name in strange[:_TOLD] if known else []:
            near = _nearest(name, known)
            yield Remark(code, headers.get(field, ""), f"{name} → {near}" if near else name)


def _nearest(name: str, known: list[str]) -> str | None:
    by_key = {lower(one): one for one in known}
    found = difflib.get_close_matches(lower(name), by_key, 1, 0.75)
    return by_key[found[0]] if found else None
