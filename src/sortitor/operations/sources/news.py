"""New devices of a registry: a lot of its own, checked and applied as any other, so that it is
joined to what is known, told row by row, and taken back like one.
"""

from __future__ import annotations

from datetime import datetime

import polars as pl

from sortitor.core.manifests import Manifest
from sortitor.core.previews import Count
from sortitor.core.sources import Source
from sortitor.operations.context import Context
from sortitor.operations.lots import applying, checking
from sortitor.store import lots as store_lots
from sortitor.store import rosters as store
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection

#: Column of a roster → the header under which a lot shows it.
_HEADERS = {
    "serial": "Serial number",
    "imei": "IMEI",
    "imei2": "IMEI 2",
    "uuid": "UUID",
    "mac": "MAC address",
    "maker": "Maker",
    "model": "Model",
    "platform": "Platform",
    "order_name": "Order",
    "person": "Person",
    "site": "Site",
    "name": "Name",
    "supplier": "Supplier",
}


def take_in(ctx: Context, connection: Connection, kept: Kept[Source], at: datetime) -> int | None:
    """Make awaited devices of what a source said at that moment for the first time; the lot's
    number, or None without news.
    """
    lines = store.news(connection, kept.id, at)
    if lines.height == 0:
        return None
    return take_lines(ctx, connection, kept, lines, f"News of {kept.document.name}")


def take_lines(
    ctx: Context, connection: Connection, kept: Kept[Source], lines: pl.DataFrame, name: str
) -> int | None:
    """Make awaited devices of lines of a roster; the lot's number, or None where this very lot was
    applied before.
    """
    told = [column for column in _HEADERS if lines[column].null_count() < lines.height]
    cells = lines.select(pl.col(column).alias(_HEADERS[column]) for column in told)
    given = checking.Given(
        content=cells.write_csv().encode(),
        form="table",
        name=f"{name}, {ctx.now:%Y-%m-%d %H:%M}",
        file_name=None,
        settings=checking.Settings(
            defaults={"supplier": kept.document.name, "ownership": kept.document.ownership},
            add_unknown=True,
        ),
    )
    numbers = pl.int_range(2, lines.height + 2, eager=True)
    manifest = Manifest(tuple(cells.columns), cells, numbers, "comma")
    lot, fresh = checking.begin(ctx, connection, given)
    if not fresh:
        return None
    store_lots.serialise_appliers(connection)
    decided = checking.look_through(ctx, connection, lot, manifest)
    lot = checking.known(connection, lot.id, lock=True)
    applying.take_in(ctx, connection, lot, decided, f"read from “{kept.document.name}”")
    store.match_news(connection, kept.id)
    return lot.id


def counts(connection: Connection, lot_id: int) -> list[Count]:
    """What becomes of the news, in numbers."""
    found = checking.known(connection, lot_id).counts
    left = found["conflict"] + found["reject"]
    told = [
        Count("awaited", "devices that become awaited here", found["add"], "good"),
        Count("joined", "devices that are joined to known ones", found["change"]),
        Count("left", "devices that stay in the lot: they contradict the fleet", left, "warn"),
    ]
    return [count for count in told if count.count]
