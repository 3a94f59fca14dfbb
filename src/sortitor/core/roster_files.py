"""Roster files: what a system puts out, read as carefully as a supplier's file."""

from __future__ import annotations

import polars as pl

from sortitor.core import rosters
from sortitor.core.errors import BadInput
from sortitor.core.lots import meaning_of
from sortitor.core.manifests import Manifest
from sortitor.core.rosters import Told
from sortitor.core.sources import Source, columns_of

#: Column of a lot → column of a roster; the second of several IMEIs is `imei2`.
_COLUMNS = {
    "serial": "serial",
    "uuid": "uuid",
    "mac": "mac",
    "maker": "maker",
    "model": "model",
    "platform": "platform",
    "order_name": "order_name",
    "person": "person",
    "site": "site",
    "name": "name",
}


def roster_of(manifest: Manifest, source: Source) -> Told:
    """The devices of a roster file, all that there are. A line is known by its strongest number.

    Raises BadInput where no column holds a number by which devices are known.
    """
    given = columns_of(source)
    meaning, _ = meaning_of(manifest, given)
    columns: dict[str, pl.Series] = {}
    imeis = [header for header, column in meaning.items() if column == "imei"]
    for header, column in meaning.items():
        if column in _COLUMNS and _COLUMNS[column] not in columns:
            columns[_COLUMNS[column]] = manifest.cells[header]
    for name, header in zip(("imei", "imei2"), imeis, strict=False):
        columns[name] = manifest.cells[header]
    numbers = [name for name in rosters.NUMBERS if name in columns]
    if not numbers:
        raise BadInput(
            "no_number_column",
            "No column holds a serial number, IMEI, MAC address or UUID; the headers are"
            f" {', '.join(manifest.headers)}.",
            "Say in the source's settings which header is which column.",
        )
    numbered = pl.DataFrame(columns).with_columns(key=pl.int_range(pl.len()).cast(pl.String))
    read, unreadable = rosters.devices_of(numbered)
    # Known by what was read of its number, so that the same device keeps its key however the next
    # file spells it.
    names = (pl.concat_str(pl.lit(f"{name} "), pl.col(name)) for name in numbers)
    devices, remarks = rosters.by_key(read.with_columns(key=pl.coalesce(names)))
    return Told(whole=True, devices=devices, remarks=(*unreadable, *remarks))
