"""The frames that travel between checking, deciding and writing a lot."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import polars as pl

from sortitor.core.columns import FIELDS
from sortitor.core.manifests.shape import Remark
from sortitor.core.notes import CATALOGUE
from sortitor.core.vocabulary import Remedy, Verdict

Schema = dict[str, pl.DataType | type[pl.DataType]]
NOTES_SCHEMA: Schema = {"row": pl.Int64, "code": pl.String, "column": pl.String, "given": pl.String}
KEYS_SCHEMA: Schema = {
    "row": pl.Int64,
    "kind": pl.String,
    "value": pl.String,
    "maker": pl.String,
    "given": pl.String,
}


#: Which conflicts a remedy resolves; `skip` resolves every one.
REMEDIES: dict[Remedy, frozenset[str]] = {
    Remedy.TAKE: frozenset(),
    Remedy.SKIP: frozenset(code for code, kind in CATALOGUE.items() if kind.verdict),
    Remedy.TAKE_BACK: frozenset({"retired_device", "flagged_device"}),
    Remedy.MERGE: frozenset({"two_devices", "serial_differs"}),
}


@dataclass(frozen=True, slots=True)
class Prepared:
    """A file as checked values.

    rows:  `row`, `person`, `details` (JSON) and one text column per device field keys:  `row, kind,
    value, maker, given`, one line per valid identifier; `maker` is "" where it does not matter
    notes: `row, code, column, given` headers: column → the header that it stands under in the file
    remarks: what is to be said of the file or of a column as a whole
    orders:  header → whether its dates have the day or the month first, as the columns prove it
    """

    rows: pl.DataFrame
    keys: pl.DataFrame
    notes: pl.DataFrame
    headers: Mapping[str, str] = field(default_factory=dict)
    remarks: tuple[Remark, ...] = ()
    orders: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Facts:
    """What the fleet knows about the rows.

    matches: `row, kind, value, maker, device_id, device_maker` devices: `device_id, stage, flagged,
    ownership_basis, name_basis, manual` (`;`-joined), `person_id` and every field as text owned:
    `device_id, kind, value`, the identifiers of those devices people:  `person` (lower case user
    name or mail), `person_id` names:   `lower_name, holder_id`, those of the file's names that a
    device has which is not retired; tags: `tag` (lower case), `holder_id`, likewise
    """

    matches: pl.DataFrame
    devices: pl.DataFrame
    owned: pl.DataFrame
    people: pl.DataFrame
    names: pl.DataFrame
    tags: pl.DataFrame


def nothing_known() -> Facts:
    """The facts of a fleet that has no device and no person."""
    matches: Schema = {
        "row": pl.Int64,
        "kind": pl.String,
        "value": pl.String,
        "maker": pl.String,
        "device_id": pl.Int64,
        "device_maker": pl.String,
    }
    devices: Schema = {
        "device_id": pl.Int64,
        "stage": pl.String,
        "flagged": pl.Boolean,
        "ownership_basis": pl.String,
        "name_basis": pl.String,
        "manual": pl.String,
        "person_id": pl.Int64,
        **dict.fromkeys(FIELDS, pl.String),
    }
    owned: Schema = {"device_id": pl.Int64, "kind": pl.String, "value": pl.String}
    people: Schema = {"person": pl.String, "person_id": pl.Int64}
    names: Schema = {"lower_name": pl.String, "holder_id": pl.Int64}
    tags: Schema = {"tag": pl.String, "holder_id": pl.Int64}
    return Facts(
        *(pl.DataFrame(schema=schema) for schema in (matches, devices, owned, people, names, tags))
    )


def choices_of(choices: Mapping[int, str] | None = None) -> pl.DataFrame:
    """Row number → remedy as the frame `row, remedy`."""
    given = choices or {}
    return pl.DataFrame(
        {"row": list(given), "remedy": list(given.values())},
        schema={"row": pl.Int64, "remedy": pl.String},
    )


_MERGES_SCHEMA: dict[str, Any] = {"row": pl.Int64, "device_id": pl.Int64, "other_id": pl.Int64}


@dataclass(frozen=True, slots=True)
class Decided:
    """Verdicts: `rows` as prepared with `verdict`, `device_id`, `person_id`, `changes` (JSON field
    → old, new).

    merges: `row, device_id, other_id`, where the other device's identifiers come to the first
    """

    rows: pl.DataFrame
    keys: pl.DataFrame
    notes: pl.DataFrame
    merges: pl.DataFrame = field(default_factory=lambda: pl.DataFrame(schema=_MERGES_SCHEMA))

    @property
    def counts(self) -> dict[str, int]:
        """Rows by verdict, every verdict present."""
        found = dict(self.rows["verdict"].value_counts().iter_rows())
        return {verdict.value: int(found.get(verdict.value, 0)) for verdict in Verdict}

    @property
    def digest(self) -> str:
        """SHA-256 over the outcome: equal digests mean that applying does the same to the same
        devices.
        """
        outcome = (
            self.rows.select(
                "row", "verdict", "device_id", "person_id", "name", "changes"
            ).write_csv()
            + self.merges.write_csv()
        )
        return hashlib.sha256(outcome.encode()).hexdigest()
