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
    frame = pl.DataFrame(columns)
    unread, _ = rosters.devices_of(frame.with_columns(key=pl.int_range(pl.len()).cast(pl.String)))
    strongest = pl.coalesce(pl.concat_str(pl.lit(f"{name} "), pl.col(name)) for name in numbers)
    # Known by what was read of its number, so that the same device keeps its key however the next
    # file spells it.
    cleaned = unread.with_columns(key=strongest)
    devices, remarks = rosters.devices_of(cleaned.drop("extra"))
    bad = rosters.devices_of(frame.with_columns(key=pl.lit("x")))[1]
    said = (*(one for one in bad if one.code == "unreadable"), *remarks)
    return Told(whole=True, devices=devices, remarks=said)
