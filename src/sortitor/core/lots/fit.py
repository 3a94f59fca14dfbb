"""What a column means, by its title and by what stands in it."""

from __future__ import annotations

from collections.abc import Mapping

import polars as pl

from sortitor.core import columns
from sortitor.core.dates import is_date
from sortitor.core.identifiers import CHECKS
from sortitor.core.lots.fields import DATES, ownership_of, platform_of
from sortitor.core.lots.numbers import counts_rows
from sortitor.core.manifests import EXTRA_CELLS, Manifest
from sortitor.core.manifests.shape import Remark
from sortitor.core.vocabulary import IdentifierKind

#: So many cells tell what a column is.
_SAMPLE = 300
#: Kinds whose numbers prove themselves: a column full of them needs no title.
_PROVEN = (IdentifierKind.IMEI, IdentifierKind.EID)
_BY_SIGHT = (
    IdentifierKind.UUID,
    IdentifierKind.MAC,
    IdentifierKind.EID,
    IdentifierKind.IMEI,
    IdentifierKind.MEID,
)
_ENOUGH = 0.8


def meaning_of(
    manifest: Manifest,
    given: Mapping[str, str] | None = None,
    known: Mapping[str, str] | None = None,
) -> tuple[dict[str, str], list[Remark]]:
    """Header → column, and what is to be said of the choice.

    given: column → header, as the user said it
    known: header → column, as the supplier's last file taught; "" for a plain detail
    """
    cells = _Cells(manifest.cells)
    if given:
        meaning = columns.understand(manifest.headers, given, cells.fit)
    else:
        meaning = columns.recall(manifest.headers, known or {}, cells.fit)
    settled = {*(given or {}).values(), *(known or {})}
    found = _without_counters(meaning, cells, settled)
    seen = _by_sight(manifest, found, cells, settled)
    remarks = [Remark("column_by_content", header, column) for header, column in seen.items()]
    remarks += [Remark("column_counts", header) for header in meaning if header not in found]
    return {**found, **seen}, remarks + _rivals(manifest, {**found, **seen})


class _Cells:
    """Samples of the columns, and how well they fit a meaning."""

    def __init__(self, cells: pl.DataFrame) -> None:
        self._cells = cells
        self._samples: dict[str, pl.Series] = {}

    def sample(self, header: str) -> pl.Series:
        if header not in self._samples:
            filled = self._cells[header].drop_nulls()
            filled = filled.head(_SAMPLE * 4).filter(filled.head(_SAMPLE * 4).str.contains(r"\S"))
            self._samples[header] = filled.head(_SAMPLE)
        return self._samples[header]

    def fit(self, header: str, column: str) -> float:
        """The share of the cells that fit: 0 where the column is empty."""
        cells = self.sample(header)
        if not cells.len():
            return 0.0
        if column in columns.IDENTIFIER_COLUMNS:
            return self._as_numbers(cells, IdentifierKind(column))
        if column == "platform":
            return sum(platform_of(text) is not None for text in cells) / cells.len()
        if column == "ownership":
            return sum(ownership_of(text) is not None for text in cells) / cells.len()
        if column in DATES:
            return sum(is_date(text) for text in cells) / cells.len()
        return 1.0

    def _as_numbers(self, cells: pl.Series, kind: IdentifierKind) -> float:
        fits = _share(CHECKS[kind](cells)["value"].is_not_null())
        if kind is IdentifierKind.SERIAL:
            fits *= _share(cells.str.contains(r"\d"))
            return 0.05 if counts_rows(cells) else max(fits, 0.1)
        if kind is IdentifierKind.MEID:
            # An IMEI has the form of a MEID, too.
            fits *= _share(cells.str.contains(r"[A-Fa-f]|^\d{18}$"))
        # A column of broken numbers is still the column of these numbers.
        return max(fits, 0.1)


def _share(flags: pl.Series) -> float:
    """How much of the cells it holds for."""
    return int(flags.sum()) / max(flags.len(), 1)


def _without_counters(
    meaning: Mapping[str, str], cells: _Cells, settled: set[str]
) -> dict[str, str]:
    """A column that only counts the rows is no column of serial numbers, whatever its title is."""
    return {
        header: column
        for header, column in meaning.items()
        if column != "serial" or header in settled or not counts_rows(cells.sample(header))
    }


def _by_sight(
    manifest: Manifest, meaning: Mapping[str, str], cells: _Cells, settled: set[str]
) -> dict[str, str]:
    """Columns whose title says nothing, but whose numbers prove what they are; in a file without
    headers, every column that shows what it is.
    """
    found: dict[str, str] = {}
    for header, column in meaning.items():
        # Some call every number a serial number.
        wrong = column == "serial" and header not in settled and "imei" not in meaning.values()
        if wrong and cells.sample(header).len() >= 2 and cells.fit(header, "imei") >= 0.95:
            found[header] = "imei"
    alone = [header for header in manifest.headers if header not in meaning]
    if len(manifest.headers) == 1 and alone and _serial_sense(cells.sample(alone[0])) >= 0.9:
        found[alone[0]] = "serial"
    headerless = manifest.header_row == 0 and manifest.layout != "paste"
    kinds = _BY_SIGHT if headerless else _PROVEN
    for header in manifest.headers:
        if header in {*meaning, *found} or header in settled or header == EXTRA_CELLS:
            continue
        sample = cells.sample(header)
        if sample.len() < (1 if headerless else 3):
            continue
        for kind in kinds:
            taken = kind.value in {*meaning.values(), *found.values()}
            if taken and (kind is not IdentifierKind.IMEI or not headerless):
                continue
            if cells.fit(header, kind.value) >= (_ENOUGH if headerless else 0.95):
                found[header] = kind.value
                break
    if headerless:
        found |= _other_by_sight(manifest, {**meaning, **found}, cells)
    return found


def _other_by_sight(
    manifest: Manifest, meaning: Mapping[str, str], cells: _Cells
) -> dict[str, str]:
    found: dict[str, str] = {}
    for column, enough in (("platform", _ENOUGH), ("ownership", _ENOUGH)):
        for header in manifest.headers:
            free = header not in meaning and header not in found and column not in meaning.values()
            if free and cells.fit(header, column) >= enough:
                found[header] = column
                break
    if "serial" not in meaning.values():
        offers = [
            (header, _serial_sense(cells.sample(header)))
            for header in manifest.headers
            if header not in meaning and header not in found
        ]
        best = max(offers, key=lambda offer: offer[1], default=("", 0.0))
        if best[1] >= 0.9:
            found[best[0]] = "serial"
    return found


def _serial_sense(cells: pl.Series) -> float:
    """How much a column without a title looks like serial numbers: unique, with letters and digits
    or long.
    """
    if not cells.len() or counts_rows(cells):
        return 0.0
    like = cells.str.contains(r"^[A-Za-z0-9][A-Za-z0-9\-/]{5,63}$") & cells.str.contains(r"\d.*\d")
    dates = cells.str.contains(r"^\d{1,4}[./-]\d{1,2}[./-]\d{1,4}$")
    return _share(like & ~dates) * cells.n_unique() / cells.len()


def _rivals(manifest: Manifest, meaning: Mapping[str, str]) -> list[Remark]:
    """Columns whose titles spoke for a meaning that another column has."""
    by_column = {column: header for header, column in meaning.items()}
    remarks = []
    for header in manifest.headers:
        if header in meaning or manifest.cells[header].null_count() == manifest.cells.height:
            continue
        rivals = [column for column, much in columns.meanings(header).items() if much >= 2]
        if rivals and rivals[0] in by_column:
            remarks.append(Remark("column_beaten", header, f"{rivals[0]}: {by_column[rivals[0]]}"))
    return remarks
